"""All that makes Points: terrains and cameras."""
