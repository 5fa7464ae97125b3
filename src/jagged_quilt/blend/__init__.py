"""The per-texel maths: layers, projections, sampling, height-aware weights, normals."""
