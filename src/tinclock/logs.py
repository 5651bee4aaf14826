"""Matches that another server logged: reading its files, and ruling them."""

from tinclock._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
