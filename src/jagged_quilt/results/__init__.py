"""Results: the steps of a quilt, what each needs, and the runner that redoes only what changed."""
