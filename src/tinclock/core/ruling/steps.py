"""The steps of a trace: every measurement that a ruling may hold, with its words, its unit and its limit's sense."""

from __future__ import annotations

from enum import StrEnum
from typing import Final, Literal

from msgspec import Struct

from tinclock.core.text import amount

StepVerdict = Literal["ok", "note", "amend", "deny"]

_MARKS: Final = {"ok": " ", "note": "~", "amend": "*", "deny": "x"}


class Step(Struct, frozen=True, gc=False):
    """One step of a ruling: what was measured, against which limit, and what came of it."""

    name: str
    observed: float | str | None
    limit: float | str | None = None
    unit: str = ""
    verdict: StepVerdict = "ok"

    def explain(self) -> str:
        """One line: mark, what, measured, limit."""
        measure = _BY_NAME.get(self.name)
        says, sense = (self.name, "limit") if measure is None else (measure.says, measure.sense)
        limit = "" if self.limit is None else f"({sense} {amount(self.limit, self.unit)})"
        return f"{_MARKS[self.verdict]} {says:<35} {amount(self.observed, self.unit):<27} {limit}".rstrip()


class Measure(StrEnum):
    """What a step may measure. Each has its name in recordings, what it says, its limit's sense, and its unit."""

    says: str
    sense: str
    """How the limit is meant: "at most", "at least", "must be", or what the second value is where it is no limit."""
    unit: str

    def __new__(cls, name: str, says: str, sense: str, unit: str = "") -> Measure:
        """A member is its name; the rest are its attributes."""
        member = str.__new__(cls, name)
        member._value_ = name
        member.says, member.sense, member.unit = says, sense, unit
        return member

    SENDER = "sender", "acts as", "is", "entity"
    FIELDS = "fields", "the claim is", "must be"
    FORM = "form", "length of the direction", "must be"
    SEQUENCE = "sequence", "sequence number", "next is"
    ACTOR = "actor", "the actor is", "must be"
    DEAD_FOR = "dead for", "the actor has been dead for", "trade window", "s"
    SEEN_BEFORE_ITS_DEATH_BY = "seen before its death by", "the view lies before its death by", "at least", "s"
    CONTROL_LOST = "control lost", "the view lies before control was lost", "at least", "s"
    CONTROL_GAINED = "control gained", "the view lies before control was gained", "at most", "s"
    KIND_OF_WEAPON = "kind of weapon", "kind of weapon", "must be"
    STILL_TO_DRAW_FOR = "still to draw for", "still to be drawn for", "at most", "s"
    STILL_TO_RELOAD_FOR = "still to reload for", "still to be reloaded for", "at most", "s"
    MAGAZINE = "magazine", "in the magazine", "at least", "shots"
    CHARGE = "charge", "charge", "at least"
    SPREAD = "spread", "spread around the aim, half angle", "", "rad"
    AIM_OFF_THE_BODYS_FACING = "aim off the body's facing", "aim lies off the body's facing by", "at most", "deg"
    IN_REACH = "in reach", "in reach", "part", "entity"
    NOBODY_REACHED_WITHIN = "nobody reached within", "the blow reached nobody within", "", "m"
    NOBODY_HIT_WITHIN = "nobody hit within", "the shot hit nobody within", "", "m"
    BLOW_STOPPED_BY = "blow stopped by", "something solid is in between", ""
    VICTIMS_BACK = "victim's back", "the victim's back", "must be"
    LAUNCHED = "launched", "launched", "compensation"
    FLOWN_FOR = "flown for", "had flown for", "", "s"
    FLIGHT_ENDS = "flight ends", "the flight ends:", ""
    LEVEL_MET = "level met", "met the level", ""
    BOUNCED = "bounced", "came off the level", "", "times"
    BODY_MET = "body met", "met", "part", "entity"
    HARM = "harm", "harm", "at most", "s"
    IN_THE_SPLASH = "in the splash", "in the splash", "off its middle by", "entity"
    SEEN_FROM_THE_BURST = "seen from the burst", "share of it that is in sight", "of"
    SET_OFF = "set off", "sets off projectile", "by"
    PROJECTILE = "projectile", "projectile", "issued so far"
    FLIGHT_WAS_OVER_AT = "flight was over at", "flight was over at", "claimed at", "s"
    IMPACT_OF_THE_SERVERS_OWN = "impact of the server's own", "impact of the server's own", "claimed"
    IMPACT_AHEAD_OF_THE_POSES_BY = "impact ahead of the poses by", "impact lies ahead of the poses by", "", "s"
    IMPACT_OFF_IN_TIME_BY = "impact off in time by", "impact off in time by", "at most", "s"
    IMPACT_OFF_IN_PLACE_BY = "impact off in place by", "impact off in place by", "at most", "m"
    ITEM = "item", "item", ""
    ITEMS_LEFT = "items left", "left of it", "at least"
    ITEM_COOLS_FOR = "item cools for", "ready again in", "at most", "s"
    TARGET = "target", "target at", "at most", "m"
    EFFECT = "effect", "effect", "of"
    HANDLING = "handling", "does", "but"
    TRIGGER = "trigger", "trigger", ""
    BEHIND_THE_SERVERS_CLOCK_BY = "behind the server's clock by", "behind the server's clock by", "at most", "s"
    MOVE = "move", "moves are", ""
    PUSH = "push", "length of the input", "at most"
    TIME_SINCE_THE_LAST_REPORT = "time since the last report", "time since the last report", "at most", "s"
    LEAP = "leap", "away from the last place", "at most", "m"
    WAY_OVER_GROUND = "way over ground", "way over ground", "at most", "m"
    WAY_UPRIGHT = "way upright", "way up or down", "at most", "m"
    CHANGE_OF_VELOCITY = "change of velocity", "change of velocity", "at most", "m/s"
    WALL_ON_THE_WAY = "wall on the way", "first wall on the way", "of", "m"
    ACCEPTED_WAY = "accepted way", "way that was accepted", "", "m"
    BELIEVED_HEALTH = "believed health", "believes in a health of", "nearest lately", "points"
    BELIEVED_ARMOUR = "believed armour", "believes in an armour of", "nearest lately", "points"
    BELIEVED_AMMUNITION = "believed ammunition", "believes in rounds", "nearest possible", "shots"
    BELIEVED_PLACE_OFF_BY = "believed place off by", "believes in a place off by", "at most", "m"
    WEAPON = "weapon", "weapon", "holds"
    CADENCE = "cadence", "weapon had been ready for", "at least", "s"
    VIEW = "view", "age of the view", "at most", "s"
    SNAPSHOT_SENT_AFTER_ADMISSION = (
        "snapshot sent after admission",
        "its snapshot was sent after admission by",
        "at least",
        "s",
    )
    VIEW_ORDER = "view order", "view lies before an earlier one by", "at most", "s"
    NEWEST_SNAPSHOT = "newest snapshot", "newest snapshot of the view", "newest recorded"
    SINCE_THE_SNAPSHOT_WAS_SENT = "since the snapshot was sent", "since the snapshot was sent", "at least", "s"
    MUZZLE_WALL = "muzzle wall", "first wall from the eye at", "clear for", "m"
    COVER = "cover", "stopped at", "by", "m"
    COVER_MET = "cover met", "met", ""
    PASSED = "passed", "passed through", "of", "m"
    MUZZLE = "muzzle", "shot starts from the eye at", "at most", "m"
    LEVEL = "level", "stopped by the level at", "surface", "m"
    REWIND = "rewind", "hit at the view", "part", "entity"
    VICTIM = "victim", "the victim is now", ""
    DAMAGE = "damage", "damage by the server's table", "", "points"
    CLAIMED_DAMAGE = "claimed damage", "claimed damage", "weapon's most", "points"
    CLAIMED_VICTIM = "claimed victim", "claimed victim", "found", "entity"
    CLAIMED_PART = "claimed part", "claimed part", "found"
    NUMBER_OF_THE_SHOT = "number of the shot", "number of the shot", "next is"

    def step(
        self,
        observed: float | str | None,
        limit: float | str | None = None,
        verdict: StepVerdict = "ok",
        unit: str | None = None,
    ) -> Step:
        """A step that measured this; `unit` only where it differs from case to case."""
        return Step(self._value_, observed, limit, self.unit if unit is None else unit, verdict)


_BY_NAME: Final = {measure.value: measure for measure in Measure}
