"""The logs of another server, in its own shape, to rulings, the evidence on each account, and a case page.

The "other server" is a garden match, written out as somebody else would have: look into the folder it prints.
"""

from __future__ import annotations

import tempfile
from collections import Counter
from pathlib import Path

import tinclock
from tinclock.evidence import observed_in, peak, weigh, write_case_page
from tinclock.logs import load_log_map, read_logs, record_logs
from tinclock.sample import simulate_match, write_foreign_logs


def main() -> None:
    """A match in which beryl's aim snaps, from foreign logs to a case page."""
    folder = Path(tempfile.mkdtemp())
    simulate_match(seed=7, seconds=18.0, players=4, cheats={"beryl": {"snap_aim": 1.0}}, record_to=folder / "evening")
    mapping_file = write_foreign_logs(tinclock.recordings.Recording(folder / "evening"), folder / "logs")

    mapping = load_log_map(mapping_file)  # which column is what, in which units and axes
    rules = tinclock.load_rules(folder / "logs" / mapping.rules)
    level = tinclock.load_level(folder / "logs" / str(mapping.level))
    logs = read_logs(mapping, folder / "logs", rules)
    found = record_logs(logs, rules, folder / "ruled", level=level, seed=mapping.seed)
    print("rows read:", logs.rows)
    print("ruled:", dict(Counter(ruling.outcome for _, ruling in found.rulings)))
    where, ruling = next(one for one in found.rulings if one[1].hits)
    print(f"{where}: {ruling.explain()}")

    calibration, recording = tinclock.evidence.load_calibration(), tinclock.recordings.Recording(folder / "ruled")
    timeline = weigh(observed_in(recording), calibration, recording.require_header().rules)
    for account in sorted(timeline.stages):
        print(f"{account}: {peak(timeline.points(account, calibration.kinds())):.1f} decibans at most")
    store = tinclock.evidence.CaseStore(folder / "cases.db")
    for case in store.import_match("ruled", timeline, calibration, recording=str(folder / "ruled")):
        dossier = tinclock.evidence.CaseReview(store).dossier(case.account)
        page = write_case_page(folder / "case.html", dossier, calibration, limit=store.limit)
        print(f"case opened: {case.account}, {case.why}; its page is {page.name}, {page.stat().st_size / 1e6:.1f} MB")
    store.close()


if __name__ == "__main__":
    main()
