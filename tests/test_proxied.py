"""Several services behind a proxy that hashes on the match: each match stays at its own, and comes back there."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import msgspec
from conftest import needs
from test_going_on import script
from websockets.sync.client import connect

from tinclock.recordings import Recording, replay

CONFIGURATION = """
daemon off; pid {folder}/pid; error_log {folder}/errors; worker_processes 1;
events {{ worker_connections 64; }}
http {{
    access_log off; client_body_temp_path {folder}; proxy_temp_path {folder}; fastcgi_temp_path {folder};
    uwsgi_temp_path {folder}; scgi_temp_path {folder};
    upstream services {{
        hash $arg_match consistent;
        {servers}
    }}
    server {{
        listen 127.0.0.1:{port};
        location / {{
            proxy_pass http://services; proxy_next_upstream off; proxy_http_version 1.1; proxy_read_timeout 1h;
            proxy_set_header Upgrade $http_upgrade; proxy_set_header Connection upgrade;
        }}
    }}
}}
"""


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


class Services:
    """Two services, each with recordings of its own, and one case store for both where there is a database."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.ports = folder, [free_port(), free_port()]
        self.running = [self.start(k) for k in range(2)]

    def start(self, k: int) -> subprocess.Popen[bytes]:
        command = [sys.executable, "-m", "tinclock", "serve", "--port", str(self.ports[k]), "--host-name", "services",
                   "--record", str(self.folder / f"matches-{k}")]  # fmt: skip
        store = os.environ.get("TINCLOCK_TEST_POSTGRESQL")
        with (self.folder / f"log-{k}").open("ab") as log:
            return subprocess.Popen([*command, *(["--store", store] if store else [])], stdout=log)

    def end(self) -> None:
        for one in self.running:
            one.terminate()
        for one in self.running:
            one.wait(90.0)


def ask(port: int, match: str, *requests: dict[str, Any]) -> list[dict[str, Any]]:
    """Ask through the proxy, trying again until the match's service is there."""
    until = time.monotonic() + 60.0
    while True:
        try:
            with connect(f"ws://127.0.0.1:{port}/?match={match}", max_size=None) as line:
                replies = []
                for one in requests:
                    line.send(msgspec.msgpack.encode({**one, "match": match}))
                    replies.append({"ok": True, **msgspec.msgpack.decode(line.recv())})
                return replies
        except Exception:
            assert time.monotonic() < until
            time.sleep(0.1)


@needs("nginx")
def test_matches_stay_at_their_service_and_come_back_there(tmp_path):
    """One of two services is killed: the other's match goes on meanwhile, and the first one's after it is back."""
    services, port = Services(tmp_path), free_port()
    servers = " ".join(f"server 127.0.0.1:{one} max_fails=0;" for one in services.ports)
    (tmp_path / "nginx.conf").write_text(CONFIGURATION.format(folder=tmp_path, servers=servers, port=port))
    proxy = subprocess.Popen([shutil.which("nginx") or "nginx", "-p", str(tmp_path), "-c", "nginx.conf"])
    names, requests = [f"m{k}" for k in range(8)], script(40)
    try:
        for name in names:
            assert all(reply["ok"] for reply in ask(port, name, *requests[:40]))
        at = {name: k for k in range(2) for name in names if (tmp_path / f"matches-{k}" / name).exists()}
        assert set(at.values()) == {0, 1}
        services.running[0].send_signal(signal.SIGKILL)
        services.running[0].wait()
        there = next(name for name in names if at[name] == 1)
        assert all(reply["ok"] for reply in ask(port, there, *requests[40:]))
        services.running[0] = services.start(0)
        back = next(name for name in names if at[name] == 0)
        (resumed,) = ask(port, back, {"do": "resume", "request": 99, "last_reply": 30})
        assert resumed["ok"], (tmp_path / "log-0").read_text()
        numbers = [msgspec.msgpack.decode(frame)["request"] for frame in resumed["replies"]]
        assert numbers == list(range(31, 41))
        assert all(reply["ok"] for reply in ask(port, back, *requests[40:], {"do": "close", "request": 100}))
        ask(port, there, {"do": "close", "request": 100})
    finally:
        proxy.terminate()
        proxy.wait(10.0)
        services.end()
    for name in (there, back):
        assert replay(Recording(tmp_path / f"matches-{at[name]}" / name)).as_recorded
    assert not (tmp_path / f"matches-{1 - at[back]}" / back).exists()
