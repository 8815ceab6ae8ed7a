"""The command line: one thin module per command, each calling the core and printing the results."""
