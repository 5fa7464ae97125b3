"""How much of each layer shows where: masks, stacking, weight maps."""
