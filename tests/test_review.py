"""The review desk: what is shown, who may look and decide, and that a browser can do all of it."""

from __future__ import annotations

import asyncio
import json
import math
import os
import re
import select
import signal
import subprocess
import sys
import time
from contextlib import ExitStack
from pathlib import Path

import httpx
import msgspec
import numpy as np
import pytest
from conftest import INSIDE, asked_of, complaints, needs, open_browser, until

import tinclock
from tinclock.cases.checking import problems_of
from tinclock.cases.evidence_log import verify_log
from tinclock.cases.review import CaseReview
from tinclock.cases.store import CaseStore
from tinclock.cli.main import main
from tinclock.core.analysis.otherwise import otherwise
from tinclock.core.errors import EvidenceError
from tinclock.garden.scenario import data_file
from tinclock.recordings.heard import heard
from tinclock.recordings.history_slice import history_around
from tinclock.recordings.recording import Recording
from tinclock.recordings.replaying import replay
from tinclock.report.shot_scene import Shown, scene_of
from tinclock.review.access import COOKIE, SESSION_S, Reviewer, Sessions
from tinclock.review.app import ReviewApp
from tinclock.review.watched import Watched, WatchedMatches
from tinclock.review.windows import window_of
from tinclock.serve.stand_in import StandInReceiver

MARKUP = "<img src=x onerror=alert(1)></script>"
GONE = "<b>gone</b>"
WILD = "\u202eevil\x1b[2J"
SAMPLE = Path(str(data_file("sample")))


@pytest.fixture(scope="module")
def store(tmp_path_factory):
    """The sample, weighed into a store that also has accounts of strange names."""
    folder = tmp_path_factory.mktemp("desk") / "cases"
    main(["weigh", str(SAMPLE), "--store", str(folder)], standalone_mode=False)
    with CaseStore(folder / "cases.db").write() as connection:  # a name may be anything
        for row, name in enumerate((MARKUP, WILD, GONE, "ada", "bob"), 1000):
            connection.exec_driver_sql("INSERT INTO accounts VALUES (?, 0, 0, 1, 5, 40, 40)", (name,))
            connection.exec_driver_sql(
                "INSERT INTO cases (id, account, state, opened_at, opened_in, changed_at, decibans, peak, "
                '"limit", kinds, why) VALUES (?, ?, ?, 0, ?, 0, 40, 40, 30, ?, ?)',
                (row, name, "open", "m", '{"fires_too_fast": 40.0}', "w"),
            )
    return folder


class Browser:
    """Asks an application without a socket, and keeps its cookies; follows nothing by itself."""

    def __init__(self, app) -> None:
        self._client = httpx.AsyncClient(transport=httpx.ASGITransport(app), base_url="http://127.0.0.1")

    def get(self, path: str, **more):
        return asyncio.run(self._client.get(path, **more))

    def post(self, path: str, **more):
        return asyncio.run(self._client.post(path, **more))


class Desk:
    """A desk without a socket. lets in : somebody, as a browser that keeps its cookie"""

    def __init__(self, store: Path | None, *reviewers: Reviewer, matches: WatchedMatches | None = None) -> None:
        self.sessions = Sessions(reviewers or [Reviewer("eve", "decide")])
        self.store = None if store is None else CaseStore(store / "cases.db")
        calibration = tinclock.evidence.load_calibration()
        self.app = ReviewApp(
            matches or WatchedMatches([SAMPLE]),
            self.sessions,
            store=self.store,
            log_folder=None if store is None else store / "log",
            calibration=calibration,
        )

    def let_in(self, name: str = "eve") -> Browser:
        client = Browser(self.app.asgi)
        reviewer = next(one for one in self.sessions.reviewers if one.name == name)
        assert client.get(f"/enter/{self.sessions.invite(reviewer)}").status_code == 303
        return client

    def change(self, client: Browser, account: str, **form: str):
        page = client.get("/case", params={"account": account}).text
        found = {key: re.search(f'name="{key}" value="([^"]*)"', page) for key in ("csrf", "after")}
        sent = {key: match.group(1) for key, match in found.items() if match} | {"account": account} | form
        return client.post("/case/change", data=sent, headers={"origin": "http://127.0.0.1"})


# -- what is shown --------------------------------------------------------------------------------------------------


def test_what_plays_is_what_was_ruled_on():
    """Every body of every window has the poses that the recording holds, for every tick of it, once and in order."""
    watched = WatchedMatches([SAMPLE]).open("sample")
    held = {entity: {} for entity in range(1, 40)}
    for flush in watched.recording.flushes:
        for entity, poses in watched.recording.poses(flush).items():
            held[entity].update(zip(poses.ticks.tolist(), poses.poses, strict=True))
    seen = set()
    for number in range(int(watched.recording.ends_at_s) + 1):
        data = window_of(watched, number)
        length = int.from_bytes(data[:4], "little")
        head, numbers = json.loads(data[4 : 4 + length]), np.frombuffer(data[4 + length :], np.float32)
        assert (4 + length) % 8 == 0
        assert all(a < b for a, b in zip(head["times"], head["times"][1:], strict=False))
        for body in head["bodies"]:
            count = 7 * body["bones"]
            for row, tick in enumerate(head["ticks"]):
                at = body["at"] + row * count
                there = body["there"] is True or body["there"][row]
                assert bool(there) == (tick in held[body["entity"]])
                if there:
                    assert np.allclose(numbers[at : at + count], held[body["entity"]][tick].ravel(), atol=1e-5)
                    seen.add((body["entity"], tick))
    assert len(seen) == sum(map(len, held.values()))


def test_a_shot_that_is_cast_again_at_its_own_view_meets_whom_it_met():
    """At the view that a shot was ruled at, "what if" says what the ruling says: whom, which part, how far."""
    recording, checked_shots = Recording(SAMPLE), 0
    level = recording.level()
    shots = [r for r in recording.rulings() if r.kind == "shot" and r.view is not None and r.outcome != "rejected"]
    for ruling in shots[::11]:
        found = otherwise(history_around(recording, ruling, level), ruling, ruling.view)
        first = ruling.hits[0] if ruling.hits else None
        assert (found.entity, found.part) == ((first.victim, first.part) if first else (0, ""))
        if first:
            assert math.isclose(found.distance_m, first.distance_m, abs_tol=1e-9)
        assert f"{1000 * ruling.rewound_s:.0f} ms" in found.describe({})
        checked_shots += first is not None
    assert checked_shots > 5


def test_a_line_over_time_is_what_the_match_itself_knew():
    """Round trips, jitter and the estimated display delay of a connection end where those of a replay end."""
    recording, last = Recording(SAMPLE), {}

    def note(referee, ruling, claim):
        last["referee"] = referee

    replay(recording, on_ruling=note)
    roster = last["referee"]._roster
    for name, line in roster.connections.items():
        told = heard(recording, name)
        assert len(told.trips) == line.clock.answers > 10
        assert math.isclose(told.trips[-1].jitter_s, line.clock.jitter_s, rel_tol=1e-9)
        assert math.isclose(told.told[-1].clock_lag_s, line.lag.lag_s, rel_tol=1e-9)
        assert all(one.newest_s <= one.oldest_s for one in told.views)


def test_a_scene_says_what_differs_and_never_takes_a_door_for_the_target():
    """Of every shot with a finding the claimed and the possible number are in view; doors are cover."""
    recording = Recording(SAMPLE)
    names, teams = recording.names(), recording.teams()
    wanted = [r for r in recording.rulings() if r.kind == "shot" and r.findings][::6]
    told = 0
    for ruling in wanted:
        scene = scene_of(Shown(recording, ruling.number), names, teams)
        json.dumps(scene, allow_nan=False)
        measured = [f for f in ruling.findings if f.observed is not None and f.limit is not None]
        assert [row["code"] for row in scene["differs"]][: len(measured)] == [f.code for f in measured]
        told += len(measured)
        for body in scene.get("bodies", []):
            assert (body["role"] == "cover") == (names[body["entity"]] == "shed door")
        assert scene["answer"] == ruling.answer(names, Shown(recording, ruling.number).why.because(names))
    assert told > 5


def test_what_happened_comes_once_whatever_becomes_of_the_files(tmp_path):
    """Asked for step after step, every shot comes once, also when the files are put together meanwhile."""
    match = tmp_path / "match"
    main(["simulate", str(match), "--players", "3", "--seconds", "4", "--json"], standalone_mode=False)
    recording = Recording(match)
    wanted = [
        r.number for r in recording.rulings() if r.kind in ("shot", "melee", "launch", "impact", "projectile", "use")
    ]
    split = Split(recording)
    looking = Desk(None, matches=WatchedMatches([match])).app.looking
    watched = looking.matches.open("match")
    watched.refresh = lambda: False
    found, at = [], 0
    for whole in (False, False, True, True, True):
        watched.recording = recording if whole else split
        told = json.loads(looking.marks(Asked(match.name, at)).body)
        found += [row[0] for row in told["rows"] if row[2] != "move"]
        at = told["next"]
    assert told["done"]
    assert [number for number in found if number in set(wanted)] == wanted
    assert len(found) == len(set(found))


def test_files_that_vanish_under_a_question_are_looked_for_again(tmp_path, monkeypatch):
    """A match that is put together between a look and a read is shown all the same; lost files are told."""
    rules, path = tinclock.load_rules(data_file("garden.toml")), tmp_path / "match"
    match = tinclock.recordings.Recorder(path, tinclock.Referee(rules, seed=3), flush_s=0.25)
    entity = match.admit(connection="s", account="ada", team="copper", rig="gardener")
    bones = tinclock.rooted_bones(match.referee.history.rigs["gardener"], [[0, 0, 0, 0, 0, 0, 1.0]])
    for tick in range(192):
        match.record(tick, tick / 64, [entity], bones)
    match.close(compact=False)
    desk = Desk(None, matches=WatchedMatches([path]))
    client = desk.let_in()
    assert client.get("/api/match/match").json()["flushes"] > 8
    match.compact()
    looks, look = [], Watched.refresh
    monkeypatch.setattr(Watched, "refresh", lambda self: looks.append(1) or (len(looks) > 1 and look(self)))
    assert client.get("/api/match/match/window/0").status_code == 200
    assert len(looks) > 1
    for file in path.glob("*/*.parquet"):
        file.unlink()
    assert "can't be read" in client.get("/api/match/match/marks").json()["error"]


class Split:
    """A recording as it was before its files were put together: many flushes, of which each holds a few steps."""

    def __init__(self, recording: Recording) -> None:
        self._whole = recording
        self.flushes = []
        for flush in recording.flushes:
            steps = range(flush.first_call, flush.next_call, 300)
            self.flushes += [
                msgspec.structs.replace(flush, first_call=step, next_call=min(step + 300, flush.next_call))
                for step in steps
            ]

    def piece(self, table: str, flush):
        whole = next(one for one in self._whole.flushes if one.first_call <= flush.first_call < one.next_call)
        rows = self._whole.piece(table, whole)
        steps = rows["call_number"].to_numpy()
        return rows.filter((steps >= flush.first_call) & (steps < flush.next_call))

    def __getattr__(self, name: str):
        return getattr(self._whole, name)

    def events_of(self, flush, since_call: int = 0):
        return Recording.events_of(self, flush, since_call)


class Asked:
    """A request for marks, as far as the answer looks at it."""

    def __init__(self, name: str, begin: int) -> None:
        self.path_params, self.query_params = {"name": name}, {"from": str(begin)}


def test_every_name_of_the_drawing_library_is_in_the_file_that_ships():
    """What our drawing code uses of three.js is exported by the vendored file."""
    drawing = Path(tinclock.__file__).with_name("report") / "drawing"
    exports = (drawing / "vendor" / "three.js").read_text().rsplit("export{", 1)[1]
    exported = set(re.findall(r" as (\w+)", exports))
    pages = [*drawing.glob("*.js"), *(drawing.parents[1] / "review" / "static").glob("*.js")]
    used = {name for page in pages for name in re.findall(r"\bTHREE\.([A-Z]\w+)", page.read_text())}
    assert len(used) > 15
    assert used <= exported, sorted(used - exported)


# -- who may look and who may decide --------------------------------------------------------------------------------


def test_nobody_comes_in_without_an_address_and_each_works_once(store):
    """Pages and questions need a session; an address lets one browser in; the cookie can't be read by scripts."""
    desk = Desk(store)
    stranger = Browser(desk.app.asgi)
    assert stranger.get("/cases").headers["location"] == "/enter"
    assert stranger.get("/api/match/sample").status_code == 401
    word = desk.sessions.invite(desk.sessions.reviewers[0])
    cookie = stranger.get(f"/enter/{word}").headers["set-cookie"].lower()
    assert "httponly" in cookie
    assert "samesite=lax" in cookie
    assert stranger.get("/cases").status_code == 200
    other = Browser(desk.app.asgi)
    assert other.get(f"/enter/{word}").status_code == 403
    left = stranger.post("/leave", headers={"origin": "http://127.0.0.1"})
    assert left.status_code == 303
    assert stranger.get("/cases").status_code == 303


@pytest.mark.parametrize(
    ("headers", "status"),
    [({"host": "evil.example"}, 421), ({"host": "evil.example", "origin": "http://evil.example"}, 421),
     ({"origin": "http://evil.example"}, 403), ({}, 403), ({"origin": "null"}, 403)],
)  # fmt: skip
def test_another_page_can_neither_reach_nor_change_anything(store, headers, status):
    """A foreign Host or Origin is refused, whatever cookie comes with it, and nothing was decided."""
    desk = Desk(store)
    client = desk.let_in()
    before = desk.app.desk.review.dossier("clover")
    sent = {"account": "clover", "do": "confirmed", "note": "x"}
    assert client.post("/case/change", data=sent, headers=headers).status_code == status
    assert desk.app.desk.review.dossier("clover") == before


def test_a_form_needs_its_word_and_a_role(store):
    """Without the word of its own session a form changes nothing; who may only look changes nothing."""
    desk = Desk(store, Reviewer("eve", "decide"), Reviewer("rob", "read", "r" * 20))
    eve, rob = desk.let_in(), desk.let_in("rob")
    before = desk.app.desk.review.dossier("ada")
    assert "another session" in desk.change(eve, "ada", do="cleared", note="x", csrf="guess").text
    page = rob.get("/case", params={"account": "ada"}).text
    assert "You have view-only access" in page
    assert "/case/change" not in page
    assert desk.change(rob, "ada", do="cleared", note="x").status_code == 403
    token = Browser(desk.app.asgi)
    for word, status in (("wrong", 403), ("r" * 20, 303)):
        sent = token.post("/enter", data={"token": word}, headers={"origin": "http://127.0.0.1"})
        assert sent.status_code == status
    assert desk.app.desk.review.dossier("ada") == before


def forms_of(desk: Desk, client: Browser) -> dict[str, str]:
    """A form with the word of the browser's own session."""
    session = desk.sessions.of(client._client.cookies)
    return {"account": "ada", "do": "cleared", "note": "x", "csrf": session.csrf, "after": "0"}


def test_a_reader_with_the_right_word_still_changes_nothing(store):
    """The role is checked by itself: a read-only reviewer who knows the session's word is refused."""
    desk = Desk(store, Reviewer("eve", "decide"), Reviewer("rob", "read", "r" * 20))
    rob = desk.let_in("rob")
    answer = rob.post("/case/change", data=forms_of(desk, rob), headers={"origin": "http://127.0.0.1"})
    assert (answer.status_code, "has view-only access" in answer.text) == (403, True)


@pytest.mark.parametrize("headers", [{"origin": "http://evil.example"}, {}, {"origin": "null"}])
def test_a_form_from_another_origin_is_refused_whatever_it_carries(store, headers):
    """The origin is checked by itself: a foreign page that knows the session's word is refused."""
    desk = Desk(store)
    eve = desk.let_in()
    before = desk.app.desk.review.dossier("ada")
    answer = eve.post("/case/change", data=forms_of(desk, eve), headers=headers)
    assert (answer.status_code, desk.app.desk.review.dossier("ada")) == (403, before)


def test_a_session_ends_by_itself():
    """A cookie is worth nothing once its session's time is over."""
    now = [1000.0]
    sessions = Sessions([Reviewer("eve", "decide")], lambda: now[0])
    cookies = {COOKIE: sessions.come_in(sessions.invite(sessions.reviewers[0]))}
    assert sessions.of(cookies) is not None
    now[0] += SESSION_S - 1.0
    assert sessions.of(cookies) is not None
    now[0] += 2.0
    assert sessions.of(cookies) is None


def test_every_answer_carries_a_policy_that_allows_no_script_of_anybody_else(store):
    """Pages hold no inline script; the policy allows only the desk's own files; names are text, whatever is in them."""
    client = Desk(store).let_in()
    for path in (
        "/",
        "/cases",
        "/match/sample",
        "/case?account=clover",
        "/compare?a=clover&b=ada",
        "/nothing",
        "/static/case.js",
    ):
        answer = client.get(path)
        assert "script-src 'self';" in answer.headers["content-security-policy"]
        assert "unsafe" not in answer.headers["content-security-policy"]
        inline = re.findall(
            r"<script(?![^>]*(?:src=|application/json))[^>]*>", answer.text if "static" not in path else ""
        )
        assert inline == []
    for name in (MARKUP, WILD):
        for text in (client.get("/cases").text, client.get("/case", params={"account": name}).text):
            assert name not in text
    assert "&lt;img src=x onerror=alert(1)&gt;" in client.get("/cases", params={"state": "all"}).text
    assert "\\u202eevil\\x1b" in client.get("/cases").text


@pytest.mark.parametrize(
    "path",
    ["/match/..%2f..%2fetc", "/api/match/nothing", "/api/match/sample/window/999999", "/api/match/sample/marks?from=-1",
     "/api/match/sample/marks?from=99999999999", "/api/match/sample/ruling/999999", "/api/match/sample/line/77",
     "/static/../app.py", "/static/%2e%2e/access.py", "/case?account=nobody", "/cases?state=gone", "/export?what=all",
     "/api/match/sample/ruling/60/if?cap_ms=1e9", "/api/case/shot?match=../sample&number=1",
     f"/api/case/shot?match=sample&number={'9' * 5000}", f"/api/match/sample/ruling/{'9' * 300}",
     f"/api/match/sample/line/{'9' * 300}", f"/api/match/sample/window/{'9' * 300}",
     f"/api/match/sample/marks?from={'9' * 5000}"],
)  # fmt: skip
def test_what_isnt_there_is_said_and_never_raises(store, path):
    """Wrong names, numbers out of bounds and ways out of the folder are refused in words."""
    client = Desk(store).let_in()
    answer = client.get(path)
    assert answer.status_code in (404, 422), answer.text
    assert "Traceback" not in answer.text
    assert "def " not in answer.text


def test_numbers_and_words_of_any_length_and_letters_are_answered(store):
    """Thousands of digits, a word that isn't ASCII, and a decision that never was: no answer is a fault of ours."""
    desk = Desk(store)
    eve, many = desk.let_in(), "9" * 5000
    assert eve.get("/cases", params={"page": many}).status_code == 200
    assert eve.get(f"/api/match/sample/ruling/{many}").status_code == 414
    form = {"account": "bob", "do": "cleared", "note": "x", "csrf": "\u00e9", "after": "7"}
    sent = eve.post("/case/change", data=form, headers={"origin": "http://127.0.0.1"})
    assert (sent.status_code, "another session" in sent.text) == (403, True)
    page = eve.get("/case", params={"account": MARKUP}).text
    form |= {"account": MARKUP, "csrf": re.search('name="csrf" value="([^"]*)"', page).group(1)}
    for after in ("7", many, "\u0663"):
        sent = eve.post("/case/change", data={**form, "after": after}, headers={"origin": "http://127.0.0.1"})
        assert sent.status_code in (303, 409), sent.text
    huge = eve.post("/case/change", content=b"x", headers={"origin": "http://127.0.0.1", "content-length": many})
    assert huge.status_code == 413


def test_a_link_out_of_the_folder_is_not_followed(tmp_path):
    """A recording that is linked into the folder lies elsewhere, and is neither listed nor opened."""
    (tmp_path / "matches").mkdir()
    (tmp_path / "matches" / "elsewhere").symlink_to(SAMPLE)
    (tmp_path / "linked").symlink_to(SAMPLE)
    matches = WatchedMatches([tmp_path / "matches"])
    assert matches.found() == {}
    with pytest.raises(tinclock.errors.UnknownNameError):
        matches.open("elsewhere")
    assert WatchedMatches([tmp_path / "linked"]).found()  # what was given itself may be a link


def test_a_link_makes_nobody_another_reviewer(store):
    """Who is in stays who it is; a token that lasts lets nobody in by an address."""
    desk = Desk(store, Reviewer("eve", "decide"), Reviewer("rob", "decide", "r" * 20))
    eve = desk.let_in()
    word = desk.sessions.invite(desk.sessions.reviewers[1])
    assert eve.get(f"/enter/{word}").headers["location"] == "/"
    assert ">eve<" in re.sub(r"\s", "", eve.get("/").text)
    assert desk.sessions.invited(word)
    assert Browser(desk.app.asgi).get(f"/enter/{'r' * 20}").status_code == 403


# -- deciding -------------------------------------------------------------------------------------------------------


def test_what_is_decided_at_the_desk_is_in_the_store_and_the_chain(store):
    """Decide, note and reopen are kept with the reviewer's name and chained; a note changes no state."""
    desk = Desk(store)
    eve, review = desk.let_in(), desk.app.desk.review
    before = len(review.dossier("bob").decisions)
    for do, state in (
        ("note", "open"),
        ("confirmed", "confirmed"),
        ("note", "confirmed"),
        ("reopen", "open"),
        ("cleared", "cleared"),
    ):
        assert desk.change(eve, "bob", do=do, note=f"because {do}").status_code == 303
        assert review.dossier("bob").case.state == state
    kept = review.dossier("bob").decisions[before:]
    assert [one.verdict for one in kept] == ["noted", "confirmed", "noted", "reopened", "cleared"]
    assert {one.reviewer for one in kept} == {"eve"}
    assert "because confirmed" in eve.get("/case", params={"account": "bob"}).text
    assert desk.change(eve, "bob", do="cleared", note=" ").status_code == 422
    assert verify_log(store / "log") is None
    assert problems_of(review, store / "log") == []
    assert "because cleared" in eve.get("/export", params={"what": "decisions", "form": "csv"}).text
    assert "clover" not in eve.get("/cases", params={"q": "bo", "state": "all"}).text


def test_two_reviewers_dont_collide(store):
    """Others are told who has a case open; a decision that somebody else's has overtaken is asked for again."""
    desk = Desk(store, Reviewer("eve", "decide"), Reviewer("rob", "decide"))
    eve, rob = desk.let_in(), desk.let_in("rob")
    page = eve.get("/case", params={"account": "ada"}).text
    assert "eve</b> is viewing this case" in rob.get("/cases").text
    assert "eve is also viewing this case" in rob.get("/case", params={"account": "ada"}).text
    assert desk.change(rob, "ada", do="waiting", note="more").status_code == 303
    form = {key: re.search(f'name="{key}" value="([^"]*)"', page).group(1) for key in ("csrf", "after")}
    late = eve.post(
        "/case/change",
        data={**form, "account": "ada", "do": "cleared", "note": "x"},
        headers={"origin": "http://127.0.0.1"},
    )
    assert late.status_code == 409
    assert "rob has already set this case to waiting" in late.text
    assert desk.app.desk.review.dossier("ada").case.state == "waiting"


def test_an_account_is_forgotten_only_by_its_whole_name(store):
    """Forgetting asks for the name once more, and then deletes what names it."""
    desk = Desk(store)
    eve = desk.let_in()
    assert desk.change(eve, GONE, do="forget", note="asked", really="b").status_code == 422
    assert desk.change(eve, GONE, do="forget", note="asked", really=GONE).headers["location"] == "/cases"
    with pytest.raises(tinclock.errors.UnknownNameError):
        desk.app.desk.review.dossier(GONE)


def test_a_note_without_a_log_is_refused(tmp_path):
    """Nothing is written without the chain."""
    with pytest.raises(EvidenceError, match="evidence log"):
        CaseReview(CaseStore(tmp_path / "c.db")).note("ada", reviewer="eve", note="x")


# -- in a browser ---------------------------------------------------------------------------------------------------

LIVE = """
import sys, time
import numpy as np
import tinclock
from tinclock.core.warming import warm_up
from tinclock.garden.scenario import data_file
warm_up()
rules = tinclock.load_rules(data_file("garden.toml"))
match = tinclock.recordings.Recorder(sys.argv[1], tinclock.Referee(rules, seed=3))
ids = [match.admit(connection=c, account=n, team=t, rig="gardener") for c, n, t in
       (("s", "shooter", "copper"), ("r", "runner", "pewter"))]
rest = match.referee.history.rigs["gardener"].rest
pose = lambda x, y: np.hstack([rest + [x, y, 0.0], np.tile([0.0, 0.0, 0.0, 1.0], (len(rest), 1))])
print(time.time(), flush=True)
began = time.monotonic()
for tick in range(64 * 60):
    now = tick / 64
    match.record(tick, now, ids, [pose(-9.0, 3.0), pose(-6.0 + 3.0 * np.sin(now), 5.0)])
    match.snapshot_sent(tick)
    match.advance(now)
    if tick % 32 == 31:
        match.rule("s", {"kind": "shot", "sequence": tick, "actor": 1, "weapon": "grit_rifle",
                   "origin": [-9.0, 3.0, 1.6], "direction": [0.6, 0.8, 0.0],
                   "view": [tick - 5, tick - 4, 0.5]}, received_at=now)
    time.sleep(max(0.0, began + now + 1 / 64 - time.monotonic()))
    if select.select([sys.stdin], [], [], 0)[0]:
        break
match.close()
"""


class Running:
    """`tinclock review` as a process of its own, and the address that it prints."""

    def __init__(self, *arguments: object) -> None:
        command = [sys.executable, "-m", "tinclock", "review", *map(str, arguments), "--port", "0"]
        self.process = subprocess.Popen(
            command, stdout=subprocess.PIPE, text=True, env={**os.environ, "COLUMNS": "200"}
        )
        assert select.select([self.process.stdout], [], [], 60)[0], "the desk printed nothing"
        self.address = re.search(r"http://\S+", self.process.stdout.readline())[0]
        self.base = self.address.split("/enter")[0].rstrip("/")

    def end(self) -> int:
        self.process.send_signal(signal.SIGTERM)
        self.process.stdout.close()
        return self.process.wait(20)


NAMES = """
const done = arguments[0];
requestAnimationFrame(() => requestAnimationFrame(() => {
  const told = document.querySelector('.panel p').getBoundingClientRect();
  const shown = [...document.querySelectorAll('.label')].filter(one => !one.hidden)
    .map(one => [one.textContent, one.getBoundingClientRect()]).filter(([_, r]) => r.left < told.right);
  const behind = shown.filter(([_, r]) => r.right > told.left && r.top < told.bottom && r.bottom > told.top);
  done([behind.map(([name]) => name),
    shown.filter(([_, r]) => Math.abs(r.bottom - told.bottom - 20) < 1).length]);
}));
"""
"""Which names lie behind the sentence over the picture, and how many were moved below it."""


@needs("chromium")
def test_in_a_browser_one_looks_at_a_match_and_decides_a_case(store, tmp_path):
    """Open, play, seek, choose a miss by filter, move the slider, ask "what if", see two screens, decide, and find the
    decision in the chain and the game told of it; the console says nothing is wrong, and nothing leaves the machine.
    """
    game = ExitStack()
    receiver = game.enter_context(StandInReceiver())
    desk = Running(
        SAMPLE, "--store", store, "--reviewer", "eve", "--webhook", receiver.url, "--notification-queue", tmp_path / "n"
    )
    browser = open_browser(tmp_path)
    try:
        browser.get(desk.address)
        assert browser.find_element("css selector", "h1").text == "Matches"
        browser.get(f"{desk.base}/match/sample")
        until(browser, "document.body.dataset.drawn == 'yes'")
        total = int(until(browser, "document.body.dataset.marks"))
        run = browser.execute_script
        run("document.getElementById('play').click()")
        assert until(browser, "viewer.state.t > 1.0")
        run("document.getElementById('play').click()")
        where = "const c = document.getElementById('timeline'), r = c.getBoundingClientRect(); "
        run(
            where
            + "for (const kind of ['pointerdown', 'pointerup']) c.dispatchEvent(new PointerEvent(kind, {bubbles: true, "
            "pointerId: 1, clientX: r.left + 0.5 * r.width, clientY: r.top + 70}))"
        )
        ends = Recording(SAMPLE).ends_at_s
        assert abs(run("return viewer.state.t") - 0.5 * ends) < 0.05 * ends
        until(browser, "document.body.dataset.drawn == 'yes'")
        run("viewer.state.t = 0.0")
        pushed = 0
        for _ in range(40):
            run("document.dispatchEvent(new KeyboardEvent('keydown', {key: 'n', bubbles: true}))")
            until(browser, "document.querySelector('.panel p') !== null")
            hidden, low = browser.execute_async_script(NAMES)
            assert hidden == [], "names behind the sentence"
            pushed += low
        assert pushed > 0
        run(
            "const s = document.querySelector('[name=outcome]'); s.value = 'miss'; "
            "s.dispatchEvent(new Event('input', {bubbles: true}))"
        )
        misses = run("return viewer.list.shown.map(row => row.number)")
        assert 0 < len(misses) < total
        run("document.dispatchEvent(new KeyboardEvent('keydown', {key: 'n', bubbles: true}))")
        until(browser, f"{misses}.includes(viewer.state.ruling) && viewer.state.ruling == document.body.dataset.ruling")
        chosen = int(run("return document.body.dataset.ruling"))
        assert "hit nobody" in browser.find_element("id", "what").text
        slider = "document.querySelector('#claim input[type=range]')"
        told = "document.querySelector('#claim output').textContent"
        before = run(f"return {told}")
        run(f"const s = {slider}; s.value = s.max; s.dispatchEvent(new Event('input'))")
        assert run(f"return {told}") != before
        assert "server now" in run(f"return {told}")
        run("document.querySelector('.whatif button').click()")
        assert "With a rewind limit of 150 ms" in until(
            browser,
            "document.querySelector('.whatif p').textContent.includes('limit') "
            "&& document.querySelector('.whatif p').textContent",
        )
        run("document.querySelector('[data-camera=screens]').click()")
        until(browser, "document.querySelector('.screenof').textContent.includes('ms behind the server)')")
        address = until(browser, "location.hash.includes('camera=screens') && location.href")
        browser.get("about:blank")
        browser.get(address)
        assert int(until(browser, "document.body.dataset.ruling")) == chosen
        assert run("return viewer.state.camera") == "screens"
        assert run(f"return {slider}.value == {slider}.max")
        assert run("return document.querySelector('[name=outcome]').value") == "miss"
        run("document.querySelector('[data-tab=line]').click()")
        until(browser, "document.querySelectorAll('#linecharts .u-wrap').length == 3")

        browser.get(f"{desk.base}/cases")
        run("document.dispatchEvent(new KeyboardEvent('keydown', {key: 'j', bubbles: true}))")
        assert run("return document.querySelectorAll('tr.chosen').length") == 1
        browser.get(f"{desk.base}/case?account=clover")
        until(browser, "document.querySelector('.shot').dataset.drawn == 'yes'")
        assert "points against" in browser.find_element("css selector", ".differs").text
        browser.find_element("name", "note").send_keys("its numbers are not the server's")
        browser.find_element("css selector", "button[value=confirmed]").click()
        until(browser, "document.querySelector('.state.confirmed')")
        foreign = "fetch('/case/change', {method: 'POST', mode: 'no-cors', body: ''}).then(a => a.status, () => 0)"
        assert [url for url in asked_of(browser) if not url.startswith((desk.base, *INSIDE))] == []
        assert complaints(browser) == []
        browser.get("data:text/html,<h1>elsewhere</h1>")
        assert run(f"return {foreign.replace('/case', desk.base + '/case', 1)}") == 0
        told_by = time.monotonic() + 30.0
        while not receiver.received and time.monotonic() < told_by:
            time.sleep(0.2)
        assert [(one["type"], one["subject"]) for one in receiver.received] == [("tinclock.case.decided", "clover")]
    finally:
        browser.quit()
        desk.end()
        game.close()
    decided = CaseReview(CaseStore(store / "cases.db")).dossier("clover").decisions[-1]
    assert (decided.verdict, decided.reviewer, decided.note) == ("confirmed", "eve", "its numbers are not the server's")
    assert verify_log(store / "log") is None
    assert decided.log_number is not None


@needs("chromium")
def test_a_match_is_seen_while_another_process_plays_it(tmp_path):
    """A match that is being written is shown about a second behind, goes on by itself, and says when it is over."""
    script = tmp_path / "play.py"
    script.write_text(LIVE.replace("import sys, time", "import select, sys, time"))
    played = subprocess.Popen([sys.executable, str(script), str(tmp_path / "matches" / "now")], stdin=subprocess.PIPE,
                              stdout=subprocess.PIPE, text=True)  # fmt: skip
    (tmp_path / "matches").mkdir()
    began = float(played.stdout.readline())
    desk = Running(tmp_path / "matches")
    browser = open_browser(tmp_path)
    try:
        browser.get(desk.address)
        assert "Live" in browser.find_element("css selector", "table").text
        browser.get(f"{desk.base}/match/now")
        until(browser, "window.viewer && viewer.state.live && viewer.state.t > 3")
        behind = []
        for _ in range(10):
            behind.append(time.time() - began - browser.execute_script("return viewer.state.t"))
            time.sleep(0.2)
        assert 0.0 < float(np.median(behind)) < 3.0  # with half a machine; undisturbed it is 1.2
        marks = int(until(browser, "document.body.dataset.marks"))
        assert (
            int(until(browser, f"Number(document.body.dataset.marks) > {marks} && document.body.dataset.marks")) > marks
        )
        played.stdin.write("\n")
        played.stdin.flush()
        until(browser, "document.getElementById('busy').textContent == 'Match ended'")
        assert complaints(browser) == []
    finally:
        browser.quit()
        desk.end()
        played.kill()
        played.communicate()


def test_the_command_says_what_it_needs(tmp_path):
    """Without recordings, for other machines without reviewers, and with a broken team's file it explains."""
    from click.testing import CliRunner

    team = tmp_path / "team.toml"
    cases = [
        ([], "give recordings"), ([str(SAMPLE), "--host", "0.0.0.0"], "--reviewers"),
    ]  # fmt: skip
    broken = {
        '[ada]\nrole = "boss"': "needs role", '[ada]\nrole = "read"\ntoken = "short"': "at least 20",
        "": "names nobody", "[[": "can't be read",
    }  # fmt: skip
    for text, problem in broken.items():
        path = tmp_path / f"{len(cases)}.toml"
        path.write_text(text)
        cases.append(([str(SAMPLE), "--reviewers", str(path)], problem))
    for arguments, problem in cases:
        found = CliRunner().invoke(main, ["review", *arguments])
        assert found.exit_code != 0
        assert problem in found.output
    assert not team.exists()
