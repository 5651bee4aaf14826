"""Ways into the review desk: links from elsewhere, the browser's back button, and small screens."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import quote

import numpy as np
import pytest
from click.testing import CliRunner
from conftest import complaints, needs, open_browser, until
from test_review import Browser, Running

import tinclock
from tinclock.cli.main import main
from tinclock.garden.scenario import data_file
from tinclock.recordings import Recorder
from tinclock.review.access import Reviewer, Sessions, is_page
from tinclock.review.app import ReviewApp
from tinclock.review.watched import WatchedMatches

SAMPLE = Path(str(data_file("sample")))
TOKEN = "t" * 24
PHONE = {"width": 390, "height": 800, "deviceScaleFactor": 2, "mobile": True}


@pytest.mark.parametrize("way", ["a token", "an address of the console"])
def test_a_link_to_a_page_leads_there_after_signing_in(way):
    """Signing in goes on to the page that was asked for, with its query, once; without one to the first page."""
    app = ReviewApp(WatchedMatches([SAMPLE]), sessions := Sessions([Reviewer("eve", "decide", TOKEN)]))
    for asked in ("/case?account=a%20%3Cb%3E&x=1", "/match/sample", "/"):
        client = Browser(app.asgi)
        assert client.get(asked).headers["location"] == "/enter"
        if way == "a token":
            came = client.post("/enter", data={"token": TOKEN}, headers={"origin": "http://127.0.0.1"})
        else:
            came = client.get(f"/enter/{sessions.invite(sessions.reviewers[0])}")
        assert came.headers["location"] == asked
    assert Browser(app.asgi).get(f"/enter/{sessions.invite(sessions.reviewers[0])}").headers["location"] == "/"


@pytest.mark.parametrize(
    "path",
    ["//evil.example/", "/\\evil.example", "https://evil.example/", "/enter/word", "/leave", "/api/match", "/a\nb", ""],
)  # fmt: skip
def test_signing_in_leads_nowhere_else(path):
    """What a browser remembers is a page of this desk, whatever its cookie says."""
    assert not is_page(path)
    app = ReviewApp(WatchedMatches([SAMPLE]), sessions := Sessions([Reviewer("eve", "decide")]))
    cookie = {"cookie": f"tinclock_wanted={quote(path, safe='')}"}
    came = Browser(app.asgi).get(f"/enter/{sessions.invite(sessions.reviewers[0])}", headers=cookie)
    assert came.headers["location"] == "/"


@pytest.fixture(scope="module")
def evening(tmp_path_factory):
    """A match of two in which one leaves and comes back, and moves where it can't."""
    folder = tmp_path_factory.mktemp("links")
    rules = tinclock.load_rules(data_file("garden.toml"))
    with Recorder(folder / "evening", tinclock.Referee(rules, seed=3)) as match:
        rest = match.referee.history.rigs["gardener"].rest
        still = np.tile([0.0, 0.0, 0.0, 1.0], (len(rest), 1))

        def poses(count: int) -> list[np.ndarray]:
            return [np.hstack([rest + [-9.0 + 3.0 * k, 3.0, 0.0], still]) for k in range(count)]

        hazel = {"account": "hazel", "team": "copper", "rig": "gardener", "weapon": "grit_rifle"}
        ids = [match.admit(connection="h1", **hazel)]
        ids.append(match.admit(connection="b", **{**hazel, "account": "beryl", "team": "pewter"}))
        connection = "h1"
        for tick in range(64 * 4):
            if tick == 96:
                match.dismiss("h1", server_time=tick / 64)
                ids = [match.admit(connection="h2", **hazel), ids[1]]
                connection = "h2"
            match.record(tick, tick / 64, ids, poses(2))
            match.snapshot_sent(tick)
            match.advance(tick / 64)
            if tick % 16 == 15:
                place = ids[0] if tick % 32 == 15 else 9999
                shot = tinclock.claims.ShotClaim(
                    tick, place, "grit_rifle", (-9.0, 3.0, 1.6), (1.0, 0.0, 0.0), tinclock.View(tick - 5, tick - 4, 0.5)
                )
                match.rule(connection, shot, received_at=tick / 64)
                move = tinclock.claims.MoveClaim(tick + 1, ids[0], (40.0, 40.0, 0.0), 0.0)
                match.rule(connection, move, received_at=tick / 64)
    CliRunner().invoke(main, ["weigh", str(folder / "evening"), str(SAMPLE), "--store", str(folder / "cases")])
    team = f'[ada]\nrole = "decide"\ntoken = "{TOKEN}"\n'
    (folder / "team.toml").write_text(team)
    return folder


@needs("chromium")
def test_in_a_browser_a_link_survives_signing_in_and_back_goes_to_the_shot_before(evening, tmp_path):
    """A link with a shot in it opens that shot after the token was typed, and from a page of another site without one;
    back and forward go through shots; a player who came back is listed once; moves stand in the list on demand.
    """
    desk = Running(evening / "evening", "--store", evening / "cases", "--reviewers", evening / "team.toml")
    browser = open_browser(tmp_path)
    run = browser.execute_script
    try:
        recording = tinclock.recordings.Recording(evening / "evening")
        shots = [one.number for one in recording.rulings() if one.kind == "shot"]
        link = f"{desk.base}/match/evening#ruling={shots[3]}"
        browser.get(link)
        browser.find_element("name", "token").send_keys(TOKEN)
        browser.find_element("css selector", "button.strong").click()
        assert int(until(browser, "document.body.dataset.ruling")) == shots[3]
        assert browser.find_element("css selector", "h1").get_attribute("textContent") == "Match evening"
        names = [option.text for option in browser.find_elements("css selector", "#whose option")]
        assert sorted(names) == ["beryl", "hazel"]
        listed = "return viewer.list.shown.map(row => row.kind)"
        assert set(run(listed)) == {"shot"}
        run("document.querySelector('[name=claims]').value = 'all'; viewer.list.form.dispatchEvent(new Event('input'))")
        assert set(run(listed)) == {"shot", "move"}

        until(browser, f"location.hash.includes('ruling={shots[3]}')")
        for number in (shots[5], shots[7]):
            run(f"viewer.list.onChoose({number})")
            until(browser, f"location.hash.includes('ruling={number}')")
        for way, number in (("back", shots[5]), ("back", shots[3]), ("forward", shots[5])):
            run(f"history.{way}()")
            until(browser, f"viewer.state.ruling == {number} && document.body.dataset.ruling == '{number}'")
            assert f"ruling={number}" in run("return location.hash")
        assert complaints(browser) == []

        browser.get(f"data:text/html,<a href='{desk.base}/match/evening'>the ticket</a>")
        browser.find_element("css selector", "a").click()
        until(browser, "document.body.dataset.match == 'evening'")
    finally:
        browser.quit()
        desk.end()


@needs("chromium")
def test_pages_fit_a_phone(evening, tmp_path):
    """No page is wider than a phone's screen: the offline case page, the queue, a case, the matches and the viewer."""
    store = evening / "cases"
    name = "clover"  # inflates its damage in the sample, so its page has shots and charts
    page = tmp_path / "case.html"
    made = CliRunner().invoke(main, ["cases", "page", name, "--store", str(store), "--out", str(page)])
    assert made.exit_code == 0, made.output
    desk = Running(evening / "evening", SAMPLE, "--store", store)
    browser = open_browser(tmp_path)
    try:
        browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", PHONE)
        pages = [page.as_uri(), desk.address, f"{desk.base}/cases?state=all", f"{desk.base}/case?account={name}",
                 f"{desk.base}/match/evening", f"{desk.base}/compare?a=clover&b=hazel"]  # fmt: skip
        for address in pages:
            browser.get(address)
            until(browser, "document.readyState == 'complete'")
            if "case" in address and "cases" not in address:
                until(browser, "document.querySelector('.shot').dataset.drawn == 'yes'")
            wide = browser.execute_script("return document.documentElement.scrollWidth")
            assert wide <= 390, address
    finally:
        browser.quit()
        desk.end()
