"""Rules for a client build: see `core.rules.bundle`, which the rules of a running match need too."""

from __future__ import annotations

from tinclock.core.rules.bundle import Bundle, client_bundle, differences

__all__ = ["Bundle", "client_bundle", "differences"]
