"""Tin Clock: server-side rulings for multiplayer combat.

Records where every hitbox was, rewinds it to the instant a shooter was looking at, checks the claim there, applies
the server's own numbers, and says why. The public names load on first use, so that importing this costs little.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

__version__ = "0.2.0.dev0"

_HOME = {
    "AlreadyKnownError": "core.errors",
    "BadArrayError": "core.errors",
    "BadNameError": "core.errors",
    "BadNumberError": "core.errors",
    "CaseStore": "store.cases",
    "ClockEstimate": "core.timeline.clock",
    "Drawing": "core.timeline.views",
    "Event": "core.records",
    "EvidenceError": "core.errors",
    "EvidenceLog": "store.evidence_log",
    "Finding": "core.records",
    "Flight": "core.combat.flight",
    "HandleClaim": "core.claims",
    "Hit": "core.records",
    "ImpactClaim": "core.claims",
    "InFlight": "core.combat.published",
    "LaunchClaim": "core.claims",
    "Level": "core.geometry.level",
    "LogError": "core.errors",
    "MatchWatch": "core.evidence.watch",
    "MeshError": "core.errors",
    "MissingExtraError": "core.errors",
    "Motion": "core.motion",
    "MoveClaim": "core.claims",
    "OutOfHistoryError": "core.errors",
    "PartHit": "core.timeline.history",
    "PartHits": "core.timeline.history",
    "PoseHistory": "core.timeline.history",
    "Reached": "core.timeline.bodies",
    "Receipt": "core.records",
    "Recorder": "store.recorder",
    "Recording": "store.recording",
    "RecordingError": "core.errors",
    "Referee": "core.referee",
    "ReviewDesk": "store.review",
    "Rig": "core.geometry.rig",
    "Rules": "core.rules",
    "RulesError": "core.errors",
    "Ruling": "core.records",
    "Scatter": "core.combat.scatter",
    "ShotClaim": "core.claims",
    "State": "core.combat.published",
    "StatusClaim": "core.claims",
    "StrikeClaim": "core.claims",
    "Surface": "core.geometry.level",
    "BatchError": "core.errors",
    "TimeOrderError": "core.errors",
    "TinClockError": "core.errors",
    "Told": "core.records",
    "TriggerClaim": "core.claims",
    "UnknownNameError": "core.errors",
    "UseClaim": "core.claims",
    "View": "core.timeline.views",
    "Weighing": "core.evidence.course",
    "Welcome": "core.welcome",
    "cached_level": "intake.level_cache",
    "follow": "core.combat.published",
    "hitboxes_frame": "report.frames",
    "load_level": "intake.level_file",
    "load_rules": "intake.rules_file",
    "load_weights": "intake.weights_file",
    "oddities": "core.contradictions",
    "parse_rules": "intake.rules_file",
    "rooted_bones": "core.timeline.rooted",
    "rule_again": "store.again",
    "warm_up": "core.warming",
}

__all__ = [
    "AlreadyKnownError",
    "BadArrayError",
    "BadNameError",
    "BadNumberError",
    "BatchError",
    "CaseStore",
    "ClockEstimate",
    "Drawing",
    "Event",
    "EvidenceError",
    "EvidenceLog",
    "Finding",
    "Flight",
    "HandleClaim",
    "Hit",
    "ImpactClaim",
    "InFlight",
    "LaunchClaim",
    "Level",
    "LogError",
    "MatchWatch",
    "MeshError",
    "MissingExtraError",
    "Motion",
    "MoveClaim",
    "OutOfHistoryError",
    "PartHit",
    "PartHits",
    "PoseHistory",
    "Reached",
    "Receipt",
    "Recorder",
    "Recording",
    "RecordingError",
    "Referee",
    "ReviewDesk",
    "Rig",
    "Rules",
    "RulesError",
    "Ruling",
    "Scatter",
    "ShotClaim",
    "State",
    "StatusClaim",
    "StrikeClaim",
    "Surface",
    "TimeOrderError",
    "TinClockError",
    "Told",
    "TriggerClaim",
    "UnknownNameError",
    "UseClaim",
    "View",
    "Weighing",
    "Welcome",
    "cached_level",
    "follow",
    "hitboxes_frame",
    "load_level",
    "load_rules",
    "load_weights",
    "oddities",
    "parse_rules",
    "rooted_bones",
    "rule_again",
    "warm_up",
]

if TYPE_CHECKING:
    from tinclock.core.claims import (
        HandleClaim,
        ImpactClaim,
        LaunchClaim,
        MoveClaim,
        ShotClaim,
        StatusClaim,
        StrikeClaim,
        TriggerClaim,
        UseClaim,
    )
    from tinclock.core.combat.flight import Flight
    from tinclock.core.combat.published import InFlight, State, follow
    from tinclock.core.combat.scatter import Scatter
    from tinclock.core.contradictions import oddities
    from tinclock.core.errors import (
        AlreadyKnownError,
        BadArrayError,
        BadNameError,
        BadNumberError,
        BatchError,
        EvidenceError,
        LogError,
        MeshError,
        MissingExtraError,
        OutOfHistoryError,
        RecordingError,
        RulesError,
        TimeOrderError,
        TinClockError,
        UnknownNameError,
    )
    from tinclock.core.evidence.course import Weighing
    from tinclock.core.evidence.watch import MatchWatch
    from tinclock.core.geometry.level import Level, Surface
    from tinclock.core.geometry.rig import Rig
    from tinclock.core.motion import Motion
    from tinclock.core.records import Event, Finding, Hit, Receipt, Ruling, Told
    from tinclock.core.referee import Referee
    from tinclock.core.rules import Rules
    from tinclock.core.timeline.bodies import Reached
    from tinclock.core.timeline.clock import ClockEstimate
    from tinclock.core.timeline.history import PartHit, PartHits, PoseHistory
    from tinclock.core.timeline.rooted import rooted_bones
    from tinclock.core.timeline.views import Drawing, View
    from tinclock.core.warming import warm_up
    from tinclock.core.welcome import Welcome
    from tinclock.intake.level_cache import cached_level
    from tinclock.intake.level_file import load_level
    from tinclock.intake.rules_file import load_rules, parse_rules
    from tinclock.intake.weights_file import load_weights
    from tinclock.report.frames import hitboxes_frame
    from tinclock.store.again import rule_again
    from tinclock.store.cases import CaseStore
    from tinclock.store.evidence_log import EvidenceLog
    from tinclock.store.recorder import Recorder
    from tinclock.store.recording import Recording
    from tinclock.store.review import ReviewDesk


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
