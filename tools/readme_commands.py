"""Run the shell commands of some Markdown files' ```sh blocks, except `make` ones, which CI runs by themselves.

What they print is held against `EXPECTED`: a tour that ends with an empty queue exits with 0 as well.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

EXPECTED = {
    "tinclock contents evening --check": r"4 players; [\d,]+ rulings: .*upheld.*every file is as it was written",
    "tinclock explain demo-output/sample 49": r"The shot hit nobody: .*ruling 49: .*of clover .*finding damage_differs",
    "tinclock explain evening --kind shot --missed": r"The shot hit nobody: .*of (anvil|beryl|clover|dibber) .*\n  -> ",
    "tinclock rerule evening": r"the same, bit for bit",
    "tinclock rerule evening --set": r"rulings change.*view_capped",
    "tinclock doctor evening": r"Nothing shows on most accounts that shouldn't",
    "tinclock weigh evening": r"case opened: clover",
    "tinclock cases page clover": r"page clover.html",
    "tinclock cases list": r"clover +open .*1 open, ",
    "tinclock detection evening": r"inflate damage +1 +1 .*3 fair accounts.*0 got a case",
    "tinclock rule-logs logs/mapping.toml ruled": r"ruled: .*upheld.*recording ruled",
    "tinclock batch rerule": r"2 of 2 recordings came out as recorded",
    "tinclock check src": r"no mistakes, nothing unusual.*grit_rifle",
}
"""What a command's output must match, by how the command begins; the longest beginning counts."""


def main() -> None:
    """Stop at the first command that fails, or prints something else."""
    text = "\n".join(Path(file).read_text(encoding="utf-8") for file in sys.argv[1:])
    environment = {**os.environ, "PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"}
    environment["COLUMNS"] = "300"  # no line is broken in the middle of what is looked for
    ran, held = 0, set[str]()
    for block in re.findall(r"```sh\n(.*?)```", text, re.S):
        for line in block.splitlines():
            command = line.split("  #")[0].strip().replace(".venv/bin/", "")
            if not command or command.startswith(("make", "pip", "git")):
                continue
            print("$", command, flush=True)
            done = subprocess.run(command, shell=True, check=True, env=environment, capture_output=True, text=True)
            begins = max((b for b in EXPECTED if command.startswith(b)), key=len, default="")
            held.add(begins)
            if begins and not re.search(EXPECTED[begins], done.stdout, re.S):
                sys.exit(f"{command} printed something else than {EXPECTED[begins]!r}:\n{done.stdout}")
            ran += 1
    missing = set(EXPECTED) - held
    sys.exit(f"no such command any more: {', '.join(sorted(missing))}" if missing else 0 if ran else "no command found")


if __name__ == "__main__":
    main()
