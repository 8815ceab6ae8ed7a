"""Kinds of classifiers, a module each: what one is, how it learns, how it is kept; see `kind`."""
