"""The public names, each once. `tinclock._public` reads this file, so that a name loads what it needs on first use."""

from tinclock import claims as claims
from tinclock import client as client
from tinclock import errors as errors
from tinclock import evidence as evidence
from tinclock import logs as logs
from tinclock import meshes as meshes
from tinclock import recordings as recordings
from tinclock import sample as sample
from tinclock import testing as testing
from tinclock import types as types
from tinclock import wire as wire
from tinclock.core.combat.events import Event as Event
from tinclock.core.combat.first_contact import first_contact as first_contact
from tinclock.core.combat.receipts import Receipt as Receipt
from tinclock.core.combat.welcome import Welcome as Welcome
from tinclock.core.errors import TinClockError as TinClockError
from tinclock.core.findings import Finding as Finding
from tinclock.core.geometry.level import Level as Level
from tinclock.core.geometry.rig import Rig as Rig
from tinclock.core.referee import Referee as Referee
from tinclock.core.rules.contradictions import unusual_rules as unusual_rules
from tinclock.core.rules.ruleset import Rules as Rules
from tinclock.core.ruling.records import Hit as Hit
from tinclock.core.ruling.records import Ruling as Ruling
from tinclock.core.timeline.history import PoseHistory as PoseHistory
from tinclock.core.timeline.rooted import rooted_bones as rooted_bones
from tinclock.core.timeline.views import Interpolation as Interpolation
from tinclock.core.timeline.views import View as View
from tinclock.core.warming import warm_up as warm_up
from tinclock.intake.level_cache import cached_level as cached_level
from tinclock.intake.level_file import load_level as load_level
from tinclock.intake.rules_file import load_rules as load_rules
from tinclock.intake.rules_file import parse_rules as parse_rules
from tinclock.report.frames import hitboxes_frame as hitboxes_frame

__version__: str
