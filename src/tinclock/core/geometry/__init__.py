"""Shapes, rigs, the level and the kernels that cast rays against them."""
