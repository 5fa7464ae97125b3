"""A made-up terraced saltworks: swatches, heightmap and quilt file, all from code."""
