"""Parallel work: in local processes or threads, or on a cluster."""

from barn_owl.parallel.engine import Engine, at_a_time, each, engine, on_cluster

__all__ = ["Engine", "at_a_time", "each", "engine", "on_cluster"]
