"""The command line: a file a command, thin; each calls the core and says what came of it."""
