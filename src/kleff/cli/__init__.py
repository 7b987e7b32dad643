"""The command line: parse, call, render."""
