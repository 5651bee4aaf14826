"""The case page: one HTML file that opens offline and says who, why, how likely otherwise, and shows the shots."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tinclock.cases.kinds import benign_share, chance_of, exact_first, null_of, strength, words_of
from tinclock.core.errors import EvidenceError, MissingExtraError, RecordingError
from tinclock.core.evidence.detectors import DETECTORS
from tinclock.core.evidence.exact import EXACT
from tinclock.core.evidence.weights import line_class
from tinclock.core.plain import Fields
from tinclock.core.text import printable_lines
from tinclock.report.replay import replay_of

if TYPE_CHECKING:
    from collections.abc import Mapping

    from tinclock.cases.records import Dossier, PlayRow
    from tinclock.core.evidence.weights import Weights
    from tinclock.core.geometry.level import Level
    from tinclock.recordings.recording import Recording

MOST_SHOTS, MOST_KINDS = 6, 8
SHOWN_DECIBANS = 1.0


def write_case_page(
    path: str | Path, dossier: Dossier, weights: Weights, *, limit: float, recordings: str | Path | None = None,
    level: Level | None = None,
) -> Path:  # fmt: skip
    """Write the page of an account.

    limit : decibans at which cases open; recordings : a folder to look for recordings in that aren't where they were

    Raises `MissingExtraError` without the extra `cases`, `EvidenceError` when the file can't be written. Shots whose
    recording isn't there are left out, and the page says so.
    """
    html = case_page(dossier, weights, limit=limit, recordings=recordings, level=level)
    target = Path(path)
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(html, encoding="utf-8")
    except OSError as error:
        raise EvidenceError(path, f"can't be written: {error.strerror}") from None
    return target


def _shown(value: object) -> Any:
    """What a page shows of a value: control characters and turned writing in names are written out, at any depth."""
    from markupsafe import Markup

    if isinstance(value, str):
        return value if isinstance(value, Markup) else printable_lines(value)
    if isinstance(value, dict):
        return {key: _shown(one) for key, one in value.items()}
    return [_shown(one) for one in value] if isinstance(value, list) else value


def case_page(
    dossier: Dossier, weights: Weights, *, limit: float, recordings: str | Path | None = None,
    level: Level | None = None,
) -> str:  # fmt: skip
    """The page as text; see `write_case_page`."""
    try:
        from jinja2 import Environment, PackageLoader, StrictUndefined
        from plotly.offline import get_plotlyjs
    except ImportError:
        raise MissingExtraError("case_page", "jinja2 and plotly", "cases") from None
    environment = Environment(
        loader=PackageLoader("tinclock.report"), autoescape=True, undefined=StrictUndefined, trim_blocks=True,
        lstrip_blocks=True, finalize=_shown,
    )  # fmt: skip
    environment.filters["when"] = lambda at: time.strftime("%Y-%m-%d %H:%M", time.gmtime(at)) + " UTC"
    environment.filters["day"] = lambda at: time.strftime("%Y-%m-%d", time.gmtime(at))
    shots, missing = _shots(dossier, recordings, level)
    page: str = environment.get_template("case.html").render(
        dossier=dossier, account=dossier.account, case=dossier.case, limit=limit, kinds=kinds_of(dossier, weights),
        common=[
            (play.match, ", ".join(words_of(kind).title for kind in play.course.common))
            for play in dossier.plays
            if play.course.common
        ],
        muted=[(play.match, ", ".join(play.course.muted)) for play in dossier.plays if play.course.muted],
        counts=[(code, words_of(code).title, count) for code, count in dossier.counts.items()], shots=shots,
        missing=missing, data=_shown(_data(dossier, weights, limit, shots)), plotly=get_plotlyjs(),
        provenance=weights.provenance,
    )  # fmt: skip
    return page


def kinds_of(dossier: Dossier, weights: Weights) -> list[Fields]:
    """The strongest kinds of evidence over all matches, in words."""
    total: dict[str, float] = {}
    for play in dossier.plays:
        for kind, decibans in play.course.kinds.items():
            total[kind] = total.get(kind, 0.0) + decibans
    if dossier.case is not None:  # what the case says of a kind is what the page says of it
        total = dossier.case.kinds
    shown = {kind: decibans for kind, decibans in total.items() if decibans >= SHOWN_DECIBANS}
    line = _line(dossier)
    out = []
    for kind, decibans in exact_first(shown)[:MOST_KINDS]:
        words = words_of(kind)
        best = max((gain for _, gain in dossier.gains if gain.kind == kind), key=lambda g: g.decibans, default=None)
        out.append(
            {
                "kind": kind, "title": words.title, "benign": words.benign, "decibans": decibans,
                "strength": strength(decibans), "chance": chance_of(decibans), "exact": kind in EXACT,
                "fair": benign_share(kind, line, weights), "null": null_of(kind),
                "count": dossier.counts.get(kind, 0), "best": _told(best) if best is not None else "",
            }
        )  # fmt: skip
    return out


def _told(gain: Any) -> str:
    if not gain.trials:
        return f"{gain.decibans:.0f} decibans for one incident on a {gain.line} line"
    return f"strongest stretch: {gain.successes:.0f} of {gain.trials} speak for it, {gain.decibans:.0f} decibans"


def _line(dossier: Dossier) -> str:
    from tinclock.core.evidence.measured import LineQuality

    lines = [line for play in dossier.plays for line in play.course.lines]
    return line_class(LineQuality(lines[-1][1], lines[-1][2]) if lines else None)


def _shots(dossier: Dossier, recordings: str | Path | None, level: Level | None) -> tuple[list[Fields], list[str]]:
    """Replays of the shots that show most, of several kinds, and what couldn't be shown."""
    places = {play.match: play for play in dossier.plays}
    wanted: list[tuple[str, str, int]] = []
    taken: dict[str, int] = {}
    for match, gain in dossier.gains:
        for number in gain.rulings[:2]:
            if number and taken.get(gain.kind, 0) < 2 and (match, number) not in [(m, n) for _, m, n in wanted]:
                taken[gain.kind] = taken.get(gain.kind, 0) + 1
                wanted.append((gain.kind, match, number))
    opened: dict[str, tuple[Recording, dict[int, str]] | None] = {}
    shots: list[Fields] = []
    missing: list[str] = []
    for kind, match, number in wanted:
        if len(shots) >= MOST_SHOTS:
            break
        play = places.get(match)
        if play is None:
            continue
        try:
            if match not in opened:
                opened[match] = _open(play, recordings)
            found = opened[match]
            shot = None if found is None else replay_of(found[0], number, found[1], kind, level)
        except RecordingError as error:
            missing.append(str(error))
            opened[match] = None
            continue
        if shot is not None:
            shots.append(shot)
    return shots, list(dict.fromkeys(missing))


def _open(play: PlayRow, recordings: str | Path | None) -> tuple[Recording, dict[int, str]]:
    from tinclock.recordings.recording import Recording

    path = Path(play.recording)
    if recordings is not None and not path.is_dir():
        path = Path(recordings) / path.name
    if not play.recording:
        raise RecordingError(play.match, "was weighed live; no recording of it is known")
    recording = Recording(path)
    return recording, recording.names()


def _data(dossier: Dossier, weights: Weights, limit: float, shots: list[Fields]) -> Fields:
    """What the page's charts draw."""
    minutes, points, lines, ends = 0.0, [], [], []
    for play in dossier.plays:
        points += [(round(minutes + at / 60.0, 3), value) for at, value in play.course.points]
        lines += [(round(minutes + at / 60.0, 3), 1000.0 * trip, 1000.0 * jit) for at, trip, jit in play.course.lines]
        minutes += max((at / 60.0 for at, _ in play.course.points), default=play.minutes)
        ends.append((round(minutes, 3), play.match))
    return {
        "points": points, "lines": lines, "ends": ends, "limit": limit, "shots": shots,
        "kinds": _over_time(dossier), "aim": _aim(dossier, weights),
    }  # fmt: skip


def _over_time(dossier: Dossier) -> list[Fields]:
    """Decibans by kind over time, match after match, of the kinds that matter: a value for each of the points."""
    kinds = {kind for play in dossier.plays for kind in play.course.by_kind}
    out: list[Fields] = []
    for kind in sorted(kinds):
        before, values = 0.0, list[float]()
        for play in dossier.plays:
            course = play.course.by_kind.get(kind, [0.0] * len(play.course.points))
            values += [round(before + value, 2) for value in course]
            before += play.course.kinds.get(kind, 0.0)
        if before >= SHOWN_DECIBANS:
            out.append({"title": words_of(kind).title, "values": values, "last": before})
    return sorted(out, key=lambda row: -row["last"])[:MOST_KINDS]


def _aim(dossier: Dossier, weights: Weights) -> list[Fields]:
    """The account's shares against the population's, in percent."""
    total: dict[str, tuple[float, float]] = {}
    for play in dossier.plays:
        for name, (k, n) in play.course.aim.items():
            a, b = total.get(name, (0.0, 0.0))
            total[name] = (a + k, b + n)
    line, out = _line(dossier), []
    for name, detector in DETECTORS.items():
        k, n = total.get(name, (0.0, 0.0))
        rows: Mapping[str, Any] = weights.ceilings.get(name, {})
        ceiling = rows.get(line if detector.per_line else "all")
        if detector.family == "share" and n and ceiling is not None and ceiling.share < 1.0:
            out.append(
                {
                    "title": detector.title, "own": 100.0 * k / n, "trials": n, "typical": 100.0 * ceiling.typical,
                    "best": 100.0 * ceiling.share,
                }
            )  # fmt: skip
    return out
