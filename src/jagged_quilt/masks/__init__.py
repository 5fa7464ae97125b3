"""Where something is, 0..1 at any point: masks of many kinds, how they are shaped and combined."""
