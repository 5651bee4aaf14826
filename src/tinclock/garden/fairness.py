"""Fairness of a match to shooters and to victims, where the truth about screens is known."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, NamedTuple

import msgspec
import numpy as np

from tinclock.core.timeline.views import View

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from tinclock.core.referee import Referee
    from tinclock.core.ruling.records import Ruling

LOOK_BACK_S = 0.5
"""For so long before a hit reached its victim's screen it is asked whether the shooter could be seen there."""
GONE = frozenset({"repeated_sequence", "unknown_connection"})


class Screen(NamedTuple):
    """Target of a shooter's crosshair when it fired, by its own client's code; victim 0: nobody."""

    victim: int
    part: str


class Viewer(msgspec.Struct, frozen=True):
    """Delay between one player's screen and the server.

    trail_s : how long the server's body is behind the one on its own screen
    shown_s : how old what it sees of the others is
    down_s : how long the server's word takes to it
    """

    entity: int
    quality: str
    honest: bool
    trail_s: float
    shown_s: float
    down_s: float


class Accepted(NamedTuple):
    """Results of honest shots.

    hits : of them that were hits on screen; inside : of those with a view inside the cap; accepted, accepted_inside :
    how many of these were accepted on the same player and part
    counted : hits on screen that hit the same player at all, accepted or adjusted
    elsewhere : accepted ones on another player or part, which must be none
    lost : hits on screen that were not accepted, by the first finding
    misses : shots that missed on screen; misses_hit : of them that hit
    """

    hits: int
    counted: int
    accepted: int
    inside: int
    accepted_inside: int
    elsewhere: int
    lost: dict[str, int]
    misses: int
    misses_hit: int


class Covered(NamedTuple):
    """Return the delay of each hit after its victim had reached cover on its own screen; 0: still in sight.

    Hits through what never let the two see each other (hedges, glass at an angle) are only counted, as `unseen`.
    """

    seconds: tuple[float, ...]
    unseen: int

    def at(self, share: float) -> float:
        """The time that a share of the hits doesn't exceed; nan for no hits."""
        return float(np.quantile(self.seconds, share)) if self.seconds else float("nan")


def accepted_hits(
    rulings: Iterable[Ruling],
    screens: Mapping[tuple[str, int], Screen],
    viewers: Mapping[str, Viewer],
    ignored: frozenset[str] = frozenset(),
) -> dict[str, Accepted]:
    """Return the results of a match's honest shots, by quality of the connection, and all together under "all".

    screens : by connection and sequence; viewers : by connection; ignored : findings after which a shot isn't counted
    """
    counts: dict[str, Counter[str]] = {}
    lost: dict[str, Counter[str]] = {}
    for ruling in rulings:
        screen, viewer = screens.get((ruling.connection, ruling.sequence)), viewers.get(ruling.connection)
        if screen is None or viewer is None or not viewer.honest or ruling.kind != "shot":
            continue
        codes = [finding.code for finding in ruling.findings]
        if (GONE | ignored).intersection(codes):
            continue
        for name in (viewer.quality, "all"):
            _count(ruling, screen, codes, counts.setdefault(name, Counter()), lost.setdefault(name, Counter()))
    return {
        name: Accepted(
            row["hits"], row["counted"], row["accepted"], row["inside"], row["accepted_inside"], row["elsewhere"],
            dict(sorted(lost[name].items())), row["misses"], row["misses_hit"],
        )
        for name, row in sorted(counts.items(), key=lambda item: (item[0] == "all", item[0]))
    }  # fmt: skip


def _count(ruling: Ruling, screen: Screen, codes: list[str], row: Counter[str], lost: Counter[str]) -> None:
    if not screen.victim:
        row["misses"] += 1
        row["misses_hit"] += bool(ruling.hits)
        return
    inside = "over_rewind_limit" not in codes
    row["hits"] += 1
    row["inside"] += inside
    stop = ruling.stopped_by
    # a team-mate, say: met, and nothing to hurt
    met = stop is not None and stop.kind == "body" and stop.entity == screen.victim
    row["counted"] += ruling.outcome != "rejected" and (met or any(hit.victim == screen.victim for hit in ruling.hits))
    if ruling.outcome != "accepted":
        lost[codes[0]] += 1
    elif (met and not ruling.hits) or any((hit.victim, hit.part) == screen for hit in ruling.hits):
        row["accepted"] += 1
        row["accepted_inside"] += inside
    else:
        row["elsewhere"] += 1


class CoverWatch:
    """Finds out how long victims had been out of their shooters' sight, on their own screens, while a match is ruled.

    On a victim's screen its own body is ahead of the server's, and the shooter's behind it. So what its screen showed
    at server time t was its body of t + trail and the shooter's of t - shown; a hit at t comes there at t + down. Call
    `hit` for each ruling and `look` after each tick; `covered` is the answer.
    """

    def __init__(self, viewers: Mapping[int, Viewer]) -> None:
        self._viewers = viewers
        self._waiting: list[tuple[float, int, int]] = []
        self._seconds: dict[str, list[float]] = {}
        self._unseen: Counter[str] = Counter()

    def hit(self, ruling: Ruling) -> None:
        """Take a ruling in."""
        for victim in {hit.victim for hit in ruling.hits}:
            viewer = self._viewers.get(victim)
            if viewer is not None and ruling.kind == "shot" and ruling.entity in self._viewers:
                self._waiting.append((ruling.received_at + viewer.down_s, ruling.entity, victim))

    def look(self, referee: Referee) -> None:
        """Look at what can be known by now."""
        now = referee.history.newest_time
        due = [item for item in self._waiting if item[0] + self._viewers[item[2]].trail_s <= now]
        if due:
            self._waiting = [item for item in self._waiting if item not in due]
        for at, shooter, victim in due:
            self._judge(referee, at, shooter, victim)

    def covered(self) -> dict[str, Covered]:
        """By the quality of the victim's connection, and all together under "all"."""
        everybody = tuple(second for seconds in self._seconds.values() for second in seconds)
        rows = {
            quality: Covered(tuple(self._seconds.get(quality, ())), self._unseen[quality])
            for quality in sorted({*self._seconds, *self._unseen})
        }
        return {**rows, "all": Covered(everybody, sum(self._unseen.values()))}

    def _judge(self, referee: Referee, at: float, shooter: int, victim: int) -> None:
        viewer, step = self._viewers[victim], 1.0 / referee.rules.match.tick_rate_hz
        looked = False
        for back in range(int(LOOK_BACK_S / step)):
            seen = _in_sight(referee, viewer, at - back * step, shooter, victim)
            if seen:
                self._seconds.setdefault(viewer.quality, []).append(back * step)
                return
            looked = looked or seen is not None
        self._unseen[viewer.quality] += looked


def _in_sight(referee: Referee, viewer: Viewer, at: float, shooter: int, victim: int) -> bool | None:
    """Return if a victim's screen showed the two in each other's sight at a server time; None if unknown."""
    history, level = referee.history, referee.level
    if level is None:
        return True
    theirs, own = _tick_near(referee, at - viewer.shown_s), _tick_near(referee, at + viewer.trail_s)
    if theirs is None or own is None:
        return None
    eye = history.eye_in(shooter, history.slot_of(theirs))
    boxes = history.hitboxes_at(victim, View(own, own, 0.0))
    if eye is None or boxes is None:
        return None
    to = boxes.centres - eye
    apart = np.maximum(np.linalg.norm(to, axis=1), 1e-9)
    met = level.first_many(np.tile(eye, (len(to), 1)), to / apart[:, None], apart)
    kinds = np.where(met.face >= 0, level.kinds[met.face], 0)
    blocking = np.array([surface.blocks_sight for surface in level.surfaces])
    return bool(((met.face < 0) | ~blocking[kinds]).any())


def _tick_near(referee: Referee, server_time: float) -> int | None:
    history = referee.history
    times, _, ticks = history.ticks()
    place = int(np.searchsorted(times, server_time, side="right")) - 1
    return int(ticks[place]) if place >= 0 else None
