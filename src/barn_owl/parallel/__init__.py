"""The same work on many things at a time: in processes of this machine, or on a cluster."""

from barn_owl.parallel.engine import Engine, at_a_time, each, engine, on_cluster

__all__ = ["Engine", "at_a_time", "each", "engine", "on_cluster"]
