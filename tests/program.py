"""A real Zubret, started by its launcher, with a data folder and a library of its own."""

import http.cookiejar
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

from django.test import SimpleTestCase

from server.lock import held_by
from tests.support import ROOT, copy_of_demo


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


class ProgramTest(SimpleTestCase):
    """Each class has a Zubret with a copy of the demo game in its library."""

    databases = "__all__"  # the server's, in other processes; this one touches none

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.root = Path(tempfile.mkdtemp()).resolve()
        cls.addClassCleanup(shutil.rmtree, cls.root, ignore_errors=True)
        cls.game = copy_of_demo(cls.root / "library" / "Saltglass Ferry")
        cls.prepare_library()
        cls.port = free_port()
        cls.address = f"http://127.0.0.1:{cls.port}"
        cls.log = open(cls.root / "log.txt", "w+")
        cls.addClassCleanup(cls.log.close)
        cls.program = cls.launch()
        cls.addClassCleanup(cls.stop_program)
        cls.until(cls.is_up, 180, "the launcher to bring Zubret up")
        cookies = urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar())
        cls.client_of_page = urllib.request.build_opener(cookies)
        cls.client_of_page.open(f"{cls.address}/", timeout=30).read()
        cls.token = next(c.value for c in cookies.cookiejar if c.name == "csrftoken")

    @classmethod
    def launch(cls, **more: str) -> subprocess.Popen:
        """The launcher, as a person starts it."""
        env = {k: v for k, v in os.environ.items() if k not in ("ZUBRET_JOBS", "DJANGO_SETTINGS_MODULE")}
        env |= {
            "ZUBRET_DATA_DIR": str(cls.root / "home"),
            "ZUBRET_LIBRARY_ROOTS": str(cls.root / "library"),
            "ZUBRET_PORT": str(cls.port),
            **more,
        }
        command = [sys.executable, "zubret.py", "run"]
        return subprocess.Popen(command, cwd=ROOT, env=env, stdout=cls.log, stderr=cls.log, start_new_session=True)

    @classmethod
    def prepare_library(cls):
        """For a class that wants more in the library."""

    @classmethod
    def stop_program(cls):
        cls.program.send_signal(signal.SIGINT)
        cls.program.wait(timeout=30)

    @classmethod
    def is_up(cls) -> bool:
        if cls.program.poll() is not None:
            raise AssertionError((cls.root / "log.txt").read_text())
        try:
            with urllib.request.urlopen(f"{cls.address}/api/health", timeout=2) as answer:
                return json.load(answer)["ok"]
        except OSError:
            return False

    @staticmethod
    def until(condition, seconds: float, what: str):
        """The condition's value as soon as it is true."""
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            if value := condition():
                return value
            time.sleep(0.05)
        raise AssertionError(f"waited {seconds} s in vain for {what}")

    def api(self, path: str):
        """What the API says, asked from outside the page."""
        with urllib.request.urlopen(f"{self.address}/api{path}", timeout=30) as answer:
            data = answer.read()
            return json.loads(data) if "json" in answer.headers["Content-Type"] else data

    def send(self, method: str, path: str, body=None, kind: str = "application/json"):
        """A changing request with the page's token; the answer, or nothing."""
        data = body if isinstance(body, bytes) else json.dumps(body or {}).encode()
        headers = {"Content-Type": kind, "X-CSRFToken": self.token}
        request = urllib.request.Request(f"{self.address}/api{path}", data, headers, method=method)
        with self.client_of_page.open(request, timeout=60) as answer:
            found = answer.read()
            return json.loads(found) if found else None

    def worker(self, queue: str) -> int:
        """The process number of this Zubret's worker of a queue; 0 while there is none."""
        name = held_by(self.root / "home" / "run" / f"worker-{queue}.lock")
        return int(name.split()[2]) if name else 0
