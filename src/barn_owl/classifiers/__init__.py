"""Kinds of classifiers, one module each: network or rows, fitting, state; see `kind`."""
