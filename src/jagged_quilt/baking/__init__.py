"""A blend over a whole surface, in blocks, on threads."""
