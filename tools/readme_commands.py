"""Run the shell commands of a Markdown file's ```sh blocks, except `make` ones, which CI runs by themselves."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path


def main() -> None:
    """Stop at the first command that fails."""
    text = Path(sys.argv[1]).read_text(encoding="utf-8")
    environment = {**os.environ, "PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"}
    ran = 0
    for block in re.findall(r"```sh\n(.*?)```", text, re.S):
        for line in block.splitlines():
            command = line.split("  #")[0].strip()
            if not command or command.startswith(("make", "pip", "git")):
                continue
            print("$", command, flush=True)
            subprocess.run(command, shell=True, check=True, env=environment, stdout=subprocess.DEVNULL)
            ran += 1
    print(f"{ran} commands ran")
    sys.exit(0 if ran else "no command found: the README has lost its examples")


if __name__ == "__main__":
    main()
