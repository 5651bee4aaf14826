"""The review desk as one application: its pages, what they ask for, and what stands before it."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Any, Final

from starlette.applications import Starlette
from starlette.responses import HTMLResponse, JSONResponse, PlainTextResponse, RedirectResponse, Response
from starlette.routing import Mount, Route
from starlette.staticfiles import StaticFiles

import tinclock.report
from tinclock.core.errors import EvidenceError, RecordingError, TinClockError, UnknownNameError
from tinclock.core.plain import Fields
from tinclock.report.case_page import pages
from tinclock.review.access import COOKIE, SESSION_S, WANTED, Guard, Sessions, wanted_page
from tinclock.review.desk import Desk
from tinclock.review.looking import Looking
from tinclock.review.watched import WatchedMatches

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from starlette.requests import Request

    from tinclock.cases.store import CaseStore
    from tinclock.core.evidence.calibration_table import Calibration

LOOPBACK: Final = ("127.0.0.1", "localhost", "::1")


class ReviewApp:
    """Everything that the desk serves.

    matches : what may be looked at; sessions : who may come in; store, log_folder, calibration : of cases,
    where there are any; hosts : names by which it is reached; on_stranger : called when somebody without a session asks
    """

    def __init__(
        self, matches: WatchedMatches, sessions: Sessions, *, store: CaseStore | None = None,
        log_folder: Path | None = None, calibration: Calibration | None = None, hosts: Sequence[str] = LOOPBACK,
        on_stranger: Callable[[], None] = lambda: None,
    ) -> None:  # fmt: skip
        self.matches, self.sessions = matches, sessions
        self._pages = pages("tinclock.review", "tinclock.report")
        self.looking = Looking(matches)
        self.desk = None if store is None else Desk(store, log_folder, calibration, self.looking, self.draw)
        if self.desk is not None:
            self.looking.cases = self.desk.opened_in
        app = Starlette(
            routes=[*self._match_routes(), *self._desk_routes(), *self._other_routes()],
            exception_handlers={TinClockError: self._problem, 404: self._nothing},
        )
        self.asgi = Guard(app, sessions, hosts, on_stranger)

    def draw(self, request: Request, template: str, values: Fields) -> Response:
        """A page."""
        session = getattr(request.state, "session", None)
        text = self._pages.get_template(template).render(
            session=session, desk=self.desk is not None, path=request.url.path, now=time.time(), **values
        )
        return HTMLResponse(text, values.get("status", 200))

    # -- routes -----------------------------------------------------------------------------------------------

    def _match_routes(self) -> list[Route]:
        ask, look = "/api/match/{name}", self.looking
        return [
            Route("/", self._home),
            Route("/match/{name}", self._match),
            Route(f"{ask}/news", look.news),
            *(
                Route(f"{ask}{path}", look.steadily(answer))
                for path, answer in (
                    ("", look.match),
                    ("/level", look.level),
                    ("/window/{number:int}", look.window),
                    ("/marks", look.marks),
                    ("/ruling/{number:int}", look.ruling),
                    ("/ruling/{number:int}/if", look.what_if),
                    ("/line/{entity:int}", look.line),
                )
            ),
        ]

    def _desk_routes(self) -> list[Route]:
        desk = self.desk
        if desk is None:
            return []
        return [
            Route("/cases", desk.queue),
            Route("/case", desk.case),
            Route("/case/change", desk.change, methods=["POST"]),
            Route("/api/case/here", desk.here),
            Route("/api/case/shot", desk.shot),
            Route("/compare", desk.compare),
            Route("/export", desk.export),
        ]

    def _other_routes(self) -> list[Any]:
        drawing = Path(tinclock.report.__file__).with_name("drawing")
        return [
            Route("/enter", self._enter, methods=["GET", "POST"]),
            Route("/enter/{word}", self._enter_once),
            Route("/leave", self._leave, methods=["POST"]),
            Route("/health", lambda request: PlainTextResponse("ok\n")),
            Mount("/static/drawing", StaticFiles(directory=drawing)),
            Mount("/static", StaticFiles(directory=Path(__file__).with_name("static"))),
        ]

    # -- pages ------------------------------------------------------------------------------------------------

    def _home(self, request: Request) -> Response:
        found: list[Fields] = []
        for name in self.matches.found():
            try:
                recording = self.matches.open(name).recording
            except (RecordingError, UnknownNameError) as error:
                found.append({"name": name, "problem": str(error)})
                continue
            people = {one.account for one in self.matches.open(name).people() if one.account}
            found.append(
                {
                    "name": name, "problem": "", "live": not recording.closed, "players": len(people),
                    "seconds": recording.ends_at_s - recording.begins_at_s, "mb": recording.nbytes / 1e6,
                    "rulings": recording.flushes[-1].rulings if recording.flushes else 0,
                }
            )  # fmt: skip
        counts = None if self.desk is None else self.desk.review.counts()
        return self.draw(request, "home.html", {"matches": found, "counts": counts})

    def _match(self, request: Request) -> Response:
        watched = self.matches.open(request.path_params["name"])
        if self.desk is not None:
            self.desk.looked(request, "match", match=watched.name)
        return self.draw(request, "match.html", {"name": watched.name})

    async def _enter(self, request: Request) -> Response:
        from urllib.parse import parse_qs

        if request.method == "GET":
            return self.draw(request, "enter.html", {"problem": "", "tokens": self._has_tokens()})
        form = parse_qs((await request.body()).decode("utf-8", "replace"))
        value = self.sessions.come_in(form.get("token", [""])[0])
        if value is None:
            values = {"problem": "Access token not recognised.", "tokens": self._has_tokens(), "status": 403}
            return self.draw(request, "enter.html", values)
        return self._let_in(request, value)

    def _enter_once(self, request: Request) -> Response:
        if self.sessions.of(request.cookies) is not None:  # a link may not make somebody another reviewer
            return RedirectResponse(wanted_page(request.cookies), 303)
        value = self.sessions.come_in(request.path_params["word"], by_address=True)
        if value is None:
            problem = "This link has expired or was already used. The terminal prints a new one."
            return self.draw(request, "enter.html", {"problem": problem, "tokens": self._has_tokens(), "status": 403})
        return self._let_in(request, value)

    def _has_tokens(self) -> bool:
        return any(one.token for one in self.sessions.reviewers)

    def _let_in(self, request: Request, value: str) -> Response:
        response = RedirectResponse(wanted_page(request.cookies), 303)
        response.delete_cookie(WANTED, path="/enter")
        # "lax": a link from a ticket system carries it; requests that change something are checked by Origin and word
        response.set_cookie(COOKIE, value, max_age=int(SESSION_S), httponly=True, samesite="lax",
                            secure=request.url.scheme == "https")  # fmt: skip
        return response

    def _leave(self, request: Request) -> Response:
        self.sessions.leave(request.cookies)
        response = RedirectResponse("/enter", 303)
        response.delete_cookie(COOKIE)
        return response

    # -- what goes wrong --------------------------------------------------------------------------------------

    def _problem(self, request: Request, error: Exception) -> Response:
        status = 404 if isinstance(error, UnknownNameError) else 422
        says = error.problem if isinstance(error, (EvidenceError, RecordingError)) else str(error)
        if request.url.path.startswith("/api/"):
            return JSONResponse({"error": says}, status)
        return self.draw(request, "refused.html", {"says": says, "account": "", "status": status})

    def _nothing(self, request: Request, error: Exception) -> Response:
        if request.url.path.startswith("/api/"):
            return JSONResponse({"error": "There is nothing at this address."}, 404)
        says = "There is nothing at this address."
        return self.draw(request, "refused.html", {"says": says, "account": "", "status": 404})
