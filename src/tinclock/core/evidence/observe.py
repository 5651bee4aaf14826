"""Observations of shots and of players' eyes in a scene: the raw numbers that detectors test.

Everything here is measured from what the server itself holds: its poses at the views that it ruled on, its level, its
own spread. Of what a client says, only where it aimed and which view it drew are used.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from tinclock.core.combat.spread_stream import draws
from tinclock.core.evidence.measured import (
    aim_error,
    damage_done,
    explained_s,
    is_usable,
    marks_of,
    off_gaze,
    ready_for,
    ruled_elsewhere,
    strays_of,
)
from tinclock.core.evidence.sight import Sight

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from numpy.typing import NDArray

    from tinclock.core.evidence.measured import MeasuredLine
    from tinclock.core.evidence.scene import Party, Scene
    from tinclock.core.rules.ruleset import Rules
    from tinclock.core.ruling.records import Ruling

BACK_S, BACK_STEP_S = 0.75, 0.03
"""Time before a shot over which sight of a target is tested, and the steps of that test."""
PATH_S = 0.3
WIDE_RAD = 0.12
"""A shot that passes every enemy by more has no target."""
LOOK_EVERY_S = 0.25
EYE_RAD = 0.035
"""Angle within which a gaze is taken to be at a body."""
FAR_M = 45.0
SETTLED_S = 0.15
AIMED = ("shot", "melee", "launch")
LONGEST_HOLD_S = 0.06
"""A client that sends more seldom than this holds things back."""


class ShotTable(NamedTuple):
    """Ruled shots and blows, a row each; arrays are (n,) unless said otherwise.

    number, entity, target : int64; target 0: none was near
    time : float64, server time of arrival
    weapon, kind : names
    hit, head : whether an enemy was hit, and on a part of zone "head"
    damage : points done to enemies
    distance_m : to the target; cross_m_s : how fast it moved across the line of fire
    off_m : how far the aim passed from the nearest bone's origin
    visible : whether the target could be seen in the view; run_s : for how long that had been so, inf when it was
        always so as far as is known
    first : whether it is the first shot at this target since it came in sight
    late_s : age of the view beyond round trip and interpolation delay
    held_s : how long what its client says may have waited for the client's next message
    stray, error : (n, 2) float64, radians, left and up
        Where chance sent the shot, and the aim less the way to the target's middle; nan without spread.
    draw : (n, 2) float64 in [0, 1), what the shot's own number drew from its owner's stream; nan without spread
    widest_rad, flat : half angle of the spread that it was drawn from, nan without, and whether it only goes sideways
    skipped : whether its number wasn't the next one, so that the server drew it from another stream
    restless : whether its view strayed from the estimated display delay and wasn't ruled; named_hit : whether it would
        have hit an enemy there, and otherwise whether it did
    beyond_m : of a blow, how far the target's nearest bone lay beyond its reach; nan for others
    aside_m : how far the shot began from where its shooter's eye has been lately, level
    ready_s : how long the weapon had been ready to fire again; nan where that isn't known
    gaze_rad, mirrored_rad : how far the aim lies off where its body's eye looks, level, and off that mirrored
    turn_rad, since_s : how far its player had turned since its last shot, and how long ago that was
    """

    number: NDArray[np.int64]
    entity: NDArray[np.int64]
    target: NDArray[np.int64]
    time: NDArray[np.float64]
    weapon: list[str]
    kind: list[str]
    hit: NDArray[np.bool_]
    head: NDArray[np.bool_]
    damage: NDArray[np.float64]
    distance_m: NDArray[np.float64]
    cross_m_s: NDArray[np.float64]
    off_m: NDArray[np.float64]
    visible: NDArray[np.bool_]
    run_s: NDArray[np.float64]
    first: NDArray[np.bool_]
    late_s: NDArray[np.float64]
    held_s: NDArray[np.float64]
    stray: NDArray[np.float64]
    error: NDArray[np.float64]
    draw: NDArray[np.float64]
    widest_rad: NDArray[np.float64]
    flat: NDArray[np.bool_]
    skipped: NDArray[np.bool_]
    restless: NDArray[np.bool_]
    named_hit: NDArray[np.bool_]
    beyond_m: NDArray[np.float64]
    aside_m: NDArray[np.float64]
    ready_s: NDArray[np.float64]
    gaze_rad: NDArray[np.float64]
    mirrored_rad: NDArray[np.float64]
    turn_rad: NDArray[np.float64]
    since_s: NDArray[np.float64]

    def rows(self, chosen: NDArray[np.bool_]) -> ShotTable:
        """Some of them.

        chosen : (n,) bool, whether a row is wanted.
        """
        kept = chosen.tolist()
        columns: list[Any] = [
            [name for name, keep in zip(column, kept, strict=True) if keep]
            if isinstance(column, list)
            else column[chosen]
            for column in self
        ]
        return ShotTable(*columns)


class GazeSamples(NamedTuple):
    """GazeSamples of players, a few per second each; arrays (n,).

    exposed : an enemy could be seen; hidden : one has been out of sight for half a second; through : the player looked
    at such an entity, and at nobody who could be seen
    """

    entity: NDArray[np.int64]
    time: NDArray[np.float64]
    exposed: NDArray[np.bool_]
    hidden: NDArray[np.bool_]
    through: NDArray[np.bool_]


class Observer:
    """Sees shots and gazes, stretch after stretch of one match. parties : by entity; sight : what hides what."""

    def __init__(self, rules: Rules, parties: Mapping[int, Party], sight: Sight) -> None:
        self._rules, self._parties, self._sight = rules, parties, sight
        self._before: dict[int, tuple[float, NDArray[np.float64]]] = {}
        self._shot_at: dict[tuple[int, int], float] = {}

    def shots(self, scene: Scene, rulings: Sequence[Ruling], lines: Mapping[str, MeasuredLine]) -> ShotTable:
        """Those of the rulings that show an aim; the scene must reach back over their views and `BACK_S` before."""
        chosen = [r for r in rulings if r.kind in AIMED and r.account and is_usable(r) and r.entity in self._parties]
        n = len(chosen)
        entity = np.array([r.entity for r in chosen], np.int64)
        time = np.array([r.received_at for r in chosen], float)
        seen_at = np.array([r.view_time for r in chosen], float)
        origin = np.array([r.origin for r in chosen], float).reshape(n, 3)
        aim = np.array([r.aim or r.direction for r in chosen], float).reshape(n, 3)
        columns = scene.column_of(entity)
        target, points, off, nearest, bone = self._targets(scene, entity, seen_at, origin, aim)
        there = scene.column_of(target)
        middle = points.mean(1) if n else np.zeros((0, 3))
        to = middle - origin
        distance = np.linalg.norm(to, axis=1)
        moved = (middle - scene.between(scene.points, seen_at - 0.05, there).mean(1)) / 0.05 if n else to
        along = to / np.maximum(distance, 1e-9)[:, None]
        cross = np.linalg.norm(moved - (moved * along).sum(1)[:, None] * along, axis=1)
        visible, run, aside = self._runs(scene, columns, there, time, seen_at, origin, bone)
        damage = [damage_done(r, self._parties) for r in chosen]
        turn, since = self._turns(entity, time, aim)
        ready = np.array([ready_for(r) for r in chosen], float)
        reach = np.array([self._rules.weapons[r.weapon].range_m if r.kind == "melee" else np.nan for r in chosen])
        late = (
            time - seen_at - np.array([explained_s(lines.get(r.connection), self._parties[r.entity]) for r in chosen])
        )
        late[np.array([ruled_elsewhere(r) for r in chosen], bool)] = np.nan  # how old its own view was isn't in it
        every = [lines[r.connection].max_send_delay_s if r.connection in lines else 0.0 for r in chosen]
        held = np.minimum(np.array(every, float), LONGEST_HOLD_S)
        spread = [self._spread(r) for r in chosen]
        draw = np.array([one[0] for one in spread], float).reshape(n, 2)
        widest, flat = np.array([one[1] for one in spread], float), np.array([one[2] for one in spread], bool)
        skipped = np.array([any(f.code == "shots_skipped" for f in r.findings) for r in chosen], bool)
        stray = strays_of(draw, widest, flat)
        stray[skipped] = np.nan
        named = [self._named(r, h[0]) for r, h in zip(chosen, damage, strict=True)]
        return ShotTable(
            np.array([r.number for r in chosen], np.int64), entity, target, time, [r.weapon for r in chosen],
            [r.kind for r in chosen], np.array([bool(h[0]) for h in damage], bool), np.array([h[1] for h in damage],
            bool),
            np.array([h[2] for h in damage], float), distance, cross, off, visible, run,
            self._firsts(entity, target, time, visible, run), late, held, stray, aim_error(aim, along), draw, widest,
            flat, skipped, np.array([one[0] for one in named], bool), np.array([one[1] for one in named], bool),
            nearest - reach, aside, ready, *off_gaze(scene, columns, time, aim), turn, since,
        )  # fmt: skip

    def _targets(
        self, scene: Scene, entity: NDArray[np.int64], seen_at: NDArray[np.float64], origin: NDArray[np.float64],
        aim: NDArray[np.float64],
    ) -> tuple[
        NDArray[np.int64], NDArray[np.float64], NDArray[np.float64], NDArray[np.float64], NDArray[np.int64]
    ]:  # fmt: skip
        """Targets of aims: target, its bones at the view, the aim's distance from the nearest bone, and that bone."""
        n, bones = len(entity), scene.points.shape[2]
        if not n or not bones:
            none = np.full(n, np.nan)
            return np.zeros(n, np.int64), np.full((n, max(bones, 1), 3), np.nan), none, none, np.zeros(n, np.int64)
        points = scene.between(scene.points, seen_at)  # (n, e, b, 3)
        to = points - origin[:, None, None]
        ahead = np.einsum("nebk,nk->neb", to, aim)
        apart = np.sqrt(np.maximum((to * to).sum(-1) - ahead**2, 0.0))
        with np.errstate(invalid="ignore", divide="ignore"):
            angle = np.where(ahead > 0.1, apart / ahead, np.inf)
        foe = self._foes(scene, entity)
        angle = np.where(np.isnan(angle) | ~foe[:, :, None], np.inf, angle)
        best = angle.min(-1)
        column = best.argmin(1)
        row = np.arange(n)
        near = best[row, column] < WIDE_RAD
        target = np.where(near, scene.entities[column], 0)
        beside = np.where(ahead[row, column] > 0.1, apart[row, column], np.inf)
        off, bone = beside.min(-1), beside.argmin(-1)
        length = np.linalg.norm(to[row, column], axis=-1).min(-1)
        held = np.where(near[:, None, None], points[row, column], np.nan)
        return target, held, np.where(near, off, np.nan), np.where(near, length, np.nan), bone

    def _foes(self, scene: Scene, entity: NDArray[np.int64]) -> NDArray[np.bool_]:
        """(n, e): True where one is the other's enemy."""
        teams = [self._parties[e].team if e in self._parties else None for e in scene.entities.tolist()]
        own = [self._parties[e].team for e in entity.tolist()]
        theirs = np.array([team is not None for team in teams], bool)
        code = {team: k for k, team in enumerate(sorted({*own, *(t for t in teams if t is not None)}))}
        a = np.array([code[team] for team in own], np.int64)
        b = np.array([-1 if team is None else code[team] for team in teams], np.int64)
        other = (a[:, None] != b[None, :]) & theirs[None, :]
        lone = np.array([team == "" for team in own], bool)
        out: NDArray[np.bool_] = np.where(
            lone[:, None], theirs[None] & (entity[:, None] != scene.entities[None]), other
        )
        return out

    def _runs(
        self, scene: Scene, columns: NDArray[np.int64], there: NDArray[np.int64], time: NDArray[np.float64],
        seen_at: NDArray[np.float64], origin: NDArray[np.float64], bone: NDArray[np.int64],
    ) -> tuple[NDArray[np.bool_], NDArray[np.float64], NDArray[np.float64]]:  # fmt: skip
        """Return if each target could be seen in the view, for how long already, and `ShotTable.aside_m`.

        bone : the bone nearest to each aim: who shoots at an arm that shows shoots at what it sees
        """
        n = len(time)
        back = np.arange(0.0, BACK_S + 1e-9, BACK_STEP_S)
        if not n or not len(scene.times):
            return np.zeros(n, bool), np.full(n, np.inf), np.full(n, np.nan)
        eyes = np.stack([scene.between(scene.eyes, time - s, columns) for s in back], 1)
        off = np.hypot(*(eyes[:, back <= PATH_S, :2] - origin[:, None, :2]).transpose(2, 0, 1))
        aside = np.where(np.isnan(off).any(1), np.nan, np.nan_to_num(off, nan=np.inf).min(1))
        eyes += (origin - np.where(np.isnan(eyes[:, 0]), origin, eyes[:, 0]))[:, None]
        bodies = np.stack([scene.between(scene.points, seen_at - s, there) for s in back], 1)
        known = (seen_at[:, None] - back[None]) >= scene.times[0]
        aimed_at = np.take_along_axis(bodies, bone[:, None, None, None], 2)
        marks = np.concatenate([marks_of(bodies), aimed_at], 2)
        seen = self._sight.any_of(eyes.reshape(-1, 3), marks.reshape(n * len(back), -1, 3))
        seen = seen.reshape(n, len(back))
        changed = (seen != seen[:, :1]) | ~known
        step = changed.argmax(1)
        ends = changed.any(1) & known[np.arange(n), step]
        # who was hidden for a blink only was not gone
        steady = np.minimum(step + round(SETTLED_S / BACK_STEP_S), len(back) - 1)
        blink = seen[:, 0] & (seen[np.arange(n), steady] | ~known[np.arange(n), steady])
        run = np.where(ends & ~blink, back[step], np.inf)
        gone = np.where(changed.any(1), back[np.maximum(step - (~ends), 0)], back[-1])
        # a player who shows anything at all in the view was in sight, if only nobody knows since when
        shows = self._sight.any_of(eyes[:, 0], bodies[:, 0]) & ~seen[:, 0]
        run = np.where(seen[:, 0], run, np.where(shows, np.inf, gone))
        return (seen[:, 0] | shows) & (there >= 0), run, aside

    def _firsts(
        self, entity: NDArray[np.int64], target: NDArray[np.int64], time: NDArray[np.float64],
        visible: NDArray[np.bool_], run: NDArray[np.float64],
    ) -> NDArray[np.bool_]:  # fmt: skip
        out = np.zeros(len(entity), bool)
        for k, (who, aimed, at) in enumerate(zip(entity.tolist(), target.tolist(), time.tolist(), strict=True)):
            before = self._shot_at.get((who, aimed), -math.inf)
            out[k] = bool(aimed and visible[k] and math.isfinite(run[k]) and before < at - run[k] - SETTLED_S)
            self._shot_at[who, aimed] = at
        return out

    def _turns(
        self, entity: NDArray[np.int64], time: NDArray[np.float64], aim: NDArray[np.float64]
    ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        turn, since = np.full(len(entity), np.nan), np.full(len(entity), np.inf)
        for k, (who, at) in enumerate(zip(entity.tolist(), time.tolist(), strict=True)):
            before = self._before.get(who)
            if before is not None:
                turn[k] = math.acos(max(-1.0, min(1.0, float(before[1] @ aim[k]))))
                since[k] = at - before[0]
            self._before[who] = (at, aim[k])
        return turn, since

    def _spread(self, ruling: Ruling) -> tuple[tuple[float, float], float, bool]:
        """Draw of a shot's number from its owner's stream, and the spread that it was drawn from.

        Recoil is left apart: players may know it, and hold against it. A number that wasn't the next one draws what its
        client hoped for.
        """
        spread = self._rules.weapons[ruling.weapon].spread
        widest = next((step.observed for step in ruling.checks if step.name == "spread"), None)
        key = self._parties[ruling.entity].key
        skipped = next((finding for finding in ruling.findings if finding.code == "shots_skipped"), None)
        number = ruling.shot if skipped is None else skipped.observed
        if spread is None or not isinstance(widest, float) or not widest > 0.0 or not key or not number:
            return (math.nan, math.nan), math.nan, False
        return draws(key, ruling.weapon, int(number)), widest, spread.flat

    def _named(self, ruling: Ruling, hit: bool) -> tuple[bool, bool]:
        """Return if a shot's view strayed and wasn't ruled, and if it hits at the view that it names."""
        step = next((step for step in ruling.checks if step.name == "named view"), None)
        if step is None:
            return False, hit
        met = step.observed if isinstance(step.observed, (int, float)) else 0
        own, other = self._parties[ruling.entity].team, self._parties.get(int(met))
        return True, other is not None and (not own or other.team != own)

    # -- looks ------------------------------------------------------------------------------------------------

    def gazes(self, scene: Scene, since: float, until: float) -> GazeSamples:
        """Return all players' gazes from one server time to before another. The scene reaches half a second further."""
        first = math.ceil(since / LOOK_EVERY_S - 1e-9) * LOOK_EVERY_S
        at = np.arange(first, until - 1e-9, LOOK_EVERY_S)
        ids = enumerate(scene.entities.tolist())
        who = np.array([k for k, e in ids if e in self._parties and self._parties[e].account], np.int64)
        if not len(at) or not len(who) or len(scene.times) < 2:
            none = np.zeros(0, bool)
            return GazeSamples(np.zeros(0, np.int64), np.zeros(0), none, none, none)
        a, b = np.meshgrid(who, who, indexing="ij")
        foe = self._foes(scene, scene.entities[who])[:, who]
        a, b = a[foe], b[foe]
        grid = first + LOOK_EVERY_S * np.arange(-2.0, float(len(at)))
        seen = self._in_sight(scene, grid, a, b)
        now, ago, before = seen[2:], seen[1:-1], seen[:-2]
        eyes, ahead, middle = scene.between(scene.eyes, at), scene.between(scene.ahead, at), self._middles(scene, at)
        to = middle[:, b] - eyes[:, a]
        far = np.linalg.norm(to, axis=-1)
        with np.errstate(invalid="ignore"):
            on = ((to * ahead[:, a]).sum(-1) > math.cos(EYE_RAD) * far) & (far > 1.0) & (far < FAR_M)
        there = ~np.isnan(far) & (far < FAR_M)
        hidden = there & ~now & ~ago & ~before
        rows: list[tuple[Any, ...]] = []
        for column in who.tolist():
            mine = a == column
            present = ~np.isnan(eyes[:, column, 0])
            on_seen = (on & now)[:, mine].any(1)
            through = (on & hidden)[:, mine].any(1) & ~on_seen
            rows.append((present, now[:, mine].any(1), hidden[:, mine].any(1), through))
        present, exposed, hid, through = (np.stack(list(column), 1) for column in zip(*rows, strict=True))
        times = np.broadcast_to(at[:, None], present.shape)
        everybody = np.broadcast_to(scene.entities[who][None], present.shape)
        return GazeSamples(everybody[present], times[present], exposed[present], hid[present], through[present])

    @staticmethod
    def _middles(scene: Scene, at: NDArray[np.float64]) -> NDArray[np.float64]:
        row, _ = scene.bracket(at)
        points = scene.points[row]
        with np.errstate(invalid="ignore"):
            middle: NDArray[np.float64] = points.mean(axis=2)
        return middle

    def _in_sight(
        self, scene: Scene, at: NDArray[np.float64], a: NDArray[np.int64], b: NDArray[np.int64]
    ) -> NDArray[np.bool_]:
        """(times, pairs): whether a's eye could see b."""
        eyes, middle = scene.between(scene.eyes, at)[:, a], self._middles(scene, at)[:, b]
        return self._sight.any_of(eyes.reshape(-1, 3), middle.reshape(-1, 1, 3)).reshape(len(at), len(a))
