"""The command line: a module for each group of commands."""
