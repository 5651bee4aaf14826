"""Tin Clock: server-side rulings for multiplayer combat.

Records where every hitbox was, rewinds it to the instant a shooter was looking at, checks the claim there, applies
the server's own numbers, and says why. The public names load on first use, so that importing this costs little.
"""

from tinclock._public import attach

__version__ = "0.3.0.dev0"

__getattr__, __dir__, __all__ = attach(__name__, __file__)
