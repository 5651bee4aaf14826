"""Claims: messages in which a client reports an action; the referee rules on them."""

from tinclock._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
