"""The case page: one HTML file that opens offline and says who, why, how likely otherwise, and shows the shots."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from tinclock.core.errors import EvidenceError, MissingExtraError, RecordingError
from tinclock.core.geometry.rig import Rig
from tinclock.core.plain import Fields
from tinclock.core.text import printable, printable_lines
from tinclock.report.case_view import calibration_of, charts_of, facts_of, telling_shots
from tinclock.report.rig_data import rig_fields
from tinclock.report.shot_scene import Shown, scene_of
from tinclock.report.style import surface_colour

if TYPE_CHECKING:
    from tinclock.cases.records import AccountReport, PlayRow
    from tinclock.core.evidence.calibration_table import Calibration
    from tinclock.core.geometry.level import Level
    from tinclock.recordings.recording import Recording

MAX_SHOTS: Final = 6
NEAR_M, MAX_FACES = 12.0, 3000
"""Of a level the triangles near a shot are kept in the page, at most so many of a match."""
MODULES: Final = (
    "vendor/three.js", "vendor/uplot.js", "ground.js", "bodies.js", "shot.js", "card.js", "charts.js", "offline.js",
)  # fmt: skip
"""Scripts of the page, in the order in which each needs the ones before."""
STATES: Final = {
    "open": "New", "waiting": "Needs more evidence", "cleared": "Cleared", "confirmed": "Confirmed", "all": "All"
}  # fmt: skip
"""Labels of the states of a case."""


def write_case_page(
    path: str | Path, dossier: AccountReport, calibration: Calibration | None = None, *, limit: float,
    recordings: str | Path | None = None, level: Level | None = None,
) -> Path:  # fmt: skip
    """Write the page of an account.

    calibration : the table whose figures the page says; by default the table of the case's last weighing
    limit : decibans at which cases open; recordings : a folder to look for recordings in that aren't where they were

    Raises `MissingExtraError` without the extra `cases`, `EvidenceError` when the file can't be written. Shots whose
    recording isn't there are left out, and the page says so.
    """
    html = case_page(dossier, calibration, limit=limit, recordings=recordings, level=level)
    target = Path(path)
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(html, encoding="utf-8")
    except OSError as error:
        raise EvidenceError(path, f"can't be written: {error.strerror}") from None
    return target


def shown(value: object) -> Any:
    """Return a value for a page: control characters and reversed writing in names are written out, at any depth."""
    from markupsafe import Markup

    if isinstance(value, str):
        return value if isinstance(value, Markup) else printable_lines(value)
    if isinstance(value, dict):
        return {key: shown(one) for key, one in value.items()}
    return [shown(one) for one in value] if isinstance(value, (list, tuple)) else value


def pages(*packages: str) -> Any:
    """The templates of some packages, with what all pages of ours have in common.

    Raises `MissingExtraError` without jinja2.
    """
    try:
        from jinja2 import ChoiceLoader, Environment, PackageLoader, StrictUndefined
    except ImportError:
        raise MissingExtraError("case_page", "jinja2", "cases") from None
    environment = Environment(
        loader=ChoiceLoader([PackageLoader(one) for one in packages]), autoescape=True, undefined=StrictUndefined,
        trim_blocks=True, lstrip_blocks=True, finalize=shown,
    )  # fmt: skip
    environment.filters["when"] = lambda at: time.strftime("%Y-%m-%d %H:%M", time.gmtime(at)) + " UTC"
    environment.filters["state"] = lambda state: STATES.get(state, state)
    environment.filters["day"] = lambda at: time.strftime("%Y-%m-%d", time.gmtime(at))
    return environment


def case_page(
    dossier: AccountReport, calibration: Calibration | None = None, *, limit: float,
    recordings: str | Path | None = None,
    level: Level | None = None,
) -> str:  # fmt: skip
    """The page as text; see `write_case_page`."""
    calibration, template = calibration_of(dossier, calibration), pages("tinclock.report").get_template("case.html")
    gathered = _Gathered(dossier, recordings, level)
    drawing = Path(__file__).with_name("drawing")
    data = {
        "charts": charts_of(dossier, calibration, limit), "shots": gathered.shots, "rigs": gathered.rigs,
        "levels": gathered.levels,
    }  # fmt: skip
    styles = [(drawing / name).read_text(encoding="utf-8") for name in ("page.css", "vendor/uplot.css")]
    page: str = template.render(
        **facts_of(dossier, calibration, limit), shots=gathered.shots, missing=gathered.missing, data=shown(data),
        charts=data["charts"], matches={}, styles="\n".join(styles),
        modules=[(name, (drawing / name).read_text(encoding="utf-8")) for name in MODULES],
        loader=(drawing / "loader.js").read_text(encoding="utf-8"),
    )  # fmt: skip
    return page


class _Gathered:
    """The shots of a page with the bodies and the level that they need, and what couldn't be shown."""

    def __init__(self, dossier: AccountReport, recordings: str | Path | None, level: Level | None) -> None:
        self.shots: list[Fields] = []
        self.rigs: dict[str, Fields] = {}
        self.levels: dict[str, list[Fields]] = {}
        problems: list[str] = []
        self._recordings, self._level = recordings, level
        self._opened: dict[str, Recording] = {}
        near: dict[str, list[tuple[Level, Fields]]] = {}
        places = {play.match: play for play in dossier.plays}
        for kind, match, number in telling_shots(dossier, MAX_SHOTS):
            if match not in places:
                continue
            try:
                recording = self._open(places[match])
                stands = recording.level_or(self._level)
                scene = self._scene(recording, number, kind)
            except RecordingError as error:
                problems.append(str(error))
                continue
            self.shots.append({**scene, "match": match})
            if match not in self.rigs:
                rules = recording.require_header().rules
                self.rigs[match] = {
                    name: rig_fields(Rig(name, table), table.blocks_only) for name, table in rules.rigs.items()
                }
            if stands is not None and scene["drawn"]:
                near.setdefault(match, []).append((stands, scene))
        self.levels = {match: level_near(near.get(match, [])) for match in self.rigs}
        self.missing = list(dict.fromkeys(problems))

    def _open(self, play: PlayRow) -> Recording:
        from tinclock.recordings.recording import Recording

        if play.match not in self._opened:
            path = Path(play.recording)
            if self._recordings is not None and not path.is_dir():
                path = Path(self._recordings) / path.name
            if not play.recording:
                raise RecordingError(play.match, "was weighed live; no recording of it is known")
            self._opened[play.match] = Recording(path)
        return self._opened[play.match]

    def _scene(self, recording: Recording, number: int, kind: str) -> Fields:
        names = {entity: printable(name) for entity, name in recording.names().items()}
        return scene_of(Shown(recording, number, self._level), names, recording.teams(), kind)


def level_near(shots: list[tuple[Level, Fields]]) -> list[Fields]:
    """The triangles of a level near some shots' ways, by surface: nine numbers a triangle, metres."""
    if not shots:
        return []
    level = shots[0][0]
    corners = level.vertices[level.faces]
    middle = corners.mean(1)
    size = np.linalg.norm(corners - middle[:, None], axis=2).max(1)
    off = np.full(len(corners), np.inf)
    for _, scene in shots:
        start = np.array(scene["origin"])
        way = np.array(scene["rays"][0]["to"] if scene["rays"] else scene["aim"]) - start
        share = np.clip((middle - start) @ way / max(float(way @ way), 1e-9), 0.0, 1.0)
        off = np.minimum(off, np.linalg.norm(middle - start - share[:, None] * way, axis=1) - size)
    near = np.flatnonzero(off < NEAR_M)
    near = near[np.argsort(off[near], kind="stable")][:MAX_FACES]
    out: list[Fields] = []
    for kind, surface in enumerate(level.surfaces):
        rows = near[level.kinds[near] == kind]
        if len(rows):
            out.append(
                {"name": surface.name, "colour": surface_colour(surface.name), "sees": not surface.blocks_sight,
                 "corners": np.round(corners[rows].reshape(-1), 3).tolist()}
            )  # fmt: skip
    return out
