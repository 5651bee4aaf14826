"""From a recorded match to a person's decision: weigh it, look at the queue, write the page, decide, check the log."""

from __future__ import annotations

import tempfile
from pathlib import Path

import tinclock
from tinclock.evidence import LogTip, observed_in, verify_log, write_case_page
from tinclock.sample import data_file


def main() -> None:
    """Do it with the sample that ships: a minute of four gardeners, one of whom claims four times its damage."""
    folder = Path(tempfile.mkdtemp())
    recording, calibration = tinclock.recordings.Recording(data_file("sample")), tinclock.evidence.load_calibration()
    weighing, findings = tinclock.evidence.MatchEvaluator(calibration, recording.require_header().rules), []
    store = tinclock.evidence.CaseStore(
        folder / "cases.db", on_case=lambda what, case: print(f"{what}: {case.account}")
    )
    with tinclock.evidence.EvidenceLog(folder / "log", sync="each") as log:
        for seen in observed_in(recording):
            gains = weighing.add(seen)
            findings += seen.findings
            log.append("finding", [{"ruling": number, "finding": finding} for number, finding in seen.findings])
            for gain in gains:
                if gain.decibans > 15.0:
                    print(f"{gain.server_time:5.1f} s: {gain.account}, {gain.kind}, {gain.decibans:+.0f} decibans")
        store.import_match("sample", weighing.finished(), calibration, findings, recording=str(recording.path))

        review = tinclock.evidence.CaseReview(
            store, log, on_decision=lambda decision, case: print("the game is told:", case.state)
        )
        (case,) = review.queue()
        print(f"{case.account}: {case.peak:.0f} decibans, {case.why}")
        page = write_case_page(folder / "case.html", review.dossier(case.account), calibration, limit=store.limit)
        print(f"page of {page.stat().st_size / 1e6:.0f} MB: open it in a browser")
        decision = review.decide(
            case.account, "confirmed", reviewer="ada", note="four times the damage, sixty times over"
        )
        head = LogTip(decision.log_number or 0, decision.log_digest or "")
    store.close()
    print(f"record {head.number} of the log holds the decision; wrong with it: {verify_log(folder / 'log', head)}")


if __name__ == "__main__":
    main()
