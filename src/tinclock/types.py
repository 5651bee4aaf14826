"""The small types that calls take and give back: events, commands, what was hit, what a client is told."""

from tinclock._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
