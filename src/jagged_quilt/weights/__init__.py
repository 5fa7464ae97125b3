"""How much of each layer shows where: stacking, weight maps, adopted weights, medleys, daubs."""
