"""The steps of a trace: every measurement that a ruling may hold, with its words, its unit and its limit's sense."""

from __future__ import annotations

from typing import TYPE_CHECKING, Final, Literal

from msgspec import Struct

from tinclock.core.text import amount

if TYPE_CHECKING:
    from collections.abc import Mapping

StepVerdict = Literal["ok", "flag", "adjust", "reject"]

EARLY: Final = "may be early by"
"""The sense of a limit that is kept as a negative number."""
_MARKS: Final = {"ok": " ", "flag": "~", "adjust": "*", "reject": "x"}


class CheckResult(Struct, frozen=True, gc=False):
    """One step of a ruling: what was measured, against which limit, and what came of it."""

    name: str
    observed: float | str | None
    limit: float | str | None = None
    unit: str = ""
    verdict: StepVerdict = "ok"

    def explain(self, names: Mapping[int, str] | None = None) -> str:
        """One line: mark, what, measured, limit. names : what to call entities"""
        measure = _BY_NAME.get(self.name)
        says, sense = (self.name, "limit") if measure is None else (measure.says, measure.sense)
        bound = -self.limit if sense == EARLY and isinstance(self.limit, float) else self.limit
        limit = "" if bound is None else f"({sense} {amount(bound, self.unit, names)})"
        return f"{_MARKS[self.verdict]} {says:<35} {amount(self.observed, self.unit, names):<27} {limit}".rstrip()


class MeasureKind:
    """Kind of measurement: its name in recordings, its words, the sense of its limit, and its unit.

    sense : "at most", "at least", "must be", or what the second value is where it is no limit
    """

    __slots__ = ("name", "says", "sense", "unit")

    def __init__(self, name: str, says: str, sense: str, unit: str = "") -> None:
        self.name, self.says, self.sense, self.unit = name, says, sense, unit

    def step(
        self,
        observed: float | str | None,
        limit: float | str | None = None,
        verdict: StepVerdict = "ok",
        unit: str | None = None,
    ) -> CheckResult:
        """A step that measured this; `unit` only where it differs from case to case."""
        return CheckResult(self.name, observed, limit, self.unit if unit is None else unit, verdict)


class Measure:
    """Every kind of check result: `Measure.FIRE_RATE.step(waited, -allowance)` makes one."""

    SENDER = MeasureKind("sender", "acts as", "is", "entity")
    FIELDS = MeasureKind("fields", "the claim is", "must be")
    FORM = MeasureKind("form", "length of the direction", "must be")
    SEQUENCE = MeasureKind("sequence", "sequence number", "next is")
    ACTOR = MeasureKind("actor", "the actor is", "must be")
    PHASE = MeasureKind("phase", "the phase allows", "must be")
    PRICE = MeasureKind("price", "counter", "price")
    CONDITION = MeasureKind("condition", "counter", "at least")
    BLOCKED_BY = MeasureKind("blocked by", "blocked by the effect", "")
    DEAD_FOR = MeasureKind("dead for", "the actor has been dead for", "trade window", "s")
    SEEN_BEFORE_ITS_DEATH_BY = MeasureKind(
        "seen before its death by", "the view is before its death by", "at least", "s"
    )
    CONTROL_LOST = MeasureKind("control lost", "the view is before control was lost by", "at least", "s")
    CONTROL_GAINED = MeasureKind("control gained", "the view is before control was gained by", "at most", "s")
    KIND_OF_WEAPON = MeasureKind("kind of weapon", "weapon type", "must be")
    STILL_TO_DRAW_FOR = MeasureKind("still to draw for", "time until drawn", "at most", "s")
    STILL_TO_RELOAD_FOR = MeasureKind("still to reload for", "time until reloaded", "at most", "s")
    MAGAZINE = MeasureKind("magazine", "in the magazine", "at least", "shots")
    CHARGE = MeasureKind("charge", "charge", "at least")
    SPREAD = MeasureKind("spread", "spread around the aim, half angle", "", "rad")
    AIM_OFF_THE_BODYS_FACING = MeasureKind(
        "aim off the body's facing", "angle between aim and facing", "at most", "deg"
    )
    IN_REACH = MeasureKind("in reach", "in reach", "part", "entity")
    NOBODY_REACHED_WITHIN = MeasureKind("nobody reached within", "the melee attack reached nobody within", "", "m")
    NOBODY_HIT_WITHIN = MeasureKind("nobody hit within", "the shot hit nobody within", "", "m")
    MELEE_STOPPED_BY = MeasureKind("melee attack stopped by", "something solid is in between", "")
    VICTIMS_BACK = MeasureKind("victim's back", "the victim's back", "must be")
    LAUNCHED = MeasureKind("launched", "launched", "compensation")
    FLOWN_FOR = MeasureKind("flown for", "had flown for", "", "s")
    PROJECTILE_ENDS = MeasureKind("projectile ends", "the projectile ends:", "")
    LEVEL_MET = MeasureKind("level met", "met the level", "")
    BOUNCED = MeasureKind("bounced", "bounced off the level", "", "times")
    BODY_MET = MeasureKind("body met", "met", "part", "entity")
    DAMAGE_APPLIED = MeasureKind("damage applied", "damage applied", "at most", "s")
    IN_THE_SPLASH = MeasureKind("in the splash", "in the splash", "distance to its middle", "entity")
    SEEN_FROM_THE_BURST = MeasureKind("seen from the burst", "fraction of it in sight", "of")
    SET_OFF = MeasureKind("set off", "sets off projectile", "by")
    PROJECTILE = MeasureKind("projectile", "projectile", "issued")
    PROJECTILE_ENDED_AT = MeasureKind("projectile ended at", "the projectile ended at", "claimed at", "s")
    IMPACT_OF_THE_SERVERS_OWN = MeasureKind("impact of the server's own", "impact of the server's own", "claimed")
    CLAIM_OFF_ITS_WAY_BY = MeasureKind("claim off its way by", "claimed position is off the path by", "at most", "m")
    IMPACT_AHEAD_OF_THE_POSES_BY = MeasureKind(
        "impact ahead of the poses by", "impact is ahead of the poses by", "", "s"
    )
    IMPACT_OFF_IN_TIME_BY = MeasureKind("impact off in time by", "impact off in time by", "at most", "s")
    IMPACT_OFF_IN_PLACE_BY = MeasureKind("impact off in place by", "impact off in place by", "at most", "m")
    ITEM = MeasureKind("item", "item", "")
    ITEMS_LEFT = MeasureKind("items left", "left of it", "at least")
    ITEM_COOLS_FOR = MeasureKind("item cools for", "ready again in", "at most", "s")
    TARGET = MeasureKind("target", "target at", "at most", "m")
    EFFECT = MeasureKind("effect", "effect", "of")
    HANDLING = MeasureKind("handling", "does", "but")
    TRIGGER = MeasureKind("trigger", "trigger", "")
    BEHIND_THE_SERVERS_CLOCK_BY = MeasureKind(
        "behind the server's clock by", "behind the server's clock by", "at most", "s"
    )
    MOVE = MeasureKind("move", "moves are", "")
    PUSH = MeasureKind("push", "length of the input", "at most")
    TIME_SINCE_THE_LAST_REPORT = MeasureKind("time since the last report", "time since the last report", "at most", "s")
    PREDICTION = MeasureKind("prediction", "predicted position is off by", "at most", "m")
    GAME = MeasureKind("game", "the game's own check finds", "")
    LEAP = MeasureKind("leap", "distance from the last position", "at most", "m")
    WAY_OVER_GROUND = MeasureKind("way over ground", "way over ground", "at most", "m")
    WAY_UPRIGHT = MeasureKind("way upright", "way up or down", "at most", "m")
    CHANGE_OF_VELOCITY = MeasureKind("change of velocity", "change of velocity", "at most", "m/s")
    HEIGHT = MeasureKind("height", "height gained", "at most", "m")
    WALL_ON_THE_WAY = MeasureKind("wall on the way", "first wall on the way", "of", "m")
    DISTANCE_FROM_VEHICLE = MeasureKind("distance from vehicle", "distance from the vehicle's middle", "at most", "m")
    ACCEPTED_WAY = MeasureKind("accepted way", "way that was accepted", "", "m")
    REPORTED_HEALTH = MeasureKind("reported health", "the client reports a health of", "nearest lately", "points")
    HEALTH_ON_ITS_SCREEN = MeasureKind(
        "health on its screen", "the client reports a health of", "nearest since its screen", "points"
    )
    REPORTED_ARMOUR = MeasureKind("reported armour", "the client reports an armour of", "nearest lately", "points")
    REPORTED_AMMUNITION = MeasureKind("reported ammunition", "the client reports rounds", "nearest possible", "shots")
    REPORTED_POSITION_OFF_BY = MeasureKind(
        "reported position off by", "the reported position is off by", "at most", "m"
    )
    WEAPON = MeasureKind("weapon", "weapon", "holds")
    FIRE_RATE = MeasureKind("fire rate", "since the weapon was ready again", EARLY, "s")
    VIEW = MeasureKind("view", "age of the view", "at most", "s")
    SNAPSHOT_SENT_AFTER_ADMISSION = MeasureKind(
        "snapshot sent after admission", "its snapshot was sent after admission by", "at least", "s"
    )
    DISPLAY_DELAY = MeasureKind("display delay", "display delay differs by", "at most", "s")
    EXPLAINED = MeasureKind("explained", "age of the view on arrival", "nearest allowed", "s")
    DISPLAY_DELAY_UNREPORTED = MeasureKind("display delay unreported", "no message reports the display delay", "")
    RESTARTS = MeasureKind("restarts", "restarts of the client's clock", "at most", "times")
    NAMED_VIEW = MeasureKind("named view", "at the claimed view it meets", "part", "entity")
    CLOCK_MISMATCH = MeasureKind(
        "clock mismatch", "minimum uplink delays by pongs and by claims differ by", "at most", "s"
    )
    VIEW_ORDER = MeasureKind("view order", "view older than an earlier one by", "at most", "s")
    NEWEST_SNAPSHOT = MeasureKind("newest snapshot", "newest snapshot of the view", "newest recorded")
    SINCE_THE_SNAPSHOT_WAS_SENT = MeasureKind(
        "since the snapshot was sent", "since the snapshot was sent", "at least", "s"
    )
    MUZZLE_WALL = MeasureKind("muzzle wall", "first wall from the eye at", "clear for", "m")
    COVER = MeasureKind("cover", "stopped at", "by", "m")
    COVER_MET = MeasureKind("cover met", "met", "")
    PASSED = MeasureKind("passed", "passed through", "of", "m")
    MUZZLE = MeasureKind("muzzle", "shot starts from the eye at", "at most", "m")
    LEVEL = MeasureKind("level", "stopped by the level at", "surface", "m")
    REWIND = MeasureKind("rewind", "hit at the view", "part", "entity")
    VICTIM = MeasureKind("victim", "state of the victim", "")
    DAMAGE = MeasureKind("damage", "damage by the server's table", "", "points")
    CLAIMED_DAMAGE = MeasureKind("claimed damage", "claimed damage", "weapon's maximum", "points")
    CLAIMED_VICTIM = MeasureKind("claimed victim", "claimed victim", "found", "entity")
    CLAIMED_PART = MeasureKind("claimed part", "claimed part", "found")
    NUMBER_OF_THE_SHOT = MeasureKind("number of the shot", "number of the shot", "next is")


_BY_NAME: Final = {kind.name: kind for kind in vars(Measure).values() if isinstance(kind, MeasureKind)}
