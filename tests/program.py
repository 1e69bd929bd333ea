"""A real Zubret, started by its launcher, with a data folder and a library of its own."""

import hashlib
import os
import shutil
import signal
import subprocess
import sys
import tempfile
from functools import cache
from pathlib import Path

from django.test import SimpleTestCase

from bench.program import Page, free_port, is_up, launched, until
from tests.support import KEPT, ROOT, alone, copy_of_demo
from zubret_core.lock import held_by


@cache
def empty_database() -> Path:
    """A database with nothing in it, kept until the steps that make one change: they take longer than all else of a start."""
    value = hashlib.sha256()
    for file in sorted((ROOT / "server").glob("*/migrations/*.py")):
        value.update(file.read_bytes())
    folder = KEPT / f"empty-{value.hexdigest()[:12]}"
    with alone():
        if not folder.exists():
            part = Path(tempfile.mkdtemp(dir=KEPT))
            env = {**os.environ, "ZUBRET_DATA_DIR": str(part)}
            subprocess.run([sys.executable, "manage.py", "prepare"], cwd=ROOT, env=env, check=True)
            part.rename(folder)
    return folder / "zubret.sqlite3"


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
        data = cls.root / "home" / "run"
        data.mkdir(parents=True, exist_ok=True)
        shutil.copy(empty_database(), data)
        cls.port = free_port()
        cls.address = f"http://127.0.0.1:{cls.port}"
        cls.log = open(cls.root / "log.txt", "w+")
        cls.addClassCleanup(cls.log.close)
        cls.program = cls.launch()
        cls.addClassCleanup(cls.stop_program)
        cls.until(cls.is_up, 180, "the launcher to bring Zubret up")
        cls.page_of_it = Page(cls.address)

    @classmethod
    def launch(cls, **more: str) -> subprocess.Popen:
        """The launcher, as a person starts it."""
        return launched(cls.root, int(more.pop("ZUBRET_PORT", cls.port)), cls.log, **more)

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
        return is_up(cls.address)

    until = staticmethod(until)

    def api(self, path: str):
        """What the API says, asked from outside the page."""
        return self.page_of_it.get(path)

    def send(self, method: str, path: str, body=None, kind: str = "application/json"):
        """A changing request with the page's token; the answer, or nothing."""
        return self.page_of_it.send(method, path, body, kind)

    def worker(self, queue: str) -> int:
        """The process number of this Zubret's worker of a queue; 0 while there is none."""
        name = held_by(self.root / "home" / "run" / f"worker-{queue}.lock")
        return int(name.split()[2]) if name else 0
