"""A night at Saltmarsh Quay: a made-up harbour, synthesised from a seed, to try everything on."""

from barn_owl.demo.scenario import Quay, write_quay

__all__ = ["Quay", "write_quay"]
