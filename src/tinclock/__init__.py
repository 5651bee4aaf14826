"""Tin Clock: server-side rulings for multiplayer combat.

Records where every hitbox was, rewinds it to the instant a shooter was looking at, checks the claim there, applies
the server's own numbers, and says why. The public names load on first use, so that importing this costs little.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

__version__ = "0.1.0"

_HOME = {
    "AlreadyKnownError": "core.errors",
    "BadArrayError": "core.errors",
    "BadNumberError": "core.errors",
    "ClockEstimate": "core.timeline.clock",
    "Drawing": "core.timeline.views",
    "Event": "core.records",
    "Finding": "core.records",
    "Hit": "core.records",
    "Level": "core.geometry.level",
    "MeshError": "core.errors",
    "MissingExtraError": "core.errors",
    "OutOfHistoryError": "core.errors",
    "PartHit": "core.timeline.history",
    "PartHits": "core.timeline.history",
    "PoseHistory": "core.timeline.history",
    "Receipt": "core.records",
    "Referee": "core.referee",
    "Rig": "core.geometry.rig",
    "Rules": "core.rules",
    "RulesError": "core.errors",
    "Ruling": "core.records",
    "ShotClaim": "core.records",
    "Surface": "core.geometry.level",
    "TimeOrderError": "core.errors",
    "TinClockError": "core.errors",
    "UnknownNameError": "core.errors",
    "View": "core.timeline.views",
    "cached_level": "intake.level_cache",
    "hitboxes_frame": "report.frames",
    "load_level": "intake.level_file",
    "load_rules": "intake.rules_file",
    "parse_rules": "intake.rules_file",
    "rooted_bones": "core.timeline.rooted",
}

__all__ = [
    "AlreadyKnownError",
    "BadArrayError",
    "BadNumberError",
    "ClockEstimate",
    "Drawing",
    "Event",
    "Finding",
    "Hit",
    "Level",
    "MeshError",
    "MissingExtraError",
    "OutOfHistoryError",
    "PartHit",
    "PartHits",
    "PoseHistory",
    "Receipt",
    "Referee",
    "Rig",
    "Rules",
    "RulesError",
    "Ruling",
    "ShotClaim",
    "Surface",
    "TimeOrderError",
    "TinClockError",
    "UnknownNameError",
    "View",
    "cached_level",
    "hitboxes_frame",
    "load_level",
    "load_rules",
    "parse_rules",
    "rooted_bones",
]

if TYPE_CHECKING:
    from tinclock.core.errors import (
        AlreadyKnownError,
        BadArrayError,
        BadNumberError,
        MeshError,
        MissingExtraError,
        OutOfHistoryError,
        RulesError,
        TimeOrderError,
        TinClockError,
        UnknownNameError,
    )
    from tinclock.core.geometry.level import Level, Surface
    from tinclock.core.geometry.rig import Rig
    from tinclock.core.records import Event, Finding, Hit, Receipt, Ruling, ShotClaim
    from tinclock.core.referee import Referee
    from tinclock.core.rules import Rules
    from tinclock.core.timeline.clock import ClockEstimate
    from tinclock.core.timeline.history import PartHit, PartHits, PoseHistory
    from tinclock.core.timeline.rooted import rooted_bones
    from tinclock.core.timeline.views import Drawing, View
    from tinclock.intake.level_cache import cached_level
    from tinclock.intake.level_file import load_level
    from tinclock.intake.rules_file import load_rules, parse_rules
    from tinclock.report.frames import hitboxes_frame


def __getattr__(name: str) -> object:
    home = _HOME.get(name)
    if home is None:
        raise AttributeError(f"module 'tinclock' has no attribute {name!r}")
    from importlib import import_module

    value = getattr(import_module(f"tinclock.{home}"), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])
