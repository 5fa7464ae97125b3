"""Quilt files: the TOML file that says all of a job, and the objects that it builds."""
