"""Names of the splits, for options of commands: without loading settings."""

SPLITS = ("train", "validation", "test")
