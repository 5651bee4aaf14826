"""Permissions: sessions, one-time addresses, and the checks of every request."""

from __future__ import annotations

import hashlib
import hmac
import secrets
import time
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Final, Literal, NamedTuple
from urllib.parse import quote, unquote, urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import PlainTextResponse, RedirectResponse, Response

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from starlette.types import ASGIApp, Message, Receive, Scope, Send

Role = Literal["read", "decide"]
COOKIE: Final = "tinclock_review"
WANTED: Final = "tinclock_wanted"
SESSION_S: Final = 12 * 3600.0
WANTED_S: Final = 900.0
"""Seconds for which the page that a browser asked for first is remembered."""
MAX_SESSIONS, MAX_BODY, MAX_PATH, MAX_DIGITS = 1000, 64_000, 600, 9
POLICY: Final = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; connect-src 'self'; "
    "base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
"""Nothing is loaded from anywhere else, no script stands in a page, and no other page may frame one of these."""
OPEN_PATHS: Final = ("/static/", "/enter", "/health")


class Reviewer(NamedTuple):
    """Somebody who may use the desk. role : "read" looks, "decide" also decides; token : empty for the local user"""

    name: str
    role: Role
    token: str = ""


class Session(NamedTuple):
    """A browser that came in. csrf : what its forms must carry; until : unix time"""

    reviewer: Reviewer
    csrf: str
    until: float


class Sessions:
    """The reviewers, and the browsers that came in. Everything is forgotten when the process ends."""

    def __init__(self, reviewers: Sequence[Reviewer], now: Callable[[], float] = time.time) -> None:
        self.reviewers, self._now = list(reviewers), now
        self._once: dict[str, Reviewer] = {}
        self._open: dict[str, Session] = {}

    def invite(self, reviewer: Reviewer) -> str:
        """A word that lets one browser in, once."""
        word = secrets.token_urlsafe(24)
        self._once[_digest(word)] = reviewer
        return word

    def invited(self, word: str) -> bool:
        """True if a one-time word is still unused."""
        return _digest(word) in self._once

    def come_in(self, word: str, *, by_address: bool = False) -> str | None:
        """Use a one-time word or a reviewer's token; returns the value of the cookie, None for a wrong one.

        by_address : the word stood in an address, where a token that lasts doesn't belong
        """
        reviewer = self._once.pop(_digest(word), None)
        if reviewer is None and not by_address:
            for one in self.reviewers:
                if one.token and hmac.compare_digest(_digest(one.token), _digest(word)):
                    reviewer = one
        if reviewer is None:
            return None
        value = secrets.token_urlsafe(32)
        if len(self._open) >= MAX_SESSIONS:
            del self._open[min(self._open, key=lambda key: self._open[key].until)]
        self._open[_digest(value)] = Session(reviewer, secrets.token_urlsafe(24), self._now() + SESSION_S)
        return value

    def of(self, cookies: Mapping[str, str]) -> Session | None:
        """The session of a request."""
        session = self._open.get(_digest(cookies.get(COOKIE, "")))
        return session if session is not None and session.until > self._now() else None

    def leave(self, cookies: Mapping[str, str]) -> None:
        """End a browser's session."""
        self._open.pop(_digest(cookies.get(COOKIE, "")), None)


def _digest(word: str) -> str:
    return hashlib.sha256(word.encode("utf-8", "backslashreplace")).hexdigest()


class Guard:
    """Stands before the application: Host, Origin and session are checked, and every answer carries the policy.

    hosts : names by which it may be reached (without ports); on_stranger : called when a browser without a session asks
    """

    def __init__(self, app: ASGIApp, sessions: Sessions, hosts: Sequence[str], on_stranger: Callable[[], None]) -> None:
        self._app, self._sessions, self._hosts, self._on_stranger = app, sessions, frozenset(hosts), on_stranger

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "lifespan":
            await self._app(scope, receive, send)
            return
        if scope["type"] != "http":
            return
        refusal = self._refusal(scope)
        await (refusal or self._app)(scope, receive, _dressed(send))

    def _refusal(self, scope: Scope) -> Response | None:
        headers = Headers(scope=scope)
        if _name_of(headers.get("host", "")) not in self._hosts:
            return PlainTextResponse("Unknown host name. Add it with --host-name.\n", 421)
        if scope["method"] not in ("GET", "HEAD"):
            if headers.get("origin") != f"{scope['scheme']}://{headers.get('host', '')}":
                return PlainTextResponse("Request blocked: it did not come from this site.\n", 403)
            length = headers.get("content-length", "")
            if (size := whole(length)) is None or size > MAX_BODY:  # a body that doesn't say how long it is isn't read
                return PlainTextResponse("Request too large.\n", 413)
        path = scope["path"]
        if len(path) > MAX_PATH:
            return PlainTextResponse("No page has such a long address.\n", 414)
        if any(path == one or path.startswith(one) for one in OPEN_PATHS):
            return None
        session = self._sessions.of(_cookies(headers))
        if session is None:
            self._on_stranger()
            if path.startswith("/api/") or scope["method"] != "GET":
                return PlainTextResponse("Sign in first: open the link printed in the terminal.\n", 401)
            return _to_enter(scope, headers)
        scope.setdefault("state", {})["session"] = session
        return None


def _to_enter(scope: Scope, headers: Headers) -> Response:
    """Send a browser without a session to the entrance, and remember the page that it asked for."""
    response = RedirectResponse("/enter", 303)
    query = scope["query_string"].decode("latin-1")
    wanted = quote(scope["path"]) + (f"?{query}" if query else "")
    if is_page(wanted) and len(wanted) <= MAX_PATH:
        response.set_cookie(WANTED, quote(wanted, safe=""), max_age=int(WANTED_S), path="/enter", httponly=True,
                            samesite="lax", secure=scope["scheme"] == "https")  # fmt: skip
    return response


def wanted_page(cookies: Mapping[str, str]) -> str:
    """Return the page that a browser asked for before it had a session; the first page where there is none."""
    wanted = unquote(cookies.get(WANTED, ""))
    return wanted if is_page(wanted) else "/"


def is_page(path: str) -> bool:
    """True if a path, with its query, is a page of this desk that a link may lead to."""
    own = path.startswith("/") and not path.startswith(("//", "/\\")) and path.isprintable()
    return own and not path.startswith(("/enter", "/leave", "/api/", "/static/"))


def _cookies(headers: Headers) -> dict[str, str]:
    pairs = (part.strip().partition("=") for part in headers.get("cookie", "").split(";"))
    return {name: value for name, _, value in pairs}


def _name_of(host: str) -> str:
    """A Host header without its port."""
    try:
        return (urlsplit(f"//{host}").hostname or "").lower()
    except ValueError:
        return ""


def _dressed(send: Send) -> Send:
    async def dressed(message: Message) -> None:
        if message["type"] == "http.response.start":
            headers = MutableHeaders(scope=message)
            headers["Content-Security-Policy"] = POLICY
            headers["X-Content-Type-Options"] = "nosniff"
            headers["Referrer-Policy"] = "same-origin"  # with none at all, a browser sends no Origin with our forms
            headers["Cross-Origin-Opener-Policy"] = "same-origin"
            headers["Cross-Origin-Resource-Policy"] = "same-origin"
            headers.setdefault("Cache-Control", "no-store")
        await send(message)

    return dressed


def may_change(session: Session, form: Mapping[str, Any]) -> str:
    """Return the reason against a form, "" for none: the role, and the token that only our own pages know."""
    if session.reviewer.role != "decide":
        return f"{session.reviewer.name} has view-only access and cannot decide."
    if not hmac.compare_digest(_digest(str(form.get("csrf", ""))), _digest(session.csrf)):
        return "This form is from another session: open the page again."
    return ""


def whole(text: str) -> int | None:
    """A whole number of an address or a form; None for anything else, and for one of absurdly many digits."""
    return int(text) if text.isdecimal() and len(text) <= MAX_DIGITS else None
