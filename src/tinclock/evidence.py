"""Evidence: weighing accounts while a match goes on or from recordings, cases, decisions, the chained log."""

from tinclock._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
