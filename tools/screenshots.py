"""Refresh docs/screenshots from demo data: figures from the library, terminal views from a window under Xvfb.

The terminal views need the programs Xvfb, xterm and import (ImageMagick); they are left as they are without them.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
SHOTS = ROOT / "docs" / "screenshots"
BIN = Path(sys.executable).parent
TERMINAL = (
    ("demo.png", "tinclock demo --limit 11"),
    (
        "why.png",
        "tinclock simulate short --seconds 5 && tinclock info short --check && tinclock explain evening {miss}",
    ),
    (
        "replay.png",
        "tinclock replay evening --set view.max_rewind_s=0.15 --no-deaths --limit 4; tinclock fairness evening",
    ),
    ("check.png", "tinclock check garden.toml mine.toml odd.toml --distance 8"),
    ("many.png", "tinclock batch weigh matches --out results"),
)

LARGE = ("many.png",)
"""Views of few lines, in larger letters."""


def main() -> None:
    """Draw everything again."""
    SHOTS.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as out:
        run = [str(BIN / "tinclock"), "demo", "--quiet", "--out", out]
        subprocess.run(run, check=True)
        for name in ("match", "shot", "views", "clock"):
            shutil.copy(Path(out) / f"{name}.png", SHOTS / f"{name}.png")
        subprocess.run(
            [*run[:-1], f"{out}/restless", "--seed", "9"], check=True
        )  # with views that were ruled elsewhere
        shutil.copy(Path(out) / "restless" / "bounds.png", SHOTS / "bounds.png")
        subprocess.run(
            [str(BIN / "tinclock"), "demo", "projectiles", "--json", "--out", out],
            check=True,
            stdout=subprocess.DEVNULL,
        )
        for name in ("mortar", "compensation"):
            shutil.copy(Path(out) / f"{name}.png", SHOTS / f"{name}.png")
        shutil.copy(Path(out) / "dart.png", SHOTS.with_name("drawings") / "dart.png")
        prepare(Path(out))
        numbers = questions(Path(out))
        if shutil.which("chromium") and shutil.which("chromedriver"):
            desk(Path(out), numbers)
        if all(shutil.which(program) for program in ("Xvfb", "xterm", "import")):
            for name, command in TERMINAL:
                photograph(command.format(**numbers), SHOTS / name, Path(out), large=name in LARGE)
        else:
            print("no Xvfb, xterm or import here: terminal views stay as they are", file=sys.stderr)


def prepare(out: Path) -> None:
    """The files that the terminal views work on: the garden's rules as they are, with mistakes, and unusual ones."""
    text = (ROOT / "src" / "tinclock" / "garden" / "data" / "garden.toml").read_text(encoding="utf-8")
    (out / "garden.toml").write_text(text, encoding="utf-8")
    wrong = text.replace("damage = 17.0", "damge = 17.0").replace("range_m = 60.0", 'range_m = "far"')
    (out / "mine.toml").write_text(wrong.replace("history_s = 1.0", "history_s = 0.2", 1), encoding="utf-8")
    odd = text.replace("[[12.0, 1.0], [40.0, 0.5]]", "[[12.0, 0.5], [40.0, 1.0]]").replace(
        "head = 2.5, ", "hat = 2.5, "
    )
    (out / "odd.toml").write_text(odd, encoding="utf-8")


def questions(out: Path) -> dict[str, Any]:
    """Play a match into a file, and draw what it was asked; returns the numbers of the rulings that were chosen."""
    run = str(BIN / "tinclock")
    subprocess.run(
        [run, "simulate", "evening", "--players", "16", "--seed", "3"], check=True, cwd=out, stdout=subprocess.DEVNULL
    )
    subprocess.run(
        [run, "fairness", "evening", "--sweep", "0:0.4:0.05", "--image", str(SHOTS / "fairness.png"), "--json"],
        check=True, cwd=out, stdout=subprocess.DEVNULL,
    )  # fmt: skip
    numbers = chosen(out / "evening")
    bring_your_own(out)
    return {**numbers, "cheating": review(out)}


def bring_your_own(out: Path) -> None:
    """Matches for a batch, one of them torn; a character, whose fit is drawn."""
    sys.path.insert(0, str(ROOT / "examples"))
    from bring_a_gltf import write_character

    run = str(BIN / "tinclock")
    write_character(out / "hero.gltf")
    commands = [[run, "simulate", f"matches/m{k}", "--seconds", "30", "--seed", str(k)] for k in range(6)]
    commands.append([run, "rig", "hero.gltf", "--image", str(SHOTS / "rig.png"), "--json"])
    for command in commands:
        subprocess.run(command, check=True, cwd=out, stdout=subprocess.DEVNULL)
    (out / "matches" / "m5" / "flushes.jsonl").unlink()


def review(out: Path) -> str:
    """Weigh a match with cheating players; returns the account whose case is shown."""
    run, cheating = str(BIN / "tinclock"), "clover"
    lies = (
        "clover=inflate_damage:0.5",
        "gorse=aim_through_walls:1",
        "beryl=snap_aim:0.25",
        "elder=hold_back:0.5",
        "dibber=frozen_health:0.5",
    )
    play = [run, "simulate", "night", "--players", "8", "--seconds", "120", "--seed", "21"]
    for arguments in (
        [*play, *(word for lie in lies for word in ("--cheat", lie))],
        [run, "weigh", "night", "--server-name", "garden-1"],
    ):
        subprocess.run(arguments, check=True, cwd=out, stdout=subprocess.DEVNULL)
    return cheating


def desk(out: Path, numbers: dict[str, Any]) -> None:
    """Photograph the review desk in Chromium: the viewer with a ruling, two screens, the queue, a case.

    Needs Chromium, its driver, and `pip install selenium`.
    """
    from selenium import webdriver
    from selenium.webdriver.chrome.service import Service
    from selenium.webdriver.support.wait import WebDriverWait

    command = [
        str(BIN / "tinclock"),
        "review",
        "evening",
        "night",
        "--store",
        "cases",
        "--port",
        "0",
        "--reviewer",
        "ada",
    ]
    served = subprocess.Popen(command, cwd=out, stdout=subprocess.PIPE, text=True)
    assert served.stdout is not None
    address = served.stdout.readline().split()[1]
    base = address.split("/enter")[0]
    options = webdriver.ChromeOptions()
    options.binary_location = shutil.which("chromium") or ""
    for flag in ("headless=new", "no-sandbox", "disable-gpu", "enable-unsafe-swiftshader", "no-first-run",
                 "hide-scrollbars", "disable-background-networking", "disable-component-update"):  # fmt: skip
        options.add_argument(f"--{flag}")
    browser = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))
    size = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)

    def take(name: str, path: str, ready: str) -> None:
        browser.get("about:blank")
        browser.get(base + path)
        WebDriverWait(browser, 120).until(lambda b: b.execute_script(f"return {ready}"))
        time.sleep(2.0)
        browser.save_screenshot(str(SHOTS / name))

    try:
        browser.get(address)
        chosen_one = "document.body.dataset.ruling && document.body.dataset.marks"
        take("viewer.png", f"/match/evening#ruling={numbers['miss']}", chosen_one)
        take("screens.png", f"/match/evening#ruling={numbers['seen']}&camera=screens", chosen_one)
        take("queue.png", "/cases", "document.querySelector('.queue')")
        take("case.png", f"/case?account={numbers['cheating']}", "document.querySelector('.shot').dataset.drawn")
    finally:
        browser.quit()
        served.terminate()
        served.wait()


def chosen(folder: Path) -> dict[str, int]:
    """Rulings that show something: a near miss, a wall, a capped view, a hit that was rewound far."""
    from tinclock.core.analysis.miss_explanation import explain_miss
    from tinclock.recordings.history_slice import history_around
    from tinclock.recordings.recording import Recording

    source, numbers = Recording(folder), dict[str, int]()
    for ruling in source.rulings():
        codes = [finding.code for finding in ruling.findings]
        hit = ruling.hits[0] if ruling.hits and not codes and ruling.weapon == "grit_rifle" else None
        if "seen" not in numbers and hit and (ruling.rewound_s or 0.0) > 0.12 and 5.0 < hit.distance_m < 12.0:
            numbers["seen"] = ruling.number
        if ruling.kind != "shot" or ruling.hits or not ruling.account or ruling.weapon != "grit_rifle":
            continue
        if "capped" not in numbers and codes[:2] == ["over_rewind_limit", "victim_differs"]:
            numbers["capped"] = ruling.number
        if codes or ("miss" in numbers and "wall" in numbers):
            continue
        found = explain_miss(history_around(source, ruling), ruling)
        if found.behind is not None and found.behind.along_m < 20.0 and found.surface != "glass":
            numbers.setdefault("wall", ruling.number)
        elif (
            found.near is not None and found.near.gap_m < 0.2 and found.near.along_m < 14.0 and found.other is not None
        ) and abs(found.other.older_s) < 0.08:
            numbers.setdefault("miss", ruling.number)
    return numbers


def photograph(command: str, target: Path, where: Path, display: str = ":93", large: bool = False) -> None:
    """A 1280x800 picture of a terminal window after a command has run in it."""
    server = subprocess.Popen(["Xvfb", display, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(1.0)
        done = target.with_suffix(".done")
        shell = f"cd {where}; PATH={BIN}:$PATH; echo '$ {command}'; {command}; touch {done}; sleep 60"
        size, lines = ("16", "98x31+0+0") if large else ("10", "158x50+0+0")
        look = ["-geometry", lines, "-fa", "DejaVu Sans Mono", "-fs", size, "-bg", "#1f2529", "-fg", "#e8e4da"]
        terminal = subprocess.Popen(["xterm", "-display", display, *look, "-e", "bash", "-c", shell])
        for _ in range(240):
            if done.exists():
                break
            time.sleep(0.5)
        time.sleep(1.0)
        subprocess.run(["import", "-display", display, "-window", "root", str(target)], check=True)
        done.unlink(missing_ok=True)
        terminal.terminate()
    finally:
        server.terminate()
        server.wait()


if __name__ == "__main__":
    main()
