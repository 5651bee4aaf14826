"""The review desk: the queue of cases, one case, two accounts side by side, and what a person decides."""

from __future__ import annotations

import threading
import time
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, Final, NamedTuple
from urllib.parse import parse_qs, quote

from starlette.responses import JSONResponse, RedirectResponse, Response

from tinclock.cases.evidence_log import EvidenceLog
from tinclock.cases.figures import compared, exported
from tinclock.cases.kinds import evidence_text, reason_of, strength
from tinclock.cases.looks import note_look
from tinclock.cases.records import STATES, VERDICTS
from tinclock.cases.review import CaseReview
from tinclock.cases.weighed import match_identity, match_name
from tinclock.core.errors import DecisionConflictError, EvidenceError, RecordingError, UnknownNameError
from tinclock.core.plain import Fields
from tinclock.report.case_view import calibration_of, charts_of, facts_of, telling_shots
from tinclock.review.access import Session, may_change, whole

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator
    from pathlib import Path

    from starlette.requests import Request

    from tinclock.cases.store import CaseStore
    from tinclock.core.evidence.calibration_table import Calibration
    from tinclock.review.looking import Looking
    from tinclock.review.watched import Watched

ROWS: Final = 50
MAX_OPENED: Final = 100
HERE_S: Final = 25.0
"""Somebody who hasn't said for so long that a case is open before them has gone on to something else."""
MAX_SHOTS: Final = 6
WAIT_S: Final = 20.0
"""Time that a decision waits for another process that writes into the log."""
DAY_S: Final = 86400.0
TYPES: Final = {"json": "application/json", "csv": "text/csv", "parquet": "application/vnd.apache.parquet"}


class Present(NamedTuple):
    """Viewer of a case, and the time until which that holds."""

    name: str
    until: float


class Presence:
    """Current viewers of cases, so that two people don't work on the same one."""

    def __init__(self) -> None:
        self._here: dict[tuple[str, str], Present] = {}
        self._lock = threading.Lock()

    def say(self, account: str, session: Session) -> None:
        """Somebody has a case open."""
        with self._lock:
            self._here[account, session.csrf] = Present(session.reviewer.name, time.time() + HERE_S)

    def leave(self, account: str, session: Session) -> None:
        """Somebody went on."""
        with self._lock:
            self._here.pop((account, session.csrf), None)

    def others(self, account: str, session: Session) -> list[str]:
        """The names of others who have it open."""
        return sorted({one.name for csrf, one in self._at(account) if csrf != session.csrf})

    def all(self) -> dict[str, list[str]]:
        """Names by account."""
        with self._lock:
            now = time.time()
            self._here = {key: one for key, one in self._here.items() if one.until > now}
            out: dict[str, list[str]] = {}
            for (account, _), one in self._here.items():
                out.setdefault(account, []).append(one.name)
        return out

    def _at(self, account: str) -> list[tuple[str, Present]]:
        with self._lock:
            now = time.time()
            return [(csrf, one) for (held, csrf), one in self._here.items() if held == account and one.until > now]


class Desk:
    """The pages about cases.

    log_folder : of the evidence log, which is opened only while something is written into it, since one process at a
        time may; draw : makes a page of a template and its values
    """

    def __init__(
        self, store: CaseStore, log_folder: Path | None, calibration: Calibration | None, looking: Looking,
        draw: Callable[[Request, str, Fields], Response],
    ) -> None:  # fmt: skip
        self.review, self._log_folder = CaseReview(store), log_folder
        self._weights, self._looking, self._draw = calibration, looking, draw
        self.presence = Presence()
        self._changing = threading.Lock()

    # -- reading ----------------------------------------------------------------------------------------------

    def queue(self, request: Request) -> Response:
        """The cases of one state, the most pressing first."""
        query = request.query_params
        state = query.get("state", "open")
        if state not in (*STATES, "all"):
            raise UnknownNameError("state of a case", state, (*STATES, "all"))
        page = min(max(whole(query.get("page", "")) or 1, 1), 100_000)
        search, states = query.get("q", "")[:200], STATES if state == "all" else (state,)
        found = self.review.queue(states, ROWS + 1, search=search, skip=(page - 1) * ROWS)
        here, now = self.presence.all(), time.time()
        rows = [
            {
                "case": case,
                "title": evidence_text(reason_of(case.kinds)).title,
                "strength": strength(case.peak),
                "waits": waited(now - case.opened_at),
                "here": ", ".join(here.get(case.account, [])),
            }
            for case in found[:ROWS]
        ]
        return self._draw(request, "queue.html", {
            "rows": rows, "counts": self.review.counts(), "state": state, "states": (*STATES, "all"), "search": search,
            "page": page, "more": len(found) > ROWS,
        })  # fmt: skip

    def case(self, request: Request) -> Response:
        """One account."""
        account, session = self._account(request), self._session(request)
        dossier = self.review.dossier(account)
        limit = self.review.store.limit if dossier.case is None else dossier.case.limit
        calibration = calibration_of(dossier, self._weights)
        self.presence.say(account, session)
        self.looked(request, "case", account)
        shots, missing = self._shots(telling_shots(dossier, MAX_SHOTS), dossier)
        return self._draw(request, "case.html", {
            **facts_of(dossier, calibration, limit), "shots": shots, "missing": missing, "verdicts": VERDICTS,
            "others": self.presence.others(account, session), "next": self._next(account),
            "matches": {play.match: self._looking.matches.of_play(play.recording) for play in dossier.plays},
            "data": {"charts": charts_of(dossier, calibration, limit), "account": account},
        })  # fmt: skip

    def _shots(self, wanted: list[tuple[str, str, int]], dossier: Any) -> tuple[list[Fields], list[str]]:
        """Links to the shots that show it; each is read when its card comes into sight."""
        places = {play.match: play.recording for play in dossier.plays}
        shots, missing = [], list[str]()
        for kind, match, number in wanted:
            name = self._looking.matches.of_play(places.get(match, ""))
            if name is None:
                missing.append(f"the recording of {match} isn't in the folders that the review site was started with")
                continue
            shots.append({"kind": evidence_text(kind).title, "match": name, "number": number})
        return shots, list(dict.fromkeys(missing))

    def shot(self, request: Request) -> Response:
        """A ruling of a case, with the kind of evidence that it was chosen for."""
        number = whole(request.query_params.get("number", ""))
        if number is None:
            raise UnknownNameError("ruling", request.query_params.get("number", "")[:40], ["a whole number"])
        try:
            scene = self._looking.scene(
                request.query_params.get("match", ""), number, request.query_params.get("kind", "")
            )
        except RecordingError as error:
            return JSONResponse({"error": str(error)}, 422)
        return JSONResponse(scene)

    def _next(self, account: str) -> str:
        """The most pressing open case besides this one that nobody has open."""
        here = self.presence.all()
        for case in self.review.queue(("open",), ROWS):
            if case.account != account and case.account not in here:
                return case.account
        return ""

    def compare(self, request: Request) -> Response:
        """Two accounts side by side."""
        names = [request.query_params.get(key, "")[:200] for key in ("a", "b")]
        rows: list[Fields] = []
        problem = ""
        if all(names):
            try:
                rows = compared(*(self.review.dossier(name) for name in names))
                for name in names:
                    self.looked(request, "compare", name)
            except UnknownNameError as error:
                problem = str(error)
        for row in rows:
            row["title"] = evidence_text(row["name"]).title if row["of"] in ("decibans", "share") else row["name"]
        return self._draw(request, "compare.html", {"names": names, "rows": rows, "problem": problem})

    def opened_in(self, watched: Watched) -> list[Fields]:
        """Cases that were opened in a match: whose, and when in it the evidence was enough."""
        name = self.review.store.name_of(match_name(watched.recording), match_identity(watched.recording))
        out: list[Fields] = []
        for case in self.review.queue(STATES, MAX_OPENED, opened_in=name):
            plays = [play for play in self.review.dossier(case.account).plays if play.match == name]
            at = next((at for play in plays for at, value in play.course.points if value >= case.limit), None)
            if at is not None:
                out.append({"at": at, "account": case.account})
        return out

    def export(self, request: Request) -> Response:
        """Cases, decisions or an account's findings as a file."""
        what, form = request.query_params.get("what", "cases"), request.query_params.get("form", "json")
        if what not in ("cases", "decisions", "findings"):
            raise UnknownNameError("export", what, ("cases", "decisions", "findings"))
        if form not in TYPES:
            raise UnknownNameError("form of an export", form, TYPES)
        self.looked(request, f"export {what}", request.query_params.get("account", "")[:200])
        data = exported(self.review, what, form, request.query_params.get("account"))
        return Response(data, media_type=TYPES[form],
                        headers={"Content-Disposition": f'attachment; filename="{what}.{form}"'})  # fmt: skip

    # -- deciding ---------------------------------------------------------------------------------------------

    async def change(self, request: Request) -> Response:
        """Decide, note, reopen or forget; the form says which."""
        from starlette.concurrency import run_in_threadpool

        form = {key: values[0] for key, values in parse_qs((await request.body()).decode("utf-8", "replace")).items()}
        return await run_in_threadpool(self._change, request, form)

    def _change(self, request: Request, form: dict[str, str]) -> Response:
        session, account = self._session(request), form.get("account", "")
        refused = may_change(session, form)
        if refused:
            return self._draw(request, "refused.html", {"says": refused, "account": account, "status": 403})
        try:
            with self._changing, self._writing() as review:
                _carry_out(review, form.get("do", ""), account, session.reviewer.name, form)
        except EvidenceError as error:
            status = 409 if isinstance(error, DecisionConflictError) else 422
            return self._draw(request, "refused.html", {
                "says": error.problem, "account": account, "status": status, "note": form.get("note", ""),
            })  # fmt: skip
        self.presence.leave(account, session)
        if form.get("do") == "forget":
            return RedirectResponse("/cases", 303)
        return RedirectResponse(f"/case?account={quote(account, safe='')}", 303)

    @contextmanager
    def _writing(self) -> Iterator[CaseReview]:
        """The review with its log open; another process that writes just now is waited for."""
        if self._log_folder is None:
            yield self.review
            return
        log = EvidenceLog(self._log_folder, sync="each", wait_s=WAIT_S)
        try:
            yield CaseReview(self.review.store, log)
        finally:
            log.close()

    def looked(self, request: Request, page: str, account: str = "", match: str = "") -> None:
        """Note in the store that a reviewer opened a page."""
        note_look(self.review.store, self._session(request).reviewer.name, page, account=account, match=match)

    def here(self, request: Request) -> Response:
        """A browser says that a case is open before somebody, and hears who else has it open."""
        account, session = self._account(request), self._session(request)
        self.presence.say(account, session)
        return JSONResponse({"others": self.presence.others(account, session)})

    def _account(self, request: Request) -> str:
        return request.query_params.get("account", "")[:200]

    def _session(self, request: Request) -> Session:
        session: Session = request.state.session
        return session


def _carry_out(review: CaseReview, what: str, account: str, reviewer: str, form: dict[str, str]) -> None:
    note, after = form.get("note", ""), whole(form.get("after", "")) or 0
    if what in VERDICTS:
        review.decide(account, what, reviewer=reviewer, note=note, after=after)
    elif what == "reopen":
        review.reopen(account, reviewer=reviewer, note=note, after=after)
    elif what == "note":
        review.note(account, reviewer=reviewer, note=note, after=after)
    elif what == "forget":
        if form.get("really") != account:
            raise EvidenceError(account, "to forget an account, type its name: it can't be undone")
        review.forget(account, reviewer=reviewer, reason=note, after=after)
    else:
        raise UnknownNameError("decision", what, (*VERDICTS, "reopen", "note", "forget"))


def waited(seconds: float) -> str:
    """Return the waiting time of a case, in words."""
    for size, word in ((DAY_S, "day"), (3600.0, "hour"), (60.0, "minute")):
        if seconds >= size:
            count = int(seconds // size)
            return f"{count} {word}{'' if count == 1 else 's'}"
    return "a moment"
