"""Run the shell commands of some Markdown files' ```sh blocks, and hold what they print against `printed.EXPECTED`.

Left out: `make`, which CI runs by itself, the demo where `make demo` left its folder, and examples, which the tests run
(`tests/test_examples.py`).
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from pathlib import Path

from printed import complaint

LEFT_OUT = ("make", "pip", "git", "python examples/")


def main() -> None:
    """Stop at the first command that fails, or prints something else."""
    text = "\n".join(Path(file).read_text(encoding="utf-8") for file in sys.argv[1:])
    environment = {**os.environ, "PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"}
    environment["COLUMNS"] = "300"  # no line is broken in the middle of what is looked for
    ran = 0
    demo_is_there = Path("demo-output/sample").is_dir()
    for block in re.findall(r"```sh\n(.*?)```", text, re.S):
        for line in block.splitlines():
            command = line.split("  #")[0].strip().replace(".venv/bin/", "")
            if not command or command.startswith(LEFT_OUT):
                continue
            if command == "tinclock demo" and demo_is_there:
                continue
            began = time.monotonic()
            done = subprocess.run(command, shell=True, check=True, env=environment, capture_output=True, text=True)
            print(f"$ {command}  # {time.monotonic() - began:.1f} s", flush=True)
            if wrong := complaint(command, done.stdout):
                sys.exit(wrong)
            ran += 1
    sys.exit(0 if ran else "no command found")


if __name__ == "__main__":
    main()
