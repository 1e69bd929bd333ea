"""Spoken lines by the folder and by the microphone, and a treatment in depth: on the screen, in the rebuild and in the stand-in."""

import numpy as np
from playwright.sync_api import expect

from standin.formats import Sound, bell, crate
from standin.lines import new_lines
from tests.browser.support import BrowserTest
from tests.support import noise, tone, wav_file
from zubret_core.base.pcm import snr_db


class Lines(BrowserTest):
    BROWSER = "chromium"

    def setUp(self):
        super().setUp()
        self.number = self.register()
        self.mod = self.mod_of(self.number)

    def takes(self) -> list[dict]:
        return [s for s in self.api(f"/mods/{self.mod}/swaps") if s["chosen"]]

    def line(self, text: str):
        return self.page.get_by_role("grid", name="Lines").get_by_role("row").filter(has_text=text).first

    def test_a_folder_of_two_languages_becomes_takes_and_is_undone_at_once(self):
        page, folder = self.page, self.root / "new lines"
        new_lines(folder)
        self.open(f"#/{self.number}/swap")
        page.get_by_role("link", name="Line board").click()
        page.get_by_label("Text, id, bank, notes").fill("crew")
        expect(page.get_by_text("24 lines")).to_be_visible()
        page.get_by_role("button", name="Texts …").click()
        dialog = page.get_by_role("dialog")
        dialog.locator("input[type=file]").set_input_files(folder / "spoken texts.csv")
        expect(dialog).to_contain_text("0 titles, 24 texts")
        dialog.get_by_role("button", name="Take it over for 24 streams").press("Enter")
        expect(self.line("Achterleine los.")).to_contain_text("German")

        page.get_by_role("button", name="Files for these lines …").press("Enter")
        dialog.get_by_label("Choose a folder").set_input_files(str(folder))
        expect(dialog).to_contain_text("16 files of 17 matched")
        expect(dialog).to_contain_text("8 lines without a file")
        dialog.get_by_label("Template of the names").fill("{size}")
        expect(dialog.get_by_role("alert")).to_contain_text("{size} can't stand in a template")
        dialog.get_by_label("Template of the names").fill("{language}/{id} take *")
        expect(dialog.get_by_role("region", name="Matches")).to_contain_text("by the template")
        dialog.get_by_label("level of all").select_option("number")
        dialog.get_by_label("Name of this treatment").fill("Ferry voices")
        dialog.get_by_role("button", name="Keep it").press("Enter")
        expect(dialog.get_by_role("button", name="Ferry voices", exact=True)).to_have_attribute("aria-pressed", "true")
        dialog.get_by_role("button", name="Make 16 takes").press("Enter")
        told = page.get_by_role("status").filter(has_text="16 takes made.")
        expect(told).to_be_visible(timeout=60_000)
        self.until(lambda: all(s["state"] == "ready" for s in self.takes()), 90, "all takes")
        expect(page.get_by_role("button", name="German 8 of 8")).to_be_visible()
        expect(self.line("Achterleine los.")).to_contain_text("✓ fits")
        self.assertEqual({s["new"]["rate"] for s in self.takes()}, {24_000})

        # Down the list by keys: the new one is heard; one is done, all are treated alike, and that is taken back.
        self.line("Achterleine los.").click()
        self.until(lambda: self.strip("side") == "new" and self.strip("playing") == "true", 10, "the new line")
        page.keyboard.press("d")
        expect(self.line("Achterleine los.").get_by_role("button", name="done", exact=True)).to_be_visible()
        before = {s["id"]: s["new"]["audio"] for s in self.takes()}
        page.keyboard.press("Control+a")
        page.get_by_role("button", name="Treat alike …").press("Enter")
        dialog.get_by_label("level of all").select_option("gain")
        dialog.get_by_label("gain, dB").fill("-6")
        dialog.get_by_label("gain, dB").press("Tab")
        dialog.get_by_role("button", name="Treat them").press("Enter")
        told = page.get_by_role("status").filter(has_text="16 takes treated alike.")
        expect(told).to_be_visible()
        quieter = lambda: {s["treatment"]["gain_db"] for s in self.takes()} == {-6.0}  # noqa: E731
        self.until(lambda: quieter() and all(s["new"] for s in self.takes()), 60, "all of them quieter")
        told.get_by_role("button", name="Undo").press("Enter")
        self.until(lambda: {s["id"]: (s["new"] or {}).get("audio") for s in self.takes()} == before, 60, "as before")

        first = next(
            s for s in self.takes() if s["stream"]["bank"] == "crew_de.bell" and s["stream"]["stream_id"] == "1001"
        )
        pcm, rate = self.played(self.number, "crew_de:1001")
        self.assertEqual((rate, len(pcm)), (24_000, first["new"]["frames"]))

    def test_a_line_is_recorded_kept_and_played_by_the_game(self):
        page = self.page
        self.open(f"#/{self.number}/lines?q=crew_fr")
        self.line("1006").click()
        page.keyboard.press("r")
        dialog = page.get_by_role("dialog", name="Record")
        expect(dialog.get_by_role("alert")).to_contain_text("does not let Zubret listen to a microphone")
        self.context.grant_permissions(["microphone"], origin=self.address)
        dialog.get_by_role("button", name="Try again").press("Enter")
        expect(dialog.get_by_role("button", name="● Record")).to_be_enabled()
        dialog.get_by_label("count in").uncheck()
        dialog.get_by_role("paragraph").first.focus()

        def recorded(least: float) -> None:
            shown = dialog.get_by_role("status")
            self.until(lambda: float(shown.inner_text().split()[0]) > least, 20, "what is recorded")

        # A tab that is closed while it records loses nothing.
        dialog.get_by_role("button", name="● Record").press("Enter")
        recorded(1.2)
        page.reload()
        left = page.get_by_role("status").filter(has_text="was cut off")
        expect(left).to_contain_text("1006")
        left.get_by_role("button", name="Make a take of it").press("Enter")
        self.until(lambda: [s["state"] for s in self.takes() if "crew_fr" in s["place"]] == ["ready"], 60, "the take")
        expect(left).to_have_count(0)

        # By keys alone: record, stop, hear, keep; the next line follows. It is the line that was gone to, also where the list is
        # being told anew and is slow.
        held: list = []
        page.route("**/lines?*", lambda route: held.append(route))
        page.evaluate("new BroadcastChannel('zubret').postMessage('changed')")
        self.until(lambda: page.wait_for_timeout(50) or held, 10, "the list asked for anew")
        self.line("1007").click()
        page.keyboard.press("r")
        expect(dialog.get_by_role("heading")).to_contain_text("1007")
        for route in held:
            route.continue_()
        page.unroute("**/lines?*")
        expect(dialog.get_by_role("button", name="● Record")).to_be_enabled()
        page.keyboard.press("r")
        recorded(0.8)
        page.keyboard.press("r")
        expect(dialog.get_by_role("button", name="Keep, next")).to_be_enabled()
        page.keyboard.press("Enter")
        expect(dialog.get_by_role("heading")).to_contain_text("1008")
        page.keyboard.press("r")
        recorded(0.3)
        page.keyboard.press("r")
        expect(dialog.get_by_role("button", name="Keep, next")).to_be_enabled()
        page.keyboard.press("Escape")  # neither kept nor passed over
        expect(left).to_contain_text("1008")
        left.get_by_role("button", name="Throw it away").press("Enter")
        expect(left).to_have_count(0)
        french = lambda: [s for s in self.takes() if "crew_fr" in s["place"]]  # noqa: E731
        self.until(lambda: [s["state"] for s in french()] == ["ready"] * 2, 60, "both takes")
        pcm, rate = self.played(self.number, "crew_fr:1007")
        take = next(s for s in french() if s["stream"]["stream_id"] == "1007")
        self.assertEqual((rate, len(pcm)), (24_000, take["new"]["frames"]))
        self.assertGreater(np.abs(pcm).max(), 1000)  # the fake device beeps

    def test_a_tune_is_played_out_past_five_minutes_and_every_step_is_undone(self):
        page = self.page
        self.open(f"#/{self.number}/locate")
        self.find("scenes")
        self.row("601").click()
        page.get_by_role("grid").press("Enter")
        tune = wav_file(self.root / "tune.wav", tone(4, 32_000, 400), 32_000)
        page.get_by_label("Replacement file").set_input_files(tune)
        page.get_by_role("button", name="Fit all that can be").click()
        ready = page.get_by_role("link", name="Go to Rebuild")
        expect(ready).to_be_visible()
        page.get_by_label("loop", exact=True).select_option("points")
        page.get_by_label("loop start, frames").fill("32000")
        page.get_by_label("loop start, frames").press("Tab")
        report = page.get_by_role("table", name="Fit report")
        expect(report.locator("[data-point=loop]")).to_contain_text("the game plays this once")
        page.get_by_label("it is", exact=True).select_option("length")
        page.get_by_label("it lasts").fill("5:05")
        page.get_by_label("it lasts").press("Tab")
        page.get_by_label("then", exact=True).select_option("rest")
        expect(report.locator("[data-point=edit]")).to_contain_text("its loop 102 times")
        expect(ready).to_be_visible(timeout=90_000)  # ten million frames
        (swap,) = [s for s in self.takes() if s["source_name"] == "tune.wav"]
        frames = 32_000 * (1 + 102 * 3)
        self.assertEqual((swap["new"]["frames"], swap["new"]["loop"]), (frames, None))

        # Its edges and fades, dragged and by keys in the drawing of the file.
        page.get_by_role("button", name="file", exact=True).click()
        handle = page.get_by_role("slider", name="Fade out")
        handle.focus()
        for times in (1, 2, 3):
            handle.press("Shift+ArrowLeft")
            self.until(
                lambda n=times: self.api(f"/swaps/{swap['id']}")["treatment"]["fade_out"] == n / 10, 10, "the fade"
            )
        start = page.get_by_role("slider", name="Beginning of the part")
        box = start.bounding_box()
        page.mouse.move(box["x"] + 8, box["y"] + 20)
        page.mouse.down()
        page.mouse.move(box["x"] + 40, box["y"] + 20, steps=3)
        page.mouse.up()
        self.until(lambda: self.api(f"/swaps/{swap['id']}")["treatment"]["trim_start"] > 500, 10, "the beginning")
        steps = self.api(f"/swaps/{swap['id']}")["undos"]

        def undone(times: int) -> None:
            self.until(lambda: self.api(f"/swaps/{swap['id']}")["undos"] == steps - times, 10, "undone")

        page.locator("main").press("Control+z")
        undone(1)
        self.assertEqual(self.api(f"/swaps/{swap['id']}")["treatment"]["trim_start"], 0)
        for times in (2, 3, 4):
            page.get_by_role("button", name="Undo", exact=True).click()
            undone(times)
        now = self.api(f"/swaps/{swap['id']}")
        self.assertEqual((now["treatment"]["fade_out"], now["redos"]), (0, 4))
        expect(ready).to_be_visible(timeout=90_000)

        # Another take waits beside it; a key goes from one to the other, and a press chooses.
        page.get_by_role("button", name="Take another stream …").click()
        page.get_by_label("Find a stream").fill("2211")
        page.get_by_role("option").filter(has_text="2211").click()
        page.get_by_role("button", name="Take it").click()
        both = page.get_by_role("group", name="Takes")
        expect(both.get_by_role("link")).to_have_count(2)
        expect(both.get_by_role("link").nth(1)).to_contain_text("in the mod")
        page.locator("main").press("t")
        both.get_by_role("button", name="Use this take").click()
        expect(both.get_by_role("link").first).to_contain_text("in the mod")
        pcm, rate = self.played(self.number, "night_watch")
        self.assertEqual((rate, len(pcm)), (32_000, 2 * frames))
        self.assertIn("scene night_watch lasts 310 s at most, its music 307.0 s", self.log)
        body = tone(4, 32_000, 400)[32_000:, 0]
        level = np.abs(pcm).max() / 32768 / np.abs(body).max()
        for at in (32_000, frames - len(body)):  # the first pass, and the last
            heard = pcm[2 * at : 2 * (at + len(body))].reshape(-1, 2) / 32768
            self.assertGreater(snr_db(level * body[:, None].repeat(2, 1), heard), 20)

    def test_sixty_files_of_two_languages_are_matched_by_id_fitted_rebuilt_and_proved(self):
        page, ids = self.page, range(1, 31)
        bank = {}
        for language in ("English", "German"):
            sounds = [Sound(n, noise(4800, 1, 3000, n), 24_000, block=512) for n in ids]
            bank[language] = f"voice/{language}.bell", bell(language, sounds, language), False
        (self.root / "library" / "Sixty").mkdir()
        (self.root / "library" / "Sixty" / "voice.crate").write_bytes(crate("1", list(bank.values())))
        folder = self.root / "sixty"
        for language in ("en", "de"):
            (folder / language).mkdir(parents=True)
            for n in ids:
                wav_file(folder / language / f"{n:04} new.wav", tone(0.8, 44_100, 200 + 10 * n, 2, 0.3), 44_100)
        number = self.add_game("Sixty")
        self.mod = self.mod_of(number)
        self.open(f"#/{number}/lines")
        expect(page.get_by_text("60 lines")).to_be_visible()
        page.get_by_role("button", name="Files for these lines …").press("Enter")
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Choose a folder").set_input_files(str(folder))
        expect(dialog).to_contain_text("60 files of 60 matched")
        dialog.get_by_label("level of all").select_option("number")
        dialog.get_by_role("button", name="Make 60 takes").press("Enter")
        expect(page.get_by_role("status").filter(has_text="60 takes made.")).to_be_visible(timeout=60_000)
        self.until(lambda: [s["state"] for s in self.takes()] == ["ready"] * 60, 90, "all takes")
        self.assertEqual({(s["new"]["rate"], s["new"]["channels"]) for s in self.takes()}, {(24_000, 1)})
        fit = page.get_by_role("link", name="Swap").first
        expect(fit).to_contain_text("60 of 60 fit, 2 languages, 100 %")
        fit.focus()
        expect(page.get_by_role("tooltip")).to_contain_text("30 of 30")
        rows = self.api(f"/mods/{self.mod}/lines?limit=60")["rows"]
        np.testing.assert_allclose([row["take"]["level"] for row in rows], -23, atol=0.1)
        self.open(f"#/{number}/rebuild")
        page.get_by_role("button", name="Rebuild a").click()
        proof = lambda: (b := self.api(f"/mods/{self.mod}/build")) and b["state"] == "proved"  # noqa: E731
        self.until(proof, 90, "the proof")
