"""Results of the hits that clients claimed: the fairness of a match without known truth."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, NamedTuple

import msgspec
import numpy as np

from tinclock.core.analysis.view_windows import Choices, ViewShoppingGain
from tinclock.core.evidence.calibration_table import line_class
from tinclock.core.ruling.claims import MeleeClaim, ShotClaim
from tinclock.core.ruling.records import REPEATED, Ruling, counted_as
from tinclock.recordings.lines import Lines
from tinclock.recordings.replaying import replay
from tinclock.wire.codec import decode_claim

if TYPE_CHECKING:
    from collections.abc import Callable

    from tinclock.core.geometry.level import Level
    from tinclock.recordings.recording import Recording

_RULING = msgspec.json.Decoder(Ruling).decode


class ClaimedHitStats(NamedTuple):
    """Shots and blows whose client named a victim, on lines of one class.

    claimed : how many; counted : of these, how many hit that one; elsewhere : hit only somebody else
    missed : were ruled and hit nobody; rejected : were not ruled on; repeated : came once more, and are not claimed
    anew
    capped : were older than max_rewind_s, and ruled there
    lost : what wasn't counted, by the first finding, or "missed"
    rewound_s : how far each was rewound that was ruled
    """

    claimed: int
    counted: int
    elsewhere: int
    missed: int
    rejected: int
    capped: int
    lost: dict[str, int]
    rewound_s: tuple[float, ...]
    repeated: int = 0

    def as_dict(self) -> dict[str, float | int | None]:
        """Counts, and the median and 95th percentile of the rewinding."""
        names = ("claimed", "counted", "elsewhere", "missed", "rejected", "capped", "repeated")
        counts = {key: getattr(self, key) for key in names}
        half, most = np.quantile(self.rewound_s, (0.5, 0.95)).tolist() if self.rewound_s else (None, None)
        return {**counts, "median_rewound_s": half, "p95_rewound_s": most}


def claimed_hits(
    recording: Recording, on_progress: Callable[[float], None] | None = None
) -> dict[str, ClaimedHitStats]:
    """Return the results of claimed hits, by class of the line (steady, uneven, rough) and of all together.

    Unfair clients claim hits too, and a client that draws wrongly claims what it drew: a share of claimed hits that
    counted is about what honest players feel, no more. Raises `RecordingError` for what can't be read.
    """
    lines, rows = Lines(), dict[str, list[tuple[int, Ruling]]]()
    for place, flush in enumerate(recording.flushes):
        lines.take(recording.piece("pings", flush))
        claims = recording.piece("claims", flush)
        names = claims["connection"].to_pylist()
        victims: dict[int, tuple[str, int]] = {}
        for step, name, received in zip(
            claims["call_number"].to_pylist(), names, claims["received"].to_pylist(), strict=True
        ):
            claim = decode_claim(received)
            if isinstance(claim, (ShotClaim, MeleeClaim)) and claim.victim:
                victims[step] = name, claim.victim
        rulings = recording.piece("rulings", flush)
        for step, text in zip(rulings["call_number"].to_pylist(), rulings["ruling"].to_pylist(), strict=True):
            if step in victims:
                name, victim = victims.pop(step)
                rows.setdefault(line_class(lines.now.get(name)), []).append((victim, _RULING(text)))
        if on_progress is not None:
            on_progress((place + 1) / len(recording.flushes))
    everything = [row for each in rows.values() for row in each]
    return {name: _counted(each) for name, each in (*sorted(rows.items()), ("all", everything)) if each}


def view_windows_in(
    recording: Recording, level: Level | None = None, on_progress: Callable[[float], None] | None = None
) -> dict[str, ViewShoppingGain]:
    """Return the further hits of shots, had their clients chosen the view, by class of the line and all together.

    The match is ruled again for it. level : the recorded level, where the recording doesn't hold it. Raises as
    `replay` does.
    """
    choices, lines = Choices(), Lines()
    replay(recording, level=level, on_ruling=choices.take, on_progress=on_progress)
    for flush in recording.flushes:
        lines.take(recording.piece("pings", flush))
    rows: dict[str, ViewShoppingGain] = {}
    for connection, one in choices.gained.items():
        for name in (line_class(lines.now.get(connection)), "all"):
            rows[name] = rows.get(name, ViewShoppingGain()).plus(one)
    return rows


def _counted(rows: list[tuple[int, Ruling]]) -> ClaimedHitStats:
    counts, lost = Counter[str](), Counter[str]()
    came = len(rows)
    rows = [row for row in rows if counted_as(row[1]) != REPEATED]
    for victim, ruling in rows:
        met = [hit.victim for hit in ruling.hits]
        ruled = "counted" if victim in met else "elsewhere" if met else "missed"
        what = "rejected" if ruling.outcome == "rejected" else ruled
        counts[what] += 1
        codes = [finding.code for finding in ruling.findings]
        counts["capped"] += "over_rewind_limit" in codes
        if what != "counted":
            lost[codes[0] if codes else what] += 1
    rewound = tuple(ruling.rewound_s for _, ruling in rows if ruling.rewound_s is not None)
    return ClaimedHitStats(
        len(rows), counts["counted"], counts["elsewhere"], counts["missed"], counts["rejected"], counts["capped"],
        dict(lost.most_common()), rewound, came - len(rows),
    )  # fmt: skip
