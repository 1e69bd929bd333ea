"""The last mile in every way that the game takes: put there, heard from its own folder, taken back; a mod of somebody else's; who wins;
and load rules for a game that has none."""

import json
import subprocess
import sys
import zipfile
from pathlib import Path
from unittest.mock import patch

import numpy as np
import soundfile
from playwright.sync_api import expect

from standin import make as making
from standin.make import make
from tests.browser.support import BrowserTest
from tests.server.test_install import tree
from tests.support import ROOT, copy_of_demo, tone, wav_file

WAYS = {
    "in place": "data/sea.crate",
    "loose files": "loose files",
    "tides (new archive)": "data/tide_01.crate",
    "an overlay folder (overlay folder)": "the overlay over/mods",
}
"""Each way, and from where the stand-in game then says that the music comes."""


class Ways(BrowserTest):
    @classmethod
    def prepare_library(cls):
        other = cls.root / "library" / "Other Boat"
        copy_of_demo(other)
        ini = (other / "ferry.ini").read_text()
        (other / "ferry.ini").unlink()
        (other / "boat.ini").write_text(ini.replace("[ferry]", "[boat]"))

    def fog(self, game: int, hz: int) -> None:
        self.open(f"#/{game}/locate")
        self.find("0251")
        self.row("0251").click()
        self.page.get_by_role("grid").press("Enter")
        place = wav_file(self.root / f"{hz}.wav", tone(3, 44_100, hz, 2), 44_100)
        self.page.get_by_label("Replacement file").set_input_files(place)
        self.page.get_by_role("button", name="Fit all that can be").click()
        expect(self.page.get_by_role("link", name="Go to Rebuild")).to_be_visible()

    def rebuilt(self, game: int) -> None:
        page = self.page
        page.get_by_role("button", name="Rebuild a").click()
        mod = self.mod_of(game)
        state = lambda b: b and (b["fresh"], b["state"]) == (True, "proved")  # noqa: E731
        both = lambda: [self.api(f"/mods/{mod}/build?together={t}") for t in ("true", "false")]  # noqa: E731
        self.until(lambda: any(map(state, both())), 120, "the proof")

    def installed(self, game: int) -> None:
        page = self.page
        page.get_by_role("navigation", name="Route").get_by_role("link", name="Install").press("Enter")
        page.get_by_role("button", name="Install", exact=True).click()
        expect(page.get_by_role("status").filter(has_text="Installed, as the newest rebuild.")).to_be_visible()

    def restored(self, before: dict[str, str]) -> None:
        self.page.get_by_role("button", name="Restore the original").press("Enter")
        expect(self.page.get_by_role("status").filter(has_text="Nothing is installed")).to_be_visible()
        self.assertEqual(tree(Path(self.game)), before)

    def heard(self, cue: str = "fog") -> tuple[float, str]:
        """The pitch that the game's own folder plays, and from where its bank comes."""
        out = self.root / "heard.wav"
        play = [sys.executable, "-m", "standin", "play", str(self.game), cue, "--loops", "1", "--wav", str(out)]
        told = json.loads(subprocess.run(play, cwd=ROOT, capture_output=True, text=True, check=True).stdout)
        self.assertTrue(told["played"], told)
        pcm, rate = soundfile.read(out, frames=44_100)
        line = next(x for x in told["log"] if x.startswith("sea/music/music.bell comes from"))
        return float(np.argmax(np.abs(np.fft.rfft(pcm[:, 0]))) * rate / len(pcm)), line.partition("from ")[2]

    def test_every_way_is_shown_installed_heard_and_taken_back(self):
        game, page = self.register(), self.page
        before = tree(Path(self.game))
        self.fog(game, 441)
        for title, source in WAYS.items():
            self.open(f"#/{game}/rebuild")
            page.reload()
            how = page.get_by_role("region", name="How the game takes it")
            how.get_by_role("combobox").select_option(label=title)
            planned = page.get_by_role("region", name="What will be written")
            said = {"in place": "data/sums.txt", "loose files": "set aside", "tides (new archive)": "new, in tides"}
            expect(planned).to_contain_text(said.get(title, 'the line "overlay=over/mods" is added'))
            if "tides" in title:
                how.get_by_role("checkbox").check()
            self.rebuilt(game)
            if title == "loose files":
                expect(page.get_by_role("region", name="Proof")).to_contain_text("set aside, and kept")
                trial = page.get_by_role("region", name="Trial run")
                trial.get_by_role("button", name="Play it in").first.click()
                expect(trial).to_contain_text("played", timeout=60_000)
            self.installed(game)
            if "tides" in title:  # what was ticked stays so
                expect(page.get_by_role("list", name="What only you can do").get_by_role("checkbox")).to_be_checked()
            pitch, where = self.heard()
            self.assertEqual((round(pitch / 3), where), (147, source))
            self.restored(before)

    def test_a_zip_of_somebody_else_s_is_taken_in_contradicted_and_installed(self):
        game, page = self.register(), self.page
        before = tree(Path(self.game))
        render = making.render
        fog = tone(40, 44_100, 600, 2), 0, 40 * 44_100
        with patch.object(making, "render", lambda piece, *grid: fog if piece.name == "fog" else render(piece, *grid)):
            making._music_bank.cache_clear()
            make(self.root / "theirs")  # as a tool of the game's own would
        making._music_bank.cache_clear()
        theirs = self.root / "theirs" / "data" / "sea.crate"
        pack = self.root / "Fog horns 2.zip"
        with zipfile.ZipFile(pack, "w", zipfile.ZIP_DEFLATED) as out:
            out.write(theirs, "Fog horns/copy this/data/sea.crate")
            out.writestr("Fog horns/read this.txt", "Copy all over the game.")
        self.open(f"#/{game}/mods")
        page.get_by_role("button", name="Take in a mod …").press("Enter")
        dialog = page.get_by_role("dialog", name="Take in a mod")
        dialog.get_by_label("Files of the mod").set_input_files(pack)
        expect(dialog.get_by_label("name of the mod")).to_have_value("Fog horns 2")
        dialog.get_by_role("button", name="Find out what it changes").press("Enter")
        expect(dialog.get_by_role("status")).to_contain_text("It changes 1 stream")
        expect(dialog.get_by_role("list", name="Left out")).to_contain_text("read this.txt")
        dialog.get_by_role("button", name="Show the mods").press("Enter")
        expect(page.get_by_role("button", name="Place 2 of 2: Fog horns 2")).to_be_visible()
        mine = next(m for m in self.api(f"/games/{game}/mods") if m["name"] != "Fog horns 2")
        if not mine["swaps"]:
            page.get_by_role("button", name=f"Work on it: {mine['name']}").press("Enter")
            self.fog(game, 441)
        self.open(f"#/{game}/mods")
        wanted = page.get_by_role("region", name="Wanted by several")
        expect(wanted).to_contain_text("1 stream wanted by several mods")
        for which, hz in ((1, 600), (0, 441)):
            self.open(f"#/{game}/mods")
            wanted.get_by_role("radio").nth(which).check()
            self.open(f"#/{game}/rebuild")
            page.reload()
            page.get_by_role("combobox", name="How the game takes it").select_option(label="tides (new archive)")
            self.rebuilt(game)
            self.installed(game)
            self.assertAlmostEqual(self.heard()[0], hz, delta=2)
            self.restored(before)

    def test_who_wins_is_told_and_asked_for(self):
        game, page = self.register(), self.page
        self.open(f"#/{game}/locate")
        page.get_by_role("button", name="State").click()
        page.get_by_role("checkbox", name="overridden by another").check()
        page.keyboard.press("Escape")
        self.row("horn").click()
        wins = page.get_by_role("region", name="Who wins")
        expect(wins).to_contain_text("The game plays another one")
        expect(wins).to_contain_text("the game reads patches of the deck after the deck")
        wins.get_by_role("link", name="look at it").press("Enter")
        expect(page.get_by_text("data/patch_01.zip").first).to_be_visible()

    def test_load_rules_are_begun_from_the_survey_and_written_on_the_bench(self):
        page, game = self.page, self.add_game("Other Boat")
        self.fog(game, 441)
        self.open(f"#/{game}/rebuild")
        how = page.get_by_role("region", name="How the game takes it")
        expect(how).to_contain_text("This game has no load rules yet")
        how.get_by_role("button", name="Write load rules …").press("Enter")
        of_game = page.get_by_role("region", name="The game")
        expect(of_game).to_contain_text("These rules recognise this game, build 1.0")
        expect(of_game.get_by_role("row").filter(has_text="data/patch_01.zip")).to_be_visible()
        of_game.get_by_label("who holds").fill("ambience/horn.wav")
        of_game.get_by_role("button", name="Ask").press("Enter")
        expect(of_game).to_contain_text("Nothing that the game reads holds ambience/horn.wav")  # nothing is saved yet
        editor = page.get_by_role("region", name="Layout text").get_by_role("textbox")
        editor.press("Control+End")
        page.keyboard.type("\nby_hnad: [Start it once.]")
        expect(page.get_by_text('Did you mean "by_hand"?')).to_be_visible()
        for _ in "nad: [Start it once.]":
            page.keyboard.press("Backspace")
        page.keyboard.type("and: [Start it once.]")
        expect(page.get_by_text("these load rules are this game's")).to_be_visible()
        page.get_by_role("button", name="Save", exact=True).click()
        expect(page.get_by_role("status").filter(has_text="The game is read by these load rules now")).to_be_visible()
        of_game.get_by_label("who holds").fill("ambience/horn.wav")
        of_game.get_by_role("button", name="Ask").press("Enter")
        holders = of_game.get_by_role("list", name="Who holds ambience/horn.wav").get_by_role("listitem")
        expect(holders).to_have_text(["data/patch_01.zip ● wins", "data/deck.zip the game reads patch after deck"])
        self.open(f"#/{game}/rebuild")
        expect(how.get_by_role("checkbox", name="Start it once.")).to_be_visible()
        expect(how.get_by_role("button", name="Other Boat")).to_be_visible()
