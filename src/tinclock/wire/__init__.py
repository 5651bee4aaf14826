"""The gateway with clients: messages, bundles of rules, the flood guard."""

from tinclock._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
