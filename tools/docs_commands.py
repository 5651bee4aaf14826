"""Run every shell command of the guides, page by page, where what they talk of is at hand; docs_commands.py [PAGE...]

What they print is held against `printed.EXPECTED`. The scene: `evening`, a recorded match that was weighed; `matches`,
two short ones; `hero.gltf`, a character. Each page has its own copy. Blocks of `python scene` run there too.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from printed import complaint

ROOT = Path(__file__).resolve().parent.parent
BLOCKS = re.compile(r"^```(sh|python scene)\n(.*?)^```", re.S | re.M)
SERVES_S = 20.0
ASKING = ("tinclock explain", "tinclock replay", "tinclock info", "tinclock fairness")
"""What changes nothing is not done twice."""
WEIGHED = "tinclock weigh evening"
"""What several pages begin with is done once, in the scene."""


def main() -> None:
    """Stop at the first command that fails."""
    # the tour is run with the README
    pages = [Path(name) for name in sys.argv[1:]] or sorted(
        set((ROOT / "docs").glob("*.md")) - {ROOT / "docs" / "tour.md"}
    )
    environment = {**os.environ, "PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"}
    environment["COLUMNS"] = "300"  # no line is broken in the middle of what is looked for
    with tempfile.TemporaryDirectory() as name:
        scene, asked = Path(name) / "scene", {WEIGHED}
        make_scene(scene, environment)

        def do(page: Path) -> int:
            place, ran = Path(name) / page.stem, 0
            shutil.copytree(scene, place)
            for language, block in BLOCKS.findall(page.read_text(encoding="utf-8")):
                for line in block.splitlines() if language == "sh" else [block]:
                    command = line.split("  #")[0].strip()
                    if command in asked and (command.startswith(ASKING) or command == WEIGHED):
                        continue
                    asked.add(command)
                    run(page.name, language, line, place, environment)
                    ran += 1
            return ran

        with ThreadPoolExecutor(os.cpu_count()) as pool:  # each page has a place of its own
            ran = sum(pool.map(do, pages))
    print(f"{ran} commands ran")


def make_scene(folder: Path, environment: dict[str, str]) -> None:
    """Everything that the guides take for granted."""
    folder.mkdir()
    sys.path.insert(0, str(ROOT / "examples"))
    from bring_a_gltf import write_character

    write_character(folder / "hero.gltf")
    for name, seconds, seed in (("evening", 40, 70), ("matches/monday", 8, 1), ("matches/tuesday", 8, 2)):
        command = ["tinclock", "simulate", name, "--seconds", str(seconds), "--seed", str(seed)]
        subprocess.run(command, cwd=folder, env=environment, check=True, stdout=subprocess.DEVNULL)
    run("the scene", "sh", WEIGHED, folder, environment)


def run(page: str, language: str, text: str, place: Path, environment: dict[str, str]) -> None:
    """One command; one that serves must only begin to."""
    if language == "python scene":
        print(f"{page}: python block of {len(text.splitlines())} lines", flush=True)
        subprocess.run([sys.executable, "-W", "error", "-c", text], cwd=place, env=environment, check=True)
        return
    command = text.split("  #")[0].strip()
    if not command or command.startswith(("pip", "make")):
        return
    if "tinclock serve" in command or "tinclock watch" in command:
        print(f"{page}: {command}", flush=True)
        serve(command, place, environment, "listening" if "tinclock serve" in command else "taken in")
        return
    began = time.monotonic()
    done = subprocess.run(command, shell=True, cwd=place, env=environment, capture_output=True, text=True, check=False)
    print(f"{page}: {command}  # {time.monotonic() - began:.1f} s", flush=True)
    if done.returncode:
        sys.exit(f"{page}: {command}: status {done.returncode}\n{done.stdout}{done.stderr}")
    if wrong := complaint(command, done.stdout):
        sys.exit(f"{page}: {wrong}")


def serve(command: str, place: Path, environment: dict[str, str], ready: str) -> None:
    """Wait until something that doesn't end by itself says that it works, then end it."""
    name, equals, value = command.split(" ", 1)[0].partition("=")
    if equals:
        command, environment = command.split(" ", 1)[1], {**environment, name: value}
    process = subprocess.Popen(
        command.split(), cwd=place, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
    )
    told, until = "", time.monotonic() + SERVES_S
    try:
        while ready not in told and time.monotonic() < until:
            line = process.stdout.readline()
            told += line
            if not line:
                sys.exit(f"{command}: ended: {told}")
    finally:
        process.terminate()
        process.wait()


if __name__ == "__main__":
    main()
