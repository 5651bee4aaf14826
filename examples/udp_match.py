"""A server and three clients as processes, over UDP with lost and repeated datagrams; one leaves, one comes late.

Run it; it prints what each side saw. udp_match.py SECONDS plays for longer or shorter than four.
"""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

HERE = Path(__file__).resolve().parent / "udp"
SECONDS = float(sys.argv[1]) if len(sys.argv) > 1 else 4.0


def start(*arguments: object) -> subprocess.Popen[str]:
    """A process of this example."""
    run = [sys.executable, str(HERE / str(arguments[0])), *map(str, arguments[1:])]
    return subprocess.Popen(run, stdout=subprocess.PIPE, text=True, cwd=HERE)


def main() -> None:
    """Start them, let one go early and another one come late, and print what they say."""
    server = start("server.py", 3, 1.5 * SECONDS + 60.0)
    port = int(server.stdout.readline())
    clients = [start("client.py", "anvil", port, SECONDS), start("client.py", "beryls", port, SECONDS / 2)]
    time.sleep(SECONDS / 2)
    clients.append(start("client.py", "clovers", port, SECONDS))
    for client in clients:
        print(client.communicate(timeout=100)[0], end="")
    print(server.communicate(timeout=100)[0], end="")


if __name__ == "__main__":
    main()
