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
    "CaseStore": "cases.store",
    "ClockEstimate": "core.timeline.clock",
    "Drawing": "core.timeline.views",
    "Event": "core.combat.events",
    "EvidenceError": "core.errors",
    "EvidenceLog": "cases.evidence_log",
    "Finding": "core.findings",
    "Flight": "core.combat.projectile_motion",
    "HandleClaim": "core.ruling.claims",
    "Hit": "core.ruling.records",
    "ImpactClaim": "core.ruling.claims",
    "InFlight": "core.combat.published",
    "LaunchClaim": "core.ruling.claims",
    "Level": "core.geometry.level",
    "LogError": "core.errors",
    "LiveEvidence": "core.evidence.live",
    "MeshError": "core.errors",
    "MissingExtraError": "core.errors",
    "Motion": "core.combat.motion",
    "MoveClaim": "core.ruling.claims",
    "OutOfHistoryError": "core.errors",
    "PartHit": "core.timeline.history",
    "PartHits": "core.timeline.history",
    "PoseHistory": "core.timeline.history",
    "Reached": "core.timeline.bodies",
    "Receipt": "core.combat.receipts",
    "Recorder": "recordings.recorder",
    "Recording": "recordings.recording",
    "RecordingError": "core.errors",
    "Referee": "core.referee",
    "CaseReview": "cases.review",
    "Rig": "core.geometry.rig",
    "Rules": "core.rules.ruleset",
    "RulesError": "core.errors",
    "Ruling": "core.ruling.records",
    "Scatter": "core.combat.scatter",
    "ShotClaim": "core.ruling.claims",
    "State": "core.combat.published",
    "StatusClaim": "core.ruling.claims",
    "StrikeClaim": "core.ruling.claims",
    "Surface": "core.geometry.level",
    "BatchError": "core.errors",
    "TimeOrderError": "core.errors",
    "TinClockError": "core.errors",
    "ActorState": "core.combat.receipts",
    "TriggerClaim": "core.ruling.claims",
    "UnknownNameError": "core.errors",
    "UseClaim": "core.ruling.claims",
    "View": "core.timeline.views",
    "Weighing": "core.evidence.course",
    "Welcome": "core.combat.welcome",
    "cached_level": "intake.level_cache",
    "follow": "core.combat.published",
    "hitboxes_frame": "report.frames",
    "load_level": "intake.level_file",
    "load_rules": "intake.rules_file",
    "load_weights": "intake.weights_file",
    "unusual_rules": "core.rules.contradictions",
    "parse_rules": "intake.rules_file",
    "rooted_bones": "core.timeline.rooted",
    "rule_again": "recordings.replay",
    "warm_up": "core.warming",
}

__all__ = [
    "ActorState",
    "AlreadyKnownError",
    "BadArrayError",
    "BadNameError",
    "BadNumberError",
    "BatchError",
    "CaseReview",
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
    "LiveEvidence",
    "LogError",
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
    "parse_rules",
    "rooted_bones",
    "rule_again",
    "unusual_rules",
    "warm_up",
]

if TYPE_CHECKING:
    from tinclock.cases.evidence_log import EvidenceLog
    from tinclock.cases.review import CaseReview
    from tinclock.cases.store import CaseStore
    from tinclock.core.combat.events import Event
    from tinclock.core.combat.motion import Motion
    from tinclock.core.combat.projectile_motion import Flight
    from tinclock.core.combat.published import InFlight, State, follow
    from tinclock.core.combat.receipts import ActorState, Receipt
    from tinclock.core.combat.scatter import Scatter
    from tinclock.core.combat.welcome import Welcome
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
    from tinclock.core.evidence.live import LiveEvidence
    from tinclock.core.findings import Finding
    from tinclock.core.geometry.level import Level, Surface
    from tinclock.core.geometry.rig import Rig
    from tinclock.core.referee import Referee
    from tinclock.core.rules.contradictions import unusual_rules
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.claims import (
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
    from tinclock.core.ruling.records import Hit, Ruling
    from tinclock.core.timeline.bodies import Reached
    from tinclock.core.timeline.clock import ClockEstimate
    from tinclock.core.timeline.history import PartHit, PartHits, PoseHistory
    from tinclock.core.timeline.rooted import rooted_bones
    from tinclock.core.timeline.views import Drawing, View
    from tinclock.core.warming import warm_up
    from tinclock.intake.level_cache import cached_level
    from tinclock.intake.level_file import load_level
    from tinclock.intake.rules_file import load_rules, parse_rules
    from tinclock.intake.weights_file import load_weights
    from tinclock.recordings.recorder import Recorder
    from tinclock.recordings.recording import Recording
    from tinclock.recordings.replay import rule_again
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
