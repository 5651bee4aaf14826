"""The garden: the demo scenario, whose rules, level and recorded match come with the package."""

from tinclock._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
