"""A Zubret of its own, started by its launcher as a person starts it, and talked to as its page does."""

from __future__ import annotations

import http.cookiejar
import json
import os
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import IO, Any, TypeVar

ROOT = Path(__file__).resolve().parents[1]
T = TypeVar("T")


def free_port() -> int:
    """A port that nobody uses."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


def launched(root: Path, port: int, log: IO | int, **more: str) -> subprocess.Popen:
    """The launcher, with its data in `home` and its games in `library`, in a session of its own."""
    env = {k: v for k, v in os.environ.items() if k not in ("ZUBRET_JOBS", "DJANGO_SETTINGS_MODULE")}
    env |= {
        "ZUBRET_DATA_DIR": str(root / "home"),
        "ZUBRET_LIBRARY_ROOTS": str(root / "library"),
        "ZUBRET_PORT": str(port),
        **more,
    }
    command = [sys.executable, "zubret.py", "run"]
    return subprocess.Popen(
        command, cwd=ROOT, env=env, stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True
    )


def is_up(address: str) -> bool:
    """Whether all its parts are."""
    try:
        with urllib.request.urlopen(f"{address}/api/health", timeout=2) as answer:
            return bool(json.load(answer)["ok"])
    except OSError:
        return False


def until(condition: Callable[[], T], seconds: float, what: str) -> T:
    """The condition's value as soon as it is true."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        if value := condition():
            return value
        time.sleep(0.1)
    raise AssertionError(f"waited {seconds} s in vain for {what}")


class Page:
    """What a page of the browser may ask: it has the token that changing requests need."""

    def __init__(self, address: str):
        self.address = address
        cookies = urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar())
        self._opener = urllib.request.build_opener(cookies)
        self._opener.open(f"{address}/", timeout=30).read()
        self._token = next(c.value for c in cookies.cookiejar if c.name == "csrftoken")

    def get(self, path: str) -> Any:
        """What the API says, asked from outside the page."""
        with urllib.request.urlopen(f"{self.address}/api{path}", timeout=30) as answer:
            data = answer.read()
            return json.loads(data) if "json" in answer.headers["Content-Type"] else data

    def send(self, method: str, path: str, body: Any = None, kind: str = "application/json") -> Any:
        """A changing request with the page's token; the answer, or nothing."""
        data = body if isinstance(body, bytes) else json.dumps(body or {}).encode()
        headers = {"Content-Type": kind, "X-CSRFToken": self._token or ""}
        request = urllib.request.Request(f"{self.address}/api{path}", data, headers, method=method)
        with self._opener.open(request, timeout=60) as answer:
            found = answer.read()
            return json.loads(found) if found else None


def form(**fields: Any) -> tuple[bytes, str]:
    """A form with files (bytes) and texts, and its content type."""
    mark, body = "zubret-form", b""
    for name, value in fields.items():
        head = f'--{mark}\r\nContent-Disposition: form-data; name="{name}"'
        if isinstance(value, bytes):
            body += f'{head}; filename="{name}.wav"\r\n\r\n'.encode() + value + b"\r\n"
        else:
            body += f"{head}\r\n\r\n{value}\r\n".encode()
    return body + f"--{mark}--\r\n".encode(), f"multipart/form-data; boundary={mark}"
