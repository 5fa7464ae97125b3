"""The command line: one file per command, no maths."""
