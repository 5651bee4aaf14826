"""Kill -9 at random moments while the evidence log is written: log_kills.py [KILLS]

A child appends findings in random batches, into small files so that they rotate, and prints each number once `append`
has returned it. It is killed; then the log must verify, hold every acknowledged record, and go on.
"""

from __future__ import annotations

import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from tinclock.cases.evidence_log import read_log
from tinclock.evidence import EvidenceLog, LogTip, verify_log

KILLS = int(sys.argv[1]) if len(sys.argv) > 1 else 500
CHILD = """
import random, sys
from tinclock.cases.evidence_log import EvidenceLog
rng = random.Random(int(sys.argv[2]))
log = EvidenceLog(sys.argv[1], sync=rng.choice(["each", "soon", "never"]), file_bytes=40_000)
print("ready", flush=True)
while True:
    many = range(rng.randrange(1, 9))
    bodies = [{"code": "fires_too_fast", "observed": rng.random(), "detail": "x" * rng.randrange(300)} for _ in many]
    print(log.append("finding", bodies), flush=True)
"""


def main() -> None:
    """Kill, look, go on."""
    rng, noted, torn, started = random.Random(7), LogTip(0, "0" * 64), 0, time.perf_counter()
    with tempfile.TemporaryDirectory() as folder:
        for kill in range(KILLS):
            child = subprocess.Popen(
                [sys.executable, "-c", CHILD, folder, str(kill)], stdout=subprocess.PIPE, text=True
            )
            child.stdout.readline()
            time.sleep(rng.uniform(0.0, 0.03))
            child.send_signal(signal.SIGKILL)
            said = [line for line in child.communicate()[0].split("\n")[:-1] if line.strip()]
            acknowledged = max([noted.number, *map(int, said)])
            with EvidenceLog(folder, sync="each") as log:
                torn += log.set_aside is not None
                if log.head.number < acknowledged:
                    raise SystemExit(
                        f"kill {kill}: {acknowledged} was acknowledged, the log ends with {log.head.number}"
                    )
                log.append("mark", [{"kill": kill}])
                head = log.head
            if kill % 25 == 24 or kill == KILLS - 1:
                problem = verify_log(folder, noted) or verify_log(folder, head)
                if problem:
                    raise SystemExit(f"kill {kill}: {problem}")
            noted = head
        records = sum(1 for _ in read_log(folder))
        files = len(list(Path(folder).glob("evidence-*.jsonl")))
    took = time.perf_counter() - started
    print(
        f"{KILLS} kills, {records:,} records in {files} files: none that was acknowledged is missing, the chain holds"
    )
    print(f"{torn} torn ends were set aside; {took:.0f} s")


if __name__ == "__main__":
    main()
