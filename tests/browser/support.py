"""A real Zubret, started by its launcher, and a real browser in front of it."""

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
from playwright.sync_api import Page, expect, sync_playwright

from tests.support import ROOT, copy_of_demo

expect.set_options(timeout=20_000)  # a busy machine is no fault of the product


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


class BrowserTest(SimpleTestCase):
    """Each class has a Zubret with a copy of the demo game in its library, and one browser."""

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
        env = {k: v for k, v in os.environ.items() if k not in ("ZUBRET_TASKS", "DJANGO_SETTINGS_MODULE")}
        env |= {
            "ZUBRET_DATA_DIR": str(cls.root / "home"),
            "ZUBRET_LIBRARY_ROOTS": str(cls.root / "library"),
            "ZUBRET_PORT": str(cls.port),
        }
        cls.log = open(cls.root / "log.txt", "w+")
        cls.program = subprocess.Popen(
            [sys.executable, "zubret.py", "run"], cwd=ROOT, env=env, stdout=cls.log, stderr=cls.log
        )
        cls.addClassCleanup(cls.stop_program)
        cls.until(cls.is_up, 180, "the launcher to bring Zubret up")
        cls.playwright = sync_playwright().start()
        cls.addClassCleanup(cls.playwright.stop)
        cls.browser = cls.playwright.chromium.launch(
            executable_path=shutil.which("chromium"),
            args=[
                "--no-sandbox",
                "--disable-gpu",
                "--disable-background-networking",
                "--disable-component-update",
                "--autoplay-policy=no-user-gesture-required",
            ],
        )
        cls.addClassCleanup(cls.browser.close)

    @classmethod
    def prepare_library(cls):
        """For a class that wants more in the library."""

    @classmethod
    def stop_program(cls):
        cls.program.send_signal(signal.SIGINT)
        cls.program.wait(timeout=30)
        cls.log.close()

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

    def setUp(self):
        self.context = self.browser.new_context(
            viewport={"width": 1280, "height": 800}, bypass_csp=True, reduced_motion="reduce"
        )
        self.context.set_default_timeout(20_000)
        self.addCleanup(self.context.close)
        self.page: Page = self.context.new_page()
        self.faults: list[str] = []
        self.page.on("pageerror", lambda e: self.faults.append(str(e)))
        self.page.on("request", lambda r: self._local(r.url))

    def _local(self, url: str) -> None:
        if not url.startswith((self.address, "data:", "blob:")):
            self.faults.append(f"a request left the machine: {url}")

    def tearDown(self):
        self.assertEqual(self.faults, [])

    def api(self, path: str):
        """What the API says, asked from outside the page."""
        with urllib.request.urlopen(f"{self.address}/api{path}", timeout=30) as answer:
            data = answer.read()
            return json.loads(data) if "json" in answer.headers["Content-Type"] else data

    def register(self) -> int:
        """The demo game's number, registered through the page's own means if it is not yet."""
        return self.add_game("Saltglass Ferry")

    def add_game(self, name: str) -> int:
        """A game of the library by its folder's name, added if it is not yet; its number once it is surveyed."""

        def surveyed() -> int:
            return next((g["id"] for g in self.api("/games") if g["name"] == name and g["surveyed"]), 0)

        if not any(g["name"] == name for g in self.api("/games")):
            self.open("#/start")
            self.page.get_by_role("button", name=str(self.root / "library")).click()
            self.page.get_by_role("button", name=name, exact=True).click()
            self.page.get_by_role("button", name="Survey this folder").click()
        return self.until(surveyed, 60, "the survey")

    def open(self, place: str):
        self.page.goto(f"{self.address}/{place}")

    def strip(self, name: str) -> str:
        """A fact of the listening strip: playing, side, audio or frame."""
        return self.page.locator("footer").get_attribute(f"data-{name}") or ""

    def row(self, text: str):
        """A row of Locate's table."""
        return self.page.get_by_role("row").filter(has_text=text).first

    def find(self, text: str):
        """Ask Locate's list, and wait for its answer: a click on what is about to go away hits nothing."""
        self.page.get_by_label("Name, id, bank, path").fill(text)
        expect(self.page.get_by_role("grid", name="Streams")).to_have_attribute("aria-busy", "false")
