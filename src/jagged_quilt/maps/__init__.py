"""One texture map and its role; a swatch, the maps of one material; reading and writing image files."""
