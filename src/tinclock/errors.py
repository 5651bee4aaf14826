"""Every exception that Tin Clock raises at programmers, as one tree; clients never cause one."""

from tinclock._public import attach

__getattr__, __dir__, __all__ = attach(__name__, __file__)
