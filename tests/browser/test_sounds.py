"""Hearing, looking closer, solving the unknown bank, and taking hundreds of sounds out."""

import json

import mutagen
import numpy as np
import soundfile
from playwright.sync_api import expect

from standin.formats import PCM, Sound, bell, crate
from tests.browser.support import BrowserTest
from tests.support import noise


class Sounds(BrowserTest):
    """The demo game, and one with 300 longer streams."""

    @classmethod
    def prepare_library(cls):
        folder = cls.root / "library" / "Crowd"
        folder.mkdir()
        one = noise(160_000, 2, seed=4)
        sounds = [
            Sound(n, one[: 60_000 + 300 * n], 32000, (400, 50_000) if n % 3 else None, PCM) for n in range(1, 301)
        ]
        (folder / "crowd.crate").write_bytes(crate("x", [("crowd.bell", bell("crowd", sounds), False)]))
        (cls.root / "library" / "Tide").mkdir()
        quiet = np.zeros((48_000 * 300, 1), np.float32)
        soundfile.write(cls.root / "library" / "Tide" / "slack water.wav", quiet, 48_000, "PCM_U8")

    def test_1_listening_down_a_list_by_keyboard(self):
        page, game = self.page, self.register()
        self.open(f"#/{game}/locate")
        self.find("radio.bell")
        expect(page.locator("section[aria-label=Streams] p strong")).to_have_text("6")
        page.get_by_role("grid").focus()
        heard = []
        for number in ("5001", "5002", "5003", "5004", "5011", "5012"):
            page.keyboard.press("ArrowDown")
            expect(page.get_by_label("The chosen stream")).to_contain_text(f"radio.bell › {number}")
            self.until(
                lambda: self.strip("playing") == "true" and int(self.strip("frame")) > 0, 10, f"{number} to sound"
            )
            heard.append(self.strip("audio"))
        self.assertEqual(len(set(heard)), 6)
        # All in a row: the short ones follow one another by themselves.
        self.find("radio.bell 500")
        expect(page.locator("section[aria-label=Streams] p strong")).to_have_text("4")
        page.get_by_role("row").filter(has_text="5003").click()
        page.get_by_role("button", name="Play all in a row").click()
        self.until(lambda: self.strip("playing") == "false", 20, "the last one to end")
        expect(page.get_by_role("button", name="Play all in a row")).to_be_visible()

    def test_2_the_loop_by_numbers_and_its_seam(self):
        page, game = self.page, self.register()
        self.open(f"#/{game}/locate")
        self.find("radio.bell")
        page.get_by_role("row").filter(has_text="5011").click()
        page.get_by_role("grid").focus()
        page.keyboard.press("e")
        start, end = page.get_by_label("Loop start, frame"), page.get_by_label("Loop end, frame")
        expect(start).to_have_value("144000")
        expect(end).to_have_value("432000")
        expect(page.get_by_label("The stream's figures")).to_contain_text("LUFS")
        page.get_by_role("button", name="Across the seam").click()
        self.until(lambda: int(self.strip("frame")) > 400_000, 10, "the end of the loop")
        self.until(lambda: 144_000 <= int(self.strip("frame")) < 200_000, 15, "the beginning of the loop after it")
        # Other points are only tried out: the game's own come back with a click.
        start.fill("96000")
        start.press("Enter")
        expect(page.get_by_text("tried out here only")).to_be_visible()
        end.fill("120000")
        end.press("Enter")
        page.get_by_role("button", name="Play the loop", exact=True).click()
        self.until(lambda: 108_000 < int(self.strip("frame")) < 120_000, 10, "the second half of what is tried")
        self.until(lambda: 96_000 <= int(self.strip("frame")) < 108_000, 10, "its first half again")
        page.get_by_role("button", name="Back to the bank's").click()
        expect(start).to_have_value("144000")
        page.get_by_label("Hear channel 2 alone").click()
        page.get_by_label("Notes").fill("the third verse")
        page.get_by_label("Notes").blur()
        page.get_by_role("button", name="The next stream").click()
        expect(page.get_by_label("Stream", exact=True)).to_contain_text("radio.bell › 5012")
        self.open(f"#/{game}/locate")
        self.find("third verse")
        expect(page.locator("section[aria-label=Streams] p strong")).to_have_text("1")

    def test_2b_along_the_list_and_closer_by_keyboard(self):
        page, game = self.page, self.register()
        self.open(f"#/{game}/locate")
        self.find("music.bell")
        expect(page.locator("section[aria-label=Streams] p strong")).to_have_text("5")
        asked = []
        page.on("request", lambda r: asked.append(r.url) if "/pcm?" in r.url else None)
        page.get_by_role("row").filter(has_text="0246").click()
        following = [self.api(f"/games/{game}/streams?q=music.bell")["rows"][n]["audio"] for n in (1, 2)]
        # The next two are made ready while the first one plays.
        self.until(lambda: all(any(a in url for url in asked) for a in following), 10, "the next ones")
        page.get_by_role("grid").focus()
        page.keyboard.press("e")
        place = page.get_by_label("Stream", exact=True)
        expect(place).to_contain_text("music.bell › 0246")
        for key, number in (("ArrowDown", "0247"), ("ArrowDown", "0251"), ("ArrowUp", "0247")):
            page.keyboard.press(key)
            expect(place).to_contain_text(f"music.bell › {number}")
            self.until(lambda: self.strip("playing") == "true", 10, "it to go on playing")
            expect(page.get_by_label("The next stream")).to_be_enabled()
        wave = page.get_by_role("application")
        expect(wave).to_have_attribute("data-rough", "false", timeout=30_000)
        page.keyboard.press("Space")
        wave.focus()
        for _ in range(16):
            page.keyboard.press("+")
        expect(place).to_contain_text("64 frames in view")
        page.keyboard.press("0")
        expect(place).to_contain_text("1:17.798")
        page.get_by_role("group", name="Kind").get_by_role("button", name="effect").click()
        expect(page.get_by_label("The stream's figures")).to_contain_text("your choice")
        page.get_by_role("group", name="Kind").get_by_role("button", name="effect").click()
        expect(page.get_by_label("The stream's figures")).to_contain_text("a guess")
        page.keyboard.press("Escape")
        expect(page.get_by_role("row", selected=True)).to_contain_text("0247")
        expect(page.get_by_label("Name, id, bank, path")).to_have_value("music.bell")

    def test_3_the_unknown_bank_is_solved_and_its_layout_saved(self):
        page, game = self.page, self.register()
        self.open(f"#/{game}/survey")
        page.get_by_text("data/drift.bin").first.click()
        page.get_by_role("link", name="Listen to its bytes").click()
        parts = page.get_by_label("Parts", exact=True).get_by_role("button")
        expect(parts).to_have_count(3)
        readings = page.get_by_label("Readings").get_by_role("button")
        expect(readings.first).to_contain_text("step-table ADPCM mono, header none, nibbles high")
        readings.nth(1).click()
        self.until(lambda: self.strip("playing") == "true", 10, "the second reading")
        before = self.strip("audio")
        page.get_by_role("form", name="Turn").get_by_label("nibbles").select_option("high")
        self.until(lambda: self.strip("audio") not in ("", before), 10, "the turned reading")
        page.get_by_role("button", name="44.1", exact=True).click()
        expect(page.get_by_role("form", name="Turn")).to_contain_text("at 44")
        page.wait_for_url("**reading=**44100**")
        page.reload()  # how it was turned is in the address
        expect(page.get_by_role("form", name="Turn")).to_contain_text("at 44")
        expect(page.get_by_role("form", name="Turn").get_by_label("nibbles")).to_have_value("high")
        parts.nth(1).click()
        expect(readings.first).to_contain_text("nibbles high")
        page.get_by_role("button", name="Make a layout of it").click()
        expect(page.get_by_text("reads this file")).to_be_visible()
        expect(page.get_by_text("3 streams")).to_be_visible()
        page.get_by_role("button", name="Check", exact=True).click()
        expect(page.get_by_role("tabpanel")).to_contain_text("✓ gives back the identical file")
        expect(page.get_by_role("tabpanel")).to_contain_text("frames decoded")
        page.get_by_role("button", name="Save for surveys").click()
        page.get_by_role("button", name="Survey again").click()
        self.until(lambda: self.api(f"/games/{game}/streams?q=drift.bin")["total"] == 3, 60, "its streams")

    def test_4_three_hundred_as_ogg_cancelled_and_gone_on_with(self):
        page, game = self.page, self.add_game("Crowd")
        out = self.root / "library" / "ogg"
        self.open(f"#/{game}/locate")
        page.get_by_role("button", name="Take out …").click()
        dialog = page.get_by_role("dialog", name="Take sounds out")
        expect(dialog.get_by_label("Names of the first files")).to_contain_text("crowd/0001.wav")
        dialog.get_by_role("button", name="Ogg Vorbis").click()
        dialog.get_by_label("Names; / makes folders").fill("{bank}/{number:4} {id}")
        expect(dialog.get_by_label("Names of the first files")).to_contain_text("crowd/0001 0001.ogg")
        dialog.get_by_label("album, for all").fill("The crowd on the pier")
        dialog.get_by_label("track numbers").check()
        dialog.get_by_label("export folder").fill(str(out))
        dialog.get_by_role("button", name="Take out 300 files").click()
        self.until(lambda: len(list(out.glob("crowd/*.ogg"))) >= 10, 60, "the first files")
        dialog.get_by_role("button", name="Cancel").click()
        expect(dialog.get_by_role("button", name="Go on from here")).to_be_visible()
        there = len(list(out.glob("crowd/*.ogg")))
        self.assertLess(there, 300)
        self.assertEqual(list(out.rglob("*part")), [])
        first = (out / "crowd/0001 0001.ogg").stat().st_mtime_ns
        dialog.get_by_role("button", name="Go on from here").click()
        expect(dialog.get_by_text("files written")).to_be_visible(timeout=120_000)
        expect(dialog).to_contain_text("were whole already")
        files = sorted(out.glob("crowd/*.ogg"))
        self.assertEqual(len(files), 300)
        self.assertEqual((out / "crowd/0001 0001.ogg").stat().st_mtime_ns, first)
        tags = mutagen.File(files[16])
        self.assertEqual((tags["album"], tags["tracknumber"]), (["The crowd on the pier"], ["17"]))
        self.assertEqual((tags["loopstart"], tags["looplength"]), (["400"], ["49600"]))
        self.assertEqual(round(tags.info.length * 32000), 60_000 + 300 * 17)
        lines = [json.loads(line) for line in (out / "zubret manifest.jsonl").read_text().splitlines()]
        self.assertEqual(len({line["path"] for line in lines}), 300)

    def test_5_a_long_stream_is_encoded_by_a_job_and_then_downloaded(self):
        page, game = self.page, self.add_game("Tide")
        self.open(f"#/{game}/locate")
        self.row("slack water").click()
        panel = page.get_by_label("The chosen stream")
        with page.expect_download() as ready:
            panel.get_by_role("button", name="Take out Ogg").click()
            expect(panel.get_by_role("button", name="Take out Ogg")).to_be_disabled()
        self.assertEqual(ready.value.suggested_filename, "slack water.ogg")
        self.assertEqual(round(mutagen.File(ready.value.path()).info.length), 300)
        with page.expect_download() as ready:
            panel.get_by_role("link", name="Take out WAV").click()
        self.assertEqual(ready.value.suggested_filename, "slack water.wav")
        page.get_by_role("button", name="Jobs").click()
        expect(page.get_by_role("link", name="Download slack water.ogg")).to_be_visible()
