"""Requests of the match viewer: the match, its poses, its events, one ruling, one connection, and news."""

from __future__ import annotations

import asyncio
import json
import math
import time
from functools import lru_cache
from typing import TYPE_CHECKING, Any, Final

import numpy as np
from starlette.responses import JSONResponse, Response, StreamingResponse

from tinclock.core.analysis.otherwise import otherwise
from tinclock.core.combat.events import DeathEvent
from tinclock.core.errors import OutOfHistoryError, RecordingError, UnknownNameError
from tinclock.core.geometry.rig import Rig
from tinclock.core.plain import Fields
from tinclock.recordings.heard import heard
from tinclock.report.flight_paths import flights_of
from tinclock.report.rig_data import rig_fields
from tinclock.report.shot_scene import Shown, scene_of
from tinclock.review.access import whole
from tinclock.review.watched import MARK_COLUMNS, row_of
from tinclock.review.windows import WINDOW_S, level_bytes, window_of

if TYPE_CHECKING:
    from collections.abc import AsyncIterator, Callable

    from starlette.requests import Request

    from tinclock.core.timeline.views import View
    from tinclock.recordings.heard import Heard
    from tinclock.review.watched import Watched, WatchedMatches

LOOK_S, ALIVE_S = 0.1, 15.0
"""A match that is being written is looked at so often; a browser hears something at least so often."""
MAX_POINTS: Final = 2000
FLUSHES_AT_ONCE: Final = 4
TRIES_S: Final = (0.02, 0.1, 0.3)
"""Time after which an unreadable recording is tried again."""


class Looking:
    """The viewer's questions about the recordings that were given."""

    def __init__(self, matches: WatchedMatches) -> None:
        self.matches = matches
        self.cases: Callable[[Watched], list[Fields]] = lambda watched: []
        """The cases that were opened in a match, where there is a desk."""
        self._shown = lru_cache(16)(self._show)
        self._heard = lru_cache(32)(self._hear)

    def steadily(self, answer: Callable[[Request], Response]) -> Callable[[Request], Response]:
        """An answer that is tried again where files vanished under it: a recording that ended is put together."""

        def answering(request: Request) -> Response:
            for wait_s in TRIES_S:
                try:
                    return answer(request)
                except RecordingError:
                    self._watched(request).refresh()
                    time.sleep(wait_s)
            return answer(request)

        return answering

    def _watched(self, request: Request) -> Watched:
        return self.matches.open(request.path_params["name"])

    # -- the match --------------------------------------------------------------------------------------------

    def match(self, request: Request) -> Response:
        """Data that the viewer needs before anything is drawn."""
        watched = self._watched(request)
        recording, header = watched.recording, watched.recording.require_header()
        rules = header.rules
        rigs = {name: rig_fields(Rig(name, table), table.blocks_only) for name, table in rules.rigs.items()}
        return JSONResponse(
            {
                "name": watched.name, "begins": recording.begins_at_s, "ends": recording.ends_at_s,
                "live": watched.live, "flushes": len(recording.flushes), "window_s": WINDOW_S,
                "tick_rate_hz": rules.match.tick_rate_hz, "snapshot_every": rules.match.snapshot_every,
                "rewind_limit_s": rules.view.max_rewind_s, "history_s": rules.match.history_s, "rigs": rigs,
                "people": people_of(watched), "has_level": watched.level is not None,
                "level_missing": header.level is not None and watched.level is None,
                "columns": MARK_COLUMNS, "cases": self.cases(watched),
            }
        )  # fmt: skip

    def level(self, request: Request) -> Response:
        """The level's triangles."""
        return Response(level_bytes(self._watched(request).level), media_type="application/octet-stream")

    def window(self, request: Request) -> Response:
        """A second of poses."""
        watched, number = self._watched(request), request.path_params["number"]
        span = watched.recording.ends_at_s - watched.recording.begins_at_s
        if not 0 <= number <= span / WINDOW_S + 1:
            raise UnknownNameError("window", str(number), [f"0 to {int(span / WINDOW_S)}"])
        return Response(window_of(watched, number), media_type="application/octet-stream")

    def marks(self, request: Request) -> Response:
        """Events from a step on, in a few flushes: rulings, deaths, flights, people; `next` is the step to go on at.

        Steps and not flushes are counted: a recording that is put together has fewer of them than before.
        """
        watched, begin = self._watched(request), _whole(request, "from", 0)
        later = [flush for flush in watched.recording.flushes if flush.next_call > begin]
        part = later[:FLUSHES_AT_ONCE]
        rows: list[list[Any]] = []
        deaths: list[Fields] = []
        flights: list[Fields] = []
        for flush in part:
            rows += [row_of(ruling) for ruling in watched.rulings_of(flush, begin)]
            events = watched.recording.events_of(flush, begin)
            deaths += [
                {"at": one.server_time, "entity": one.entity, "by": one.actor, "weapon": one.weapon}
                for one in events if isinstance(one, DeathEvent)
            ]  # fmt: skip
            flights += flights_of(events, watched.level)
        after = part[-1].next_call if part else begin
        return JSONResponse(
            {"rows": rows, "deaths": deaths, "flights": flights, "next": after, "done": len(part) == len(later),
             "people": people_of(watched) if watched.live or begin == 0 else None}
        )  # fmt: skip

    async def news(self, request: Request) -> Response:
        """Tells, as long as a match is being written, how far it has come (server-sent events, WHATWG HTML)."""
        watched = await asyncio.to_thread(self._watched, request)

        async def tell() -> AsyncIterator[str]:
            last, told = None, 0.0
            loop = asyncio.get_running_loop()
            while not await request.is_disconnected():
                await asyncio.to_thread(watched.refresh)
                recording = watched.recording
                now = (recording.ends_at_s, len(recording.flushes), recording.closed)
                if now != last or loop.time() - told > ALIVE_S:
                    last, told = now, loop.time()
                    news = {"ends": now[0], "flushes": now[1], "live": not now[2]}
                    yield f"data: {json.dumps(news)}\n\n"
                if recording.closed:
                    return
                await asyncio.sleep(LOOK_S)

        return StreamingResponse(tell(), media_type="text/event-stream")

    # -- one ruling -------------------------------------------------------------------------------------------

    def _show(self, name: str, number: int) -> Shown:
        watched = self.matches.open(name)
        return Shown(watched.recording, number, watched.level)

    def scene(self, name: str, number: int, kind: str = "") -> Fields:
        """A ruling as plain data; see `scene_of`. Raises `RecordingError`, `UnknownNameError`."""
        people = self.matches.open(name).people()
        names, teams = {one.entity: one.name for one in people}, {one.entity: one.team for one in people}
        return scene_of(self._shown(name, number), names, teams, kind)

    def ruling(self, request: Request) -> Response:
        """One ruling with everything around it."""
        return JSONResponse(self.scene(request.path_params["name"], request.path_params["number"]))

    def what_if(self, request: Request) -> Response:
        """Rule the shot again: another limit (`cap_ms`), another age (`age_ms`), or the estimated display delay."""
        name, number = request.path_params["name"], request.path_params["number"]
        shown, names = self._shown(name, number), self.matches.open(name).names()
        try:
            view, what = self._other_view(request, name, shown)
            found = None if view is None else otherwise(shown.past, shown.ruling, view)
        except OutOfHistoryError as error:
            return JSONResponse({"says": f"Cannot recalculate: {error}", "bodies": []})
        if view is None or found is None:
            return JSONResponse({"says": what or "Only shots can be recalculated.", "bodies": []})
        history = shown.past.history
        bodies = [
            {"entity": entity, "rig": history.rig_of(entity).name, "bones": np.round(bones, 4).ravel().tolist()}
            for entity in history.present(view)
            if entity != shown.ruling.entity and (bones := history.bones_at(entity, view)) is not None
        ]
        return JSONResponse(
            {"says": f"{what}: {_lowered(found.describe(names))}.", "age_ms": round(1000.0 * found.age_s),
             "hit": found.entity, "reached_m": min(found.reached_m, 200.0), "bodies": bodies}
        )  # fmt: skip

    def _other_view(self, request: Request, name: str, shown: Shown) -> tuple[View | None, str]:
        ruling, history = shown.ruling, shown.past.history
        if "tracked" in request.query_params:
            at = self._tracked_view_time(name, shown)
            if at is None:
                return None, "No display delay is known for this connection at that time."
            return history.view_at(at), "At the estimated display delay"
        if "cap_ms" in request.query_params:
            cap = _number(request, "cap_ms", 0.0, 5000.0) / 1000.0
            claimed = shown.seen or ruling.view
            age = cap if claimed is None else min(cap, ruling.received_at - history.time_of(claimed))
            if claimed is not None and age < cap:
                return claimed, f"With a rewind limit of {1000.0 * cap:.0f} ms, which this view is inside"
            return history.view_at(ruling.received_at - age), f"With a rewind limit of {1000.0 * cap:.0f} ms"
        age = _number(request, "age_ms", 0.0, 5000.0) / 1000.0
        return history.view_at(ruling.received_at - age), "At that time"

    def _tracked_view_time(self, name: str, shown: Shown) -> float | None:
        stamp = getattr(shown.claim, "client_time", None)
        if not isinstance(stamp, (int, float)):
            return None
        before = [one for one in self._line(name, shown.ruling.connection).told if one.at <= shown.ruling.received_at]
        lag = before[-1].clock_lag_s if before else math.nan
        return None if math.isnan(lag) else float(stamp) - lag

    # -- one line ---------------------------------------------------------------------------------------------

    def _hear(self, name: str, connection: str, flushes: int) -> Heard:
        return heard(self.matches.open(name).recording, connection)

    def _line(self, name: str, connection: str) -> Heard:
        return self._heard(name, connection, len(self.matches.open(name).recording.flushes))

    def line(self, request: Request) -> Response:
        """A connection over time, thinned out to what a picture can show. Milliseconds."""
        watched, entity = self._watched(request), request.path_params["entity"]
        person = next((one for one in watched.people() if one.entity == entity and one.connection), None)
        if person is None:
            players = [one.name for one in watched.people() if one.connection]
            raise UnknownNameError("player", str(entity), players)
        told = self._line(watched.name, person.connection)
        return JSONResponse(
            {
                "name": person.name,
                "trips": _columns(told.trips, (1.0, 1e3, 1e3, 100.0)),
                "told": _columns([one[:5] for one in told.told], (1.0, *[1e3] * 4)),
                "views": _columns(told.views, (1.0, 1e3, 1e3, 1e3)),
                "cap_ms": 1e3 * watched.recording.require_header().rules.view.max_rewind_s,
            }
        )  # fmt: skip


def people_of(watched: Watched) -> list[Fields]:
    """Participants of a match, without the server's secrets."""
    rules = watched.recording.require_header().rules
    return [
        {
            "entity": one.entity, "name": one.name, "player": bool(one.account), "team": one.team, "rig": one.rig,
            "from": one.from_s, "until": one.until_s, "cover": rules.rigs[one.rig].blocks_only,
        }
        for one in watched.people()
    ]  # fmt: skip


def _columns(rows: list[Any], scale: tuple[float, ...]) -> list[list[float | None]]:
    """Columns of at most `MAX_POINTS` rows; what isn't a number becomes nothing."""
    every = max(1, math.ceil(len(rows) / MAX_POINTS))
    kept = rows[::every]
    return [
        [None if math.isnan(v) or math.isinf(v) else round(v * factor, 3) for v in column]
        for column, factor in zip(zip(*kept, strict=True), scale, strict=True)
    ] or [[] for _ in scale]


def _lowered(text: str) -> str:
    return text[:1].lower() + text[1:]


def _whole(request: Request, name: str, default: int) -> int:
    text = request.query_params.get(name, str(default))
    number = whole(text)
    if number is None:
        raise UnknownNameError(name, text[:40], ["a whole number"])
    return number


def _number(request: Request, name: str, least: float, most: float) -> float:
    text = request.query_params.get(name, "")
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not least <= value <= most:
        raise UnknownNameError(name, text, [f"{least:g} to {most:g}"])
    return value
