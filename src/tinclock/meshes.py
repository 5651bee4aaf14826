"""Levels, characters and clips from glTF and OBJ files, and rigs fitted to them."""

from tinclock._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
