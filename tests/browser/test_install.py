"""To the end of the road: what an install will do, doing it, the game playing from its own folder, and back."""

import json
import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import soundfile
from playwright.sync_api import expect

from tests.browser.support import BrowserTest
from tests.server.test_install import tree
from tests.support import ROOT, tone, wav_file


class Install(BrowserTest):
    def test_a_rebuild_is_installed_played_from_the_game_s_own_folder_and_taken_back(self):
        game, page = self.register(), self.page
        before = tree(Path(self.game))
        self.open(f"#/{game}/install")
        expect(page.get_by_role("status").filter(has_text="Nothing is installed")).to_be_visible()
        page.get_by_role("link", name="Go to Rebuild").press("Enter")
        page.get_by_role("link", name="Find a stream in Locate").press("Enter")
        self.find("0251")
        self.row("0251").click()
        page.get_by_role("grid").press("Enter")
        page.get_by_label("Replacement file").set_input_files(
            wav_file(self.root / "fog.wav", tone(3, 44_100, 441, 2), 44_100)
        )
        page.get_by_role("button", name="Fit all that can be").click()
        page.get_by_role("link", name="Go to Rebuild").click()
        page.get_by_role("button", name="Rebuild and prove").click()
        self.until(lambda: (b := self.api(f"/mods/{self.mod_of(game)}/build")) and b["state"] == "proved", 90, "proof")
        self.assertEqual(tree(Path(self.game)), before)

        page.get_by_role("navigation", name="Route").get_by_role("link", name="Install").press("Enter")
        files = page.get_by_role("table", name="Files")
        expect(files.get_by_role("row").filter(has_text="sea.crate")).to_contain_text("replaced")
        expect(page.get_by_text("at its worst moment it takes")).to_be_visible()
        page.get_by_role("button", name="Install", exact=True).press("Enter")
        state = page.get_by_role("region", name="State of the game")
        expect(state).to_contain_text("Installed, as the newest rebuild.", timeout=60_000)
        expect(page.get_by_role("link", name="Install")).to_contain_text("installed")
        state.get_by_role("button", name="Read every byte").press("Enter")
        expect(state).to_contain_text("Every byte was read")
        trial = page.get_by_role("region", name="Trial run")
        trial.get_by_role("button", name="Play it in").first.click()
        expect(trial).to_contain_text("played", timeout=60_000)
        play = [sys.executable, "-m", "standin", "play", str(self.game), "fog"]
        told = json.loads(subprocess.run(play, cwd=ROOT, capture_output=True, text=True, check=True).stdout)
        self.assertTrue(told["played"])
        self.assertLess(told["frames"], 2 * 44_100 * 4)

        # An update of the game comes over it: nothing of that is overwritten; what is left of the mod goes.
        sums = Path(self.game) / "data" / "sums.txt"
        kept, now = sums.read_bytes(), tree(Path(self.game))
        sums.write_bytes(b"of an update\n")
        page.reload()
        strange = page.get_by_role("region", name="Not as it was installed")
        expect(strange).to_contain_text("sums.txt")
        page.get_by_role("button", name="Restore the original").press("Enter")
        expect(page.get_by_role("alert")).to_contain_text("changed by something else")
        sums.write_bytes(kept)
        self.assertEqual(tree(Path(self.game)), now)
        page.reload()
        expect(state).to_contain_text("Installed, as the newest rebuild.")
        page.get_by_role("button", name="Restore the original").press("Enter")
        expect(state).to_contain_text("Nothing is installed", timeout=60_000)
        self.assertEqual(tree(Path(self.game)), before)

    def test_two_mods_go_in_together_and_a_stream_that_both_want_is_turned_round(self):
        game, page = self.register(), self.page
        before = tree(Path(self.game))

        def tones(**files: int) -> None:
            for id, hz in files.items():
                self.open(f"#/{game}/locate")
                self.find(id[1:])
                self.row(id[1:]).click()
                page.get_by_role("grid").press("Enter")
                place = wav_file(self.root / f"{hz}.wav", tone(3, 44_100, hz, 2), 44_100)
                page.get_by_label("Replacement file").set_input_files(place)
                page.get_by_role("button", name="Fit all that can be").click()
                expect(page.get_by_role("link", name="Go to Rebuild")).to_be_visible()

        tones(_0251=300)
        page.get_by_role("navigation", name="Swaps of this mod").get_by_role("link", name="First mod").press("Enter")
        page.get_by_role("button", name="New mod").press("Enter")
        expect(page.get_by_label("name", exact=True)).to_be_focused()
        page.keyboard.type("Louder storms")
        page.keyboard.press("Tab")
        expect(page.get_by_role("button", name="Work on it: First mod")).to_be_visible()
        tones(_0251=600, _0247=500)
        self.open(f"#/{game}/mods")
        wanted = page.get_by_role("region", name="Wanted by several")
        expect(wanted).to_contain_text("1 stream wanted by several mods")
        expect(wanted.get_by_role("radio").nth(1)).to_be_checked()  # the lower one
        page.get_by_role("button", name="Place 2 of 2").press("Alt+ArrowUp")
        expect(page.get_by_role("button", name="Place 1 of 2: Louder storms")).to_be_focused()
        first = wanted.get_by_role("radio").first
        expect(first).to_have_accessible_name(re.compile("Louder storms"))  # the page has heard of the new order
        first.check()  # whatever that says
        expect(wanted).to_contain_text("Go by the order")

        def installed() -> float:
            """What pitch the game's own folder plays the stream at that both want."""
            self.open(f"#/{game}/rebuild")
            page.get_by_role("button", name="Rebuild a").click()
            mod = self.mod_of(game)
            fresh = lambda: (b := self.api(f"/mods/{mod}/build?together=true")) and (b["fresh"], b["state"])  # noqa: E731
            self.until(lambda: fresh() == (True, "proved"), 90, "the proof")
            self.open(f"#/{game}/install")
            page.get_by_role("button", name="Install").click()
            expect(page.get_by_role("status").filter(has_text="Installed, as the newest rebuild.")).to_be_visible(
                timeout=60_000
            )
            out = self.root / "fog.wav"
            play = [sys.executable, "-m", "standin", "play", str(self.game), "fog", "--loops", "1", "--wav", str(out)]
            subprocess.run(play, cwd=ROOT, capture_output=True, check=True)
            pcm, rate = soundfile.read(out, frames=44_100)
            return float(np.argmax(np.abs(np.fft.rfft(pcm[:, 0]))) * rate / len(pcm))

        self.assertAlmostEqual(installed(), 600, delta=2)
        self.open(f"#/{game}/mods")
        wanted.get_by_role("button", name="Go by the order").press("Enter")
        expect(wanted.get_by_role("radio").nth(1)).to_be_checked()
        self.assertAlmostEqual(installed(), 300, delta=2)
        self.open(f"#/{game}/mods")
        page.get_by_label("First mod is on").uncheck()
        page.get_by_role("button", name="Remove First mod").press("Enter")
        page.get_by_role("status").get_by_role("button", name="Undo").press("Enter")
        expect(page.get_by_role("button", name="Work on it: First mod")).to_be_visible()
        self.open(f"#/{game}/install")
        page.get_by_role("button", name="Restore the original").press("Enter")
        expect(page.get_by_role("status").filter(has_text="Nothing is installed")).to_be_visible(timeout=60_000)
        self.assertEqual(tree(Path(self.game)), before)
