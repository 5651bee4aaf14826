"""The match viewer and the review desk in Chromium: first picture, frames a second, seeking, ten thousand cases.

    python benchmarks/viewer.py [RECORDING]

Without a recording a match of 16 players over a minute is played first. The goals are for one over ten minutes, on a
machine without a graphics card. Needs Chromium, its driver and selenium.
"""

from __future__ import annotations

import asyncio
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import httpx

import tinclock
from tinclock.cases.store import CaseStore
from tinclock.review.access import Reviewer, Sessions
from tinclock.review.app import ReviewApp
from tinclock.review.watched import WatchedMatches

TINCLOCK = [sys.executable, "-m", "tinclock"]
SEEK = """
const done = arguments[0], share = arguments[1];
const line = document.getElementById("timeline"), box = line.getBoundingClientRect();
document.body.dataset.drawn = "";
const began = performance.now();
for (const kind of ["pointerdown", "pointerup"]) line.dispatchEvent(new PointerEvent(kind, {bubbles: true,
  pointerId: 1, clientX: box.left + share * box.width, clientY: box.top + 70}));
const look = () => document.body.dataset.drawn === "yes"
  ? done(performance.now() - began) : requestAnimationFrame(look);
look();
"""


def browser() -> Any:
    """Chromium at 1280x800 that draws with the processor."""
    from selenium import webdriver
    from selenium.webdriver.chrome.service import Service

    options = webdriver.ChromeOptions()
    options.binary_location = shutil.which("chromium") or ""
    for flag in ("headless=new", "no-sandbox", "disable-gpu", "enable-unsafe-swiftshader", "window-size=1280,800"):
        options.add_argument(f"--{flag}")
    made = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))
    size = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    made.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    return made


def until(page: Any, script: str) -> None:
    """Wait for an expression to be true."""
    while not page.execute_script(f"return {script}"):
        time.sleep(0.01)


def viewer(recording: Path) -> None:
    """The match viewer's figures."""
    served = subprocess.Popen([*TINCLOCK, "review", str(recording), "--port", "0"], stdout=subprocess.PIPE, text=True)
    assert served.stdout is not None
    address = served.stdout.readline().split()[1]
    match = f"{address.split('/enter')[0]}/match/{recording.name}"
    time.sleep(6.0)  # kernels are loaded meanwhile
    page = browser()
    try:
        page.get(address)
        firsts = []
        for turn in range(3):
            began = time.perf_counter()
            page.get(f"{match}?{turn}")
            until(page, "document.body.dataset.drawn == 'yes'")
            firsts.append(time.perf_counter() - began)
        until(page, "document.body.dataset.marks")
        print(f"first picture: {min(firsts):.2f} to {max(firsts):.2f} s (goal 1.5)")
        page.execute_script("document.getElementById('play').click()")
        time.sleep(4.0)  # it finds the detail that it can draw
        frames = page.execute_script("return viewer.frames()")
        time.sleep(5.0)
        rate = (page.execute_script("return viewer.frames()") - frames) / 5.0
        sharp = page.execute_script("return viewer.stage.sharpness")
        print(f"playing: {rate:.0f} frames a second with {100 * sharp:.0f} % of the pixels each way (goal 50)")
        page.execute_script("document.getElementById('play').click()")
        seeks = []
        for k in range(12):
            seeks.append(page.execute_async_script("const args = [arguments[1], arguments[0]]; "
                         f"(function () {{ {SEEK} }}).apply(null, args);", ((k * 7) % 12 + 0.5) / 12.0))  # fmt: skip
            time.sleep(0.5)
        print(f"seeking: median {statistics.median(seeks):.0f} ms, longest {max(seeks):.0f} ms (goal 150)")
    finally:
        page.quit()
        served.terminate()
        served.wait()


def queue(folder: Path) -> None:
    """The queue among ten thousand cases, through the whole application."""
    store = CaseStore(folder / "cases.db")
    with store.write() as connection:
        accounts = [(f"account-{k}", 0, 0, 1, 5, 40, 30 + k % 97) for k in range(10_000)]
        connection.exec_driver_sql("INSERT INTO accounts VALUES (?, ?, ?, ?, ?, ?, ?)", accounts)
        connection.exec_driver_sql(
            'INSERT INTO cases (id, account, state, opened_at, opened_in, changed_at, decibans, peak, "limit", kinds, '
            "why) VALUES (?, ?, 'open', ?, 'm', 0, 40, ?, 30, '{\"fires_too_fast\": 40.0}', 'w')",
            [(k + 1, f"account-{k}", time.time() - 60.0 * k, 30 + k % 97) for k in range(10_000)],
        )
    sessions = Sessions([Reviewer("ada", "decide")])
    app = ReviewApp(WatchedMatches([folder]), sessions, store=store, calibration=tinclock.evidence.load_calibration())
    client = httpx.AsyncClient(transport=httpx.ASGITransport(app.asgi), base_url="http://127.0.0.1")
    asyncio.run(client.get(f"/enter/{sessions.invite(sessions.reviewers[0])}"))
    times = []
    for path in ("/cases", "/cases?page=150", "/cases?q=count-77", "/cases", "/cases?state=all"):
        began = time.perf_counter()
        assert asyncio.run(client.get(path)).status_code == 200
        times.append(time.perf_counter() - began)
    print(f"10,000 cases: the queue in {1e3 * min(times):.0f} to {1e3 * max(times):.0f} ms (goal 200)")
    store.close()


def main() -> None:
    """All of it."""
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        recording = Path(sys.argv[1]).resolve() if len(sys.argv) > 1 else folder / "evening"
        if not recording.exists():
            play = [*TINCLOCK, "simulate", str(recording), "--players", "16"]
            subprocess.run(play, check=True, stdout=subprocess.DEVNULL)
        queue(folder)
        viewer(recording)


if __name__ == "__main__":
    main()
