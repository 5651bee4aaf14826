"""Recordings: writing them beside a match, reading them, ruling them again, asking why."""

from tinclock._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
