"""Client side in Python: projectile paths, spread and the published state, as the server computes them."""

from tinclock._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
