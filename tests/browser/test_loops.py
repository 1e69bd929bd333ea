"""Loops of a piece: looked for, taken, taken back, and there again after a reload. And a Zubret with a plug-in beside it."""

import re
import shutil
import subprocess
import sys

import numpy as np
from playwright.sync_api import expect

from tests.browser.support import BrowserTest
from tests.support import ROOT, tone, wav_file


class Loops(BrowserTest):
    @classmethod
    def prepare_library(cls):
        """A game of one stream, whose codec a plug-in brings."""
        shutil.copytree(ROOT / "docs/plug-in", cls.root / "plug-in")
        command = [sys.executable, "-m", "pip", "install", "--quiet", "--no-deps"]
        command += ["--target", cls.root / "beside", cls.root / "plug-in"]
        subprocess.run([str(word) for word in command], check=True, capture_output=True)
        folder = cls.root / "library" / "Squares"
        folder.mkdir()
        wave = np.rint(100 * np.sin(np.arange(40_000) * 0.3)).astype(int) + 128
        (folder / "bell.sq").write_bytes(bytes(wave.tolist()))

    @classmethod
    def launch(cls, **more: str):
        return super().launch(PYTHONPATH=str(cls.root / "beside"), **more)

    def test_a_plug_in_is_listed_and_what_it_decodes_is_heard(self):
        page = self.page
        self.open("#/settings")
        listed = page.get_by_role("region", name="Plug-ins")
        expect(listed).to_contain_text("square-eight · codec")
        expect(listed).to_contain_text("zubret-example 1.0")
        text = "zubret: 1\nid: squares\ndescribes: stream\nnames: [.sq]\ncodecs: {sq: {codec: plug-in, plug_in: square-eight}}\n"
        row = self.send("POST", "/layouts", {"text": text + "given: {stream.codec: sq, stream.rate: 8000}\n"})
        self.send("POST", f"/layouts/{row['id']}/versions")
        game = self.add_game("Squares")
        self.open(f"#/{game}/locate")
        expect(page.get_by_role("grid", name="Streams")).to_contain_text("square-eight")
        self.row("bell").click()
        self.until(lambda: self.strip("playing") == "true", 30, "what the plug-in decodes")
        self.until(lambda: int(self.strip("frame")) > 2000, 30, "some of it")
        page.keyboard.press("Space")

    def test_a_loop_is_found_taken_heard_and_taken_back(self):
        game, page = self.register(), self.page
        self.open(f"#/{game}/locate")
        self.find("0246")
        self.row("0246").click()
        page.get_by_role("grid").press("Enter")
        page.get_by_role("button", name="Begin with the original").click()
        ready = page.get_by_role("link", name="Go to Rebuild")
        expect(ready).to_be_visible()
        start, end = page.get_by_label("loop start, frames"), page.get_by_label("loop end, frames")
        own = start.input_value()

        def loop() -> list[int]:
            return [int(field.input_value().replace("\u202f", "")) for field in (start, end)]

        length = loop()[1] - loop()[0]
        page.get_by_role("button", name="Look for loops in it").press("Enter")
        list_ = page.get_by_role("table", name="Loops that were found")
        first = list_.get_by_role("row").nth(1)
        expect(first.get_by_role("cell").first).to_have_text("0:53.33", timeout=60_000)  # workers step back
        first.get_by_role("button", name="Hear the seam").press("Enter")  # before it is anybody's loop
        self.until(lambda: self.strip("playing") == "true", 10, "the seam")
        swap = next(s for s in self.api(f"/mods/{self.mod_of(game)}/swaps") if s["stream"]["stream_id"] == "0246")
        found = self.api(f"/swaps/{swap['id']}/loops")["loops"][0]
        behind = range(
            found["start"], found["end"] - 4 * swap["info"]["rate"]
        )  # it begins three seconds before the end
        self.until(lambda: int(self.strip("frame")) in behind, 20, "what stands behind the seam")
        first.get_by_role("button", name="Stop the seam").press("Enter")
        self.assertEqual(self.strip("playing"), "false")
        first.get_by_role("button", name="Take it: the loop of 0:53.33").press("Enter")
        expect(first).to_contain_text("✓ taken")
        expect(start).not_to_have_value(own)
        frames = loop()
        self.assertEqual(frames[1] - frames[0], length)  # as long as the one that the piece was made with
        page.get_by_role("button", name="Fit all that can be").click()  # its start misses a block edge
        expect(ready).to_be_visible()
        swap = self.api(f"/swaps/{swap['id']}")
        self.assertEqual(swap["new"]["loop"][1] - swap["new"]["loop"][0], length)

        page.reload()
        page.get_by_text("One loop was found").click()
        expect(first).to_contain_text("✓ taken")
        page.get_by_label("loop", exact=True).select_option("source")
        expect(start).to_have_value(own)
        first.get_by_role("button", name="Take it: the loop").click()
        expect(start).not_to_have_value(own)
        page.keyboard.press("Control+z")
        expect(start).to_have_value(own)
        expect(first.get_by_role("button", name="Take it: the loop")).to_be_visible()

    def test_a_seam_is_moved_while_it_is_heard_and_the_game_plays_it_cleanly(self):
        game, page = self.register(), self.page
        self.open(f"#/{game}/locate")
        self.find("0251")
        self.row("0251").click()
        page.get_by_role("grid").press("Enter")
        periods = wav_file(self.root / "periods.wav", tone(8, 44_100, 441, 2), 44_100)  # 100 frames each
        page.get_by_label("Replacement file").set_input_files(periods)
        page.get_by_role("button", name="Fit all that can be").click()
        ready = page.get_by_role("link", name="Go to Rebuild")
        expect(ready).to_be_visible()
        page.get_by_label("loop", exact=True).select_option("points")
        for edge, frame in (("start", "44100"), ("end", "308730")):  # 30 frames too late
            page.get_by_label(f"loop {edge}, frames").fill(frame)
            page.get_by_label(f"loop {edge}, frames").press("Tab")
            expect(page.get_by_label(f"loop {edge}, frames")).to_have_value(re.compile(frame[-3:]))
        expect(ready).to_be_visible()
        page.get_by_role("button", name="seam ±3 s").click()
        seam = page.get_by_role("group", name="Seam")
        expect(seam.get_by_role("status")).to_contain_text("a click")
        seam.get_by_role("button", name="Hear it again and again").click()
        self.until(lambda: self.strip("playing") == "true", 10, "the seam")
        seam.get_by_role("button", name="The end back to a zero crossing").press("Enter")
        expect(page.get_by_label("loop end, frames")).to_have_value(re.compile("308.70"))
        expect(seam.get_by_role("status")).to_contain_text("nothing stands out")
        self.until(lambda: self.strip("playing") == "true", 10, "the seam, as it is now")
        for way in ("on", "back"):
            before = page.get_by_label("loop end, frames").input_value()
            seam.get_by_role("button", name=f"The end {way} by a frame").press("Enter")
            expect(page.get_by_label("loop end, frames")).not_to_have_value(before)
        expect(seam.get_by_role("status")).to_contain_text("nothing stands out")
        seam.get_by_role("button", name="Stop").click()

        swap = next(s for s in self.api(f"/mods/{self.mod_of(game)}/swaps") if s["source_name"] == "periods.wav")
        start, end = swap["new"]["loop"]
        pcm, rate = self.played(game, "fog", loops=3)
        pcm = pcm.reshape(-1, 2)
        self.assertEqual((rate, len(pcm)), (44_100, start + 3 * (end - start)))
        step = np.abs(np.diff(pcm[:, 0].astype(int)))
        for at in (end, 2 * end - start):  # no sample is further from the one before it than elsewhere
            self.assertLessEqual(step[at - 2 : at + 2].max(), step[:start].max() + 2)

        # All of it is undone step by step, and done again.
        before = self.api(f"/swaps/{swap['id']}")
        self.open(f"#/{game}/swap/{swap['id']}")
        for name, undos in (("Undo", range(before["undos"] - 1, -1, -1)), ("Redo", range(1, before["undos"] + 1))):
            for count in undos:
                page.get_by_role("button", name=name, exact=True).click()
                self.until(lambda n=count: self.api(f"/swaps/{swap['id']}")["undos"] == n, 10, name)
            if name == "Undo":
                self.assertFalse(self.api(f"/swaps/{swap['id']}")["treatment"]["resample"])
        self.until(lambda: (now := self.api(f"/swaps/{swap['id']}"))["state"] == "ready" and now, 10, "the result")
        after = self.api(f"/swaps/{swap['id']}")
        self.assertEqual((after["treatment"], after["new"]["audio"]), (before["treatment"], before["new"]["audio"]))
