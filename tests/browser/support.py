"""A real browser in front of a real Zubret."""

import json
import shutil
import subprocess
import sys
import wave

import numpy as np
from playwright.sync_api import Page, expect, sync_playwright

from tests.program import ProgramTest
from tests.support import ROOT

expect.set_options(timeout=45_000)  # a busy machine is no fault of the product
LOST = """
    window.lostFocus = [];
    let held, since = 0;
    addEventListener("focusin", (e) => { held = e.target; since = 0; }, true);
    setInterval(() => {
        if (!held || held.isConnected || document.activeElement !== document.body) since = 0;
        else if (++since === 3) window.lostFocus.push(held.outerHTML.slice(0, 200));
    }, 100);
"""
"""Notes what had the focus when it went, if nothing else has it a moment later."""


class BrowserTest(ProgramTest):
    """Each class has one browser, too."""

    BROWSER = "chromium-headless-shell"
    """Debian's Chromium without what surrounds a page: it takes less time, and has no microphone."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.playwright = sync_playwright().start()
        cls.addClassCleanup(cls.playwright.stop)
        cls.browser = cls.playwright.chromium.launch(
            executable_path=shutil.which(cls.BROWSER),
            args=[
                "--no-sandbox",
                "--disable-gpu",
                "--disable-background-networking",
                "--disable-component-update",
                "--autoplay-policy=no-user-gesture-required",
                "--use-fake-device-for-media-stream",  # a microphone that beeps; who may hear it, each test says
            ],
        )
        cls.addClassCleanup(cls.browser.close)

    def setUp(self):
        self.context = self.browser.new_context(
            viewport={"width": 1280, "height": 800}, bypass_csp=True, reduced_motion="reduce"
        )
        self.context.set_default_timeout(45_000)
        self.addCleanup(self.context.close)
        self.context.add_init_script(LOST)
        self.page: Page = self.context.new_page()
        self.faults: list[str] = []
        self.page.on("pageerror", lambda e: self.faults.append(str(e)))
        self.page.on("request", lambda r: self._local(r.url))

    def _local(self, url: str) -> None:
        if not url.startswith((self.address, "data:", "blob:")):
            self.faults.append(f"a request left the machine: {url}")

    def tearDown(self):
        self.assertEqual(self.faults, [])
        for page in self.context.pages:
            self.assertEqual(page.evaluate("window.lostFocus"), [], "the focus fell to nothing with these")

    def register(self) -> int:
        """The demo game's number, registered through the page's own means if it is not yet."""
        return self.add_game("Saltglass Ferry")

    def add_game(self, name: str) -> int:
        """A game of the library by its folder's name, added if it is not yet; its number once it is surveyed."""

        def surveyed() -> int:
            return next((g["id"] for g in self.api("/games") if g["name"] == name and g["surveyed"]), 0)

        if not any(g["name"] == name for g in self.api("/games")):
            self.open("#/start")
            folders = self.page.get_by_role("list", name="Folders")
            folders.get_by_role("button", name=str(self.root / "library")).click()
            folders.get_by_role("button", name=name, exact=True).click()
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

    def mod_of(self, game: int) -> int:
        return next(g["mod_id"] for g in self.api("/games") if g["id"] == game)

    def played(self, game: int, cue: str, loops: int = 1) -> tuple[np.ndarray, int]:
        """Rebuild on the screen, see it proved, and have the stand-in play a cue of the rebuilt game: int16 samples one behind
        the other, and their rate."""
        self.open(f"#/{game}/rebuild")
        self.page.get_by_role("button", name="Rebuild a").click()
        mod = self.mod_of(game)
        build = self.until(
            lambda: (b := self.api(f"/mods/{mod}/build")) and b["state"] == "proved" and b["fresh"] and b,
            90,
            "the proof",
        )
        over, out = self.root / "home" / "run" / "builds" / str(build["id"]), self.root / "played.wav"
        play = [sys.executable, "-m", "standin", "play", self.game, cue, "--over", over, "--loops", loops, "--wav", out]
        done = subprocess.run([str(word) for word in play], cwd=ROOT, capture_output=True, text=True)
        told = json.loads(done.stdout)
        self.assertTrue(told["played"], done.stdout)
        self.log = " ".join(told["log"])
        with wave.open(str(out)) as file:
            return np.frombuffer(file.readframes(file.getnframes()), "<i2"), file.getframerate()
