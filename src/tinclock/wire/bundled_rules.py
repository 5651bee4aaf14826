"""Rules for a client build: see `core.rules.client_rules`, which the rules of a running match need too."""

from __future__ import annotations

from tinclock.core.rules.client_rules import ClientRules, client_rules, differences

__all__ = ["ClientRules", "client_rules", "differences"]
