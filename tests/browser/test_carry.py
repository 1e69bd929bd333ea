"""A mod goes over to a new build of its game: in a folder of its own, and at somebody else's, by a package."""

import signal
import subprocess
import sys

import numpy as np
import soundfile
from playwright.sync_api import expect

from bench.program import Page, free_port, is_up, launched
from tests.browser.support import BrowserTest
from tests.server.test_install import tree
from tests.support import ROOT, copy_of_demo, tone, wav_file


class Carry(BrowserTest):
    @classmethod
    def prepare_library(cls):
        copy_of_demo(cls.root / "library" / "Newer", "1.1")

    def fog(self, game: int) -> None:
        """A tone in the place of a piece of music."""
        self.open(f"#/{game}/locate")
        self.find("0251")
        self.row("0251").click()
        self.page.get_by_role("grid").press("Enter")
        fog = wav_file(self.root / "fog.wav", tone(3, 44_100, 441, 2), 44_100)
        self.page.get_by_label("Replacement file").set_input_files(fog)
        self.page.get_by_role("button", name="Fit all that can be").click()
        expect(self.page.get_by_role("link", name="Go to Rebuild")).to_be_visible()

    def heard(self, pcm: np.ndarray, rate: int) -> None:
        """It is the tone."""
        pitch = float(np.argmax(np.abs(np.fft.rfft(pcm[: 2 * rate : 2]))))
        self.assertAlmostEqual(pitch, 441, delta=2)

    def test_a_mod_is_brought_judged_carried_over_worked_down_and_rebuilt(self):
        page, old, new = self.page, self.register(), self.add_game("Newer")
        self.fog(old)
        self.open(f"#/{old}/locate")
        self.find("deck.bell")
        expect(page.get_by_role("grid", name="Streams").get_by_role("row")).to_have_count(6)
        self.row("2210").click()
        page.keyboard.press("Control+a")
        page.get_by_role("button", name="Put into the mod …").click()
        page.get_by_role("dialog").get_by_role("button", name="Put").click()
        ready = lambda: [m["ready"] for m in self.api(f"/games/{old}/mods")] == [6]  # noqa: E731
        self.until(ready, 60, "six swaps that fit")

        self.open(f"#/{new}/mods")
        page.get_by_role("button", name="From another game …").press("Enter")
        page.get_by_role("button", name="Bring First mod of Saltglass Ferry").press("Enter")
        rows = page.get_by_role("list", name="What became of it").get_by_role("listitem")
        expect(rows).to_have_count(6)
        verdicts = page.get_by_role("group", name="Verdicts")
        for verdict in ("same 1", "moved 1", "original changed 2", "format changed 1", "gone 1"):
            expect(verdicts.get_by_role("button", name=verdict)).to_be_visible()
        page.get_by_role("button", name="Hear it as it was: data/sea.crate › deck/deck.bell › 2211").press("Enter")
        self.until(lambda: self.strip("playing") == "true", 20, "sound")
        before = self.strip("audio")
        page.get_by_role("button", name="Hear it as it is now: data/sea.crate › deck/deck.bell › 2211").press("Enter")
        self.until(lambda: self.strip("audio") != before and self.strip("playing") == "true", 20, "the other sound")

        page.get_by_role("button", name="Carry over 2 that are safe").press("Enter")
        expect(page.get_by_text("✓ carried over")).to_have_count(2)
        page.get_by_role("status").filter(has_text="2 carried over").get_by_role("button", name="Undo").press("Enter")
        page.get_by_role("button", name="Carry over 2 that are safe").press("Enter")
        expect(page.get_by_text("4 are left to look at.")).to_be_visible()
        expect(page.get_by_role("navigation", name="Route")).to_contain_text("4 not in place")
        page.get_by_label("only what is left to do").check()
        expect(rows).to_have_count(4)
        for left in (3, 2, 1):
            rows.get_by_role("button", name="Carry over").first.press("Enter")
            expect(rows).to_have_count(left)
        page.get_by_role("button", name="Remove data/sea.crate").press("Enter")
        expect(page.get_by_text("The whole mod stands in this build.")).to_be_visible()
        ready = lambda: self.api(f"/games/{new}/mods")[-1]["ready"] == 5  # noqa: E731
        self.until(ready, 60, "five swaps that fit the new build")

        page.get_by_role("link", name="Mods").press("Enter")
        page.get_by_role("button", name="Remove First mod", exact=True).press("Enter")  # the empty one
        expect(page.get_by_role("button", name="Remove First mod of Saltglass Ferry")).to_be_disabled()
        self.game = self.root / "library" / "Newer"
        self.heard(*self.played(new, "fog"))

    def elsewhere(self) -> None:
        """Another Zubret with a data folder of its own, and only the new build in its library: somebody else's."""
        self.page.goto("about:blank")
        self.root = self.root / "elsewhere"
        copy_of_demo(self.root / "library" / "Theirs 1.1", "1.1")
        port = free_port()
        log = open(self.root / "log.txt", "w+")
        self.addCleanup(log.close)
        program = launched(self.root, port, log)
        self.addCleanup(lambda: (program.send_signal(signal.SIGINT), program.wait(30)))
        self.address = f"http://127.0.0.1:{port}"
        self.until(lambda: is_up(self.address), 180, "the other Zubret")
        self.page_of_it = Page(self.address)

    def test_packed_here_taken_in_elsewhere_rebuilt_installed_and_restored(self):
        page, old = self.page, self.register()
        self.fog(old)
        self.open(f"#/{old}/mods")
        page.get_by_role("button", name="First mod", exact=True).press("Enter")
        page.get_by_label("author", exact=True).fill("A. Ferryman")
        page.get_by_role("button", name="Pack it for others").press("Enter")
        with page.expect_download() as caught:
            page.get_by_role("link", name="Download First mod.zip").click()
        package = self.root / "of somebody.zip"
        caught.value.save_as(package)

        self.elsewhere()
        new = self.add_game("Theirs 1.1")
        before = tree(self.root / "library" / "Theirs 1.1")
        self.open(f"#/{new}/mods")
        page.get_by_role("button", name="Take in a mod …").press("Enter")
        dialog = page.get_by_role("dialog", name="Take in a mod")
        dialog.get_by_label("Files of the mod").set_input_files(wav_file(self.root / "no.wav", tone(1, 8000, 9), 8000))
        dialog.get_by_role("button", name="Find out what it changes").press("Enter")
        expect(dialog.get_by_role("status")).to_contain_text("It changes nothing here")
        dialog.get_by_role("button", name="Close").press("Enter")
        page.get_by_role("button", name="Take in a mod …").press("Enter")
        dialog.get_by_label("Files of the mod").set_input_files(package)
        expect(dialog.get_by_role("region", name="What is in it")).to_contain_text("by A. Ferryman")
        dialog.get_by_role("button", name="Take it in").press("Enter")
        page.get_by_role("button", name="that are safe").press("Enter")
        rows = page.get_by_role("list", name="What became of it").get_by_role("listitem")
        expect(rows.get_by_text("✓ carried over").first).to_be_visible()
        while rows.get_by_role("button", name="Carry over").count():
            left = rows.get_by_role("button", name="Carry over").count()
            rows.get_by_role("button", name="Carry over").first.press("Enter")
            expect(rows.get_by_role("button", name="Carry over")).to_have_count(left - 1)
        if rows.get_by_role("button", name="Remove").count():
            rows.get_by_role("button", name="Remove").press("Enter")
        expect(page.get_by_text("The whole mod stands in this build.")).to_be_visible()
        ready = lambda: (m := self.api(f"/games/{new}/mods")[-1])["swaps"] and m["ready"] == m["swaps"]  # noqa: E731
        self.until(ready, 60, "swaps that fit the new build")
        page.get_by_role("link", name="Mods").press("Enter")
        page.get_by_role("button", name="Remove First mod", exact=True).first.press("Enter")  # the empty one
        self.game = self.root / "library" / "Theirs 1.1"
        self.heard(*self.played(new, "fog"))
        self.open(f"#/{new}/install")
        page.get_by_role("button", name="Install", exact=True).press("Enter")
        state = page.get_by_role("region", name="State of the game")
        expect(state).to_contain_text("Installed, as the newest rebuild.")
        play = [
            sys.executable,
            "-m",
            "standin",
            "play",
            str(self.game),
            "fog",
            "--loops",
            "1",
            "--wav",
            str(self.root / "fog.wav"),
        ]
        subprocess.run(play, cwd=ROOT, capture_output=True, check=True)
        pcm, rate = soundfile.read(self.root / "fog.wav", dtype="int16")
        self.heard(pcm.ravel(), rate)
        page.get_by_role("button", name="Restore the original").press("Enter")
        expect(state).to_contain_text("Nothing is installed")
        self.assertEqual(tree(self.game), before)
