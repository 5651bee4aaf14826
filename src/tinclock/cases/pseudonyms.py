"""Pseudonyms: what the evidence log calls accounts, so that a person can be forgotten and the chain stays whole.

Each account has a random key of its own, in `keys.jsonl` beside the log, and is called by a keyed digest of its name
(HMAC, RFC 2104, with SHA-256). Once its key is deleted, nobody can tell whose records those were, not even by trying
names.
"""

from __future__ import annotations

import hashlib
import hmac
import os
import secrets
from pathlib import Path
from typing import Any, Final

import msgspec

from tinclock.core.errors import EvidenceError
from tinclock.core.plain import Fields

KEYS: Final = "keys.jsonl"
LENGTH: Final = 20


class _Key(msgspec.Struct):
    account: str
    key: str


class Pseudonyms:
    """The keys of one log. folder : the log's. Raises `EvidenceError` for a file of keys that can't be read."""

    def __init__(self, folder: str | Path) -> None:
        self._path = Path(folder) / KEYS
        self._keys: dict[str, bytes] = {}
        try:
            data = self._path.read_bytes() if self._path.exists() else b""
            for line in data.splitlines():
                one = msgspec.json.decode(line, type=_Key)
                self._keys[one.account] = bytes.fromhex(one.key)
        except (OSError, msgspec.DecodeError, ValueError) as error:
            raise EvidenceError(self._path, f"can't be read: {error}") from None
        self._called: dict[str, str] = {}
        self._lines: dict[str, tuple[str, str]] = {}

    def of(self, account: str) -> str:
        """Return the key of an account here; a new one gets a key, which is on the disk before it is used."""
        called = self._called.get(account)
        if called is None:
            if account not in self._keys:
                self._keys[account] = secrets.token_bytes(32)
                self._write(account)
            called = self._called[account] = self._digest(account, account)
        return called

    def known(self, account: str) -> str | None:
        """Return the key of an account here, if it has one."""
        return self.of(account) if account in self._keys else None

    def hidden(self, body: Any) -> Any:
        """A record's body with pseudonyms for its account and for the connection that it came by."""
        plain = msgspec.to_builtins(body)
        if not isinstance(plain, dict):
            return plain
        return self._hide(plain)

    def _hide(self, body: Fields) -> Fields:
        account = body.get("account")
        out = {name: self._hide(value) if isinstance(value, dict) else value for name, value in body.items()}
        if isinstance(account, str) and account:
            out["account"] = self.of(account)
            if body.get("connection"):
                out["connection"] = self._line(account, str(body["connection"]))
        return out

    def _line(self, account: str, connection: str) -> str:
        known = self._lines.get(account)
        if known is None or known[0] != connection:  # of each account the newest: it may come back under other names
            known = self._lines[account] = (connection, self._digest(account, "connection " + connection))
        return known[1]

    def forget(self, account: str) -> str:
        """Delete an account's key; returns what it was called."""
        called = self.of(account)
        del self._keys[account], self._called[account]
        self._lines.pop(account, None)
        lines = [msgspec.json.encode(_Key(name, key.hex())) for name, key in self._keys.items()]
        fresh = self._path.with_suffix(".new")
        try:
            with _private(fresh) as file:
                file.write(b"".join(line + b"\n" for line in lines))
                file.flush()
                os.fsync(file.fileno())
            os.replace(fresh, self._path)
        except OSError as error:
            raise EvidenceError(self._path, f"can't be written: {error.strerror}") from None
        return called

    def _digest(self, account: str, text: str) -> str:
        return hmac.new(self._keys[account], text.encode(), hashlib.sha256).hexdigest()[:LENGTH]

    def _write(self, account: str) -> None:
        line = msgspec.json.encode(_Key(account, self._keys[account].hex())) + b"\n"
        try:
            with _private(self._path, append=True) as file:
                file.write(line)
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            raise EvidenceError(self._path, f"can't be written: {error.strerror}") from None


def _private(path: Path, append: bool = False) -> Any:
    """A file that only its owner may read."""
    flags = os.O_WRONLY | os.O_CREAT | (os.O_APPEND if append else os.O_TRUNC)
    return os.fdopen(os.open(path, flags, 0o600), "ab" if append else "wb")
