"""The whole job in a real browser, by mouse and by keyboard, down to what the stand-in game played."""

import io
import json
import os
import signal
import zlib
from pathlib import Path

import numpy as np
import soundfile
from playwright.sync_api import expect

from standin.formats import crate
from tests.browser.support import BrowserTest
from tests.support import small_bell, tone, wav_file
from zubret_core.base import Loop
from zubret_core.container import GameFolder
from zubret_core.locate import Locator


def cents_off(pcm: np.ndarray, rate: int, hz: float) -> float:
    """How far a tone is from `hz`, in cents, by the phase's advance between two distant windows."""
    x = pcm[:, 0].astype(float)
    n = rate // 2
    window = np.hanning(n) * np.exp(-2j * np.pi * hz * np.arange(n) / rate)
    gap = rate // 20  # short enough that the phase can't turn round unnoticed
    turns = []
    for start in range(0, len(x) - n - gap, gap):
        a, b = (x[start : start + n] * window).sum(), (x[start + gap : start + gap + n] * window).sum()
        turns.append(np.angle(b / a * np.exp(-2j * np.pi * hz * gap / rate)))
    found = hz + np.median(turns) / (2 * np.pi) * rate / gap
    return float(1200 * np.log2(found / hz))


class WholeJob(BrowserTest):
    def total(self):
        """How many streams the list says match."""
        return self.page.locator("section[aria-label=Streams] p strong")

    def listened(self) -> None:
        """Sound is being put out: the strip plays and its position moves."""
        self.until(lambda: self.strip("playing") == "true" and int(self.strip("frame")) > 2000, 10, "sound")

    def check_played(self, trial: dict, swap: dict, build: dict, hz: float) -> tuple[np.ndarray, Loop]:
        """What the game played, and its loop: pitch within 1 cent; decoded head, then the decoded loop repeated."""
        pcm, rate = soundfile.read(io.BytesIO(self.api(f"/audio/{trial['audio']}/wav")), dtype="int16", always_2d=True)
        rebuilt = GameFolder(self.root / "home" / "run" / "builds" / str(build["id"]))
        bank = Locator("data/sea.crate", (("music/music.bell", 2),), "", 0).bank(rebuilt)
        stream = next(s for s in bank.streams if s.id == swap["stream"]["stream_id"])
        loop = stream.format.loop
        decoded = stream.decode(0, stream.format.frames)
        meant = np.concatenate([decoded[: loop.start]] + [decoded[loop.start : loop.end]] * trial["loops"])
        self.assertEqual(rate, stream.format.rate)
        np.testing.assert_array_equal(pcm, meant)
        self.assertLess(abs(cents_off(pcm[loop.start :], rate, hz)), 1.0)
        return pcm, loop

    def test_by_mouse(self):
        page = self.page
        before = {p: zlib.crc32(p.read_bytes()) for p in self.game.rglob("*") if p.is_file()}
        game = self.register()
        self.open(f"#/{game}/survey")
        expect(page.get_by_role("navigation", name="Route")).to_contain_text("48 streams")
        page.get_by_role("gridcell", name="data/sea.crate", exact=True).click()
        expect(page.get_by_label("The chosen file")).to_contain_text("music/music.bell")
        expect(page.get_by_label("The chosen file")).to_contain_text("100.0 % explained")

        page.get_by_role("link", name="Locate").first.click()
        self.find("music.bell")
        expect(self.row("0247")).to_be_visible()
        page.get_by_role("columnheader", name="length").get_by_role("button").click()
        expect(page.get_by_role("row").nth(1)).to_contain_text("0266")
        self.row("0247").click()
        self.listened()
        self.assertTrue(self.strip("audio").startswith("o"))
        page.get_by_label("Given name").fill("Open water")
        page.get_by_label("Given name").press("Tab")
        expect(self.row("0247")).to_contain_text("Open water")
        for kind, name in (("WAV", ".wav"), ("Ogg", ".ogg")):
            with page.expect_download() as caught:
                page.get_by_role("link", name=f"Take out {kind}").click()
            self.assertTrue(caught.value.suggested_filename.endswith(name))
            self.assertGreater(Path(caught.value.path()).stat().st_size, 100_000)

        page.get_by_role("button", name="Swap this stream").click()
        replacement = wav_file(self.root / "tone.wav", tone(10, 44100, 441, 2), 44100, "PCM_24")
        page.get_by_label("Replacement file").set_input_files(replacement)
        report = page.get_by_role("table", name="Fit report")
        expect(report.locator("[data-point=rate]")).to_contain_text("can be fitted")
        report.get_by_role("button", name="Fit all that can be").click()
        expect(page.get_by_role("link", name="Go to Rebuild")).to_be_visible()
        page.get_by_label("loop", exact=True).select_option("points")
        page.get_by_label("loop start, frames").fill("48000")  # of the new stream: 44,100 of the file's
        page.get_by_label("loop start, frames").press("Enter")
        expect(report.locator("[data-point=align]")).to_contain_text("head padded by")
        expect(page.get_by_role("link", name="Go to Rebuild")).to_be_visible()

        # Drag the loop's end a little to the left, once nothing on the screen moves any more.
        expect(page.get_by_text("What you hear as new is the encoded stream")).to_be_visible()
        self.until(
            lambda: (s := self.swap(game))["state"] == "ready" and s["treatment"]["loop_start"] == 44_100,
            20,
            "the result for the typed loop start",
        )
        handle = page.get_by_role("slider", name="Loop end")
        box = handle.bounding_box()
        x, y = box["x"] + box["width"] / 2, box["y"] + 40
        page.mouse.click(x, box["y"] - 50)  # the line that shows what is heard lies over the bracket now
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x - 20, y, steps=4)
        page.mouse.up()
        self.until(lambda: self.swap(game)["treatment"]["loop_end"] < 440_000, 10, "the dragged loop end")
        # Whole periods again, typed: 441 Hz has 100 frames a period.
        page.get_by_label("loop end, frames").fill(str(self.swap(game)["becomes"]["loop"][0] + 384_000))
        page.get_by_label("loop end, frames").press("Enter")
        swap = self.until(
            lambda: (s := self.swap(game))["state"] == "ready" and s["treatment"]["loop_end"] == 396_900 and s,
            15,
            "the result",
        )
        self.assertEqual(swap["new"]["loop"][1] - swap["new"]["loop"][0], 384_000)
        expect(page.get_by_text("What you hear as new is the encoded stream")).to_be_visible()

        # Hear the seam of the new stream, then the original at the same place, and back.
        self.until(lambda: self.strip("audio") == swap["new"]["audio"], 10, "the new sound in the strip")
        page.get_by_role("button", name="Hear seam").click()
        near = swap["new"]["loop"][1] - 3 * 48_000
        self.until(lambda: int(self.strip("frame")) > near and self.strip("playing") == "true", 10, "the seam")
        self.until(lambda: int(self.strip("frame")) < near - 48_000, 10, "the jump back to the loop's start")
        page.get_by_role("button", name="Pause").click()
        at = int(self.strip("frame"))
        page.get_by_role("button", name="original").click()
        self.assertEqual((self.strip("side"), int(self.strip("frame"))), ("original", at))
        page.get_by_role("button", name="new", exact=True).click()
        self.assertEqual((self.strip("side"), int(self.strip("frame"))), ("new", at))
        page.get_by_role("button", name="seam ±3 s").click()
        expect(page.get_by_role("group", name="Original above, replacement below")).to_contain_text("+2 s")

        page.get_by_role("link", name="Go to Rebuild").click()
        expect(page.get_by_role("region", name="What will be written")).to_contain_text(
            "every other entry stays in its place"
        )
        page.get_by_role("button", name="Rebuild and prove").click()
        expect(page.get_by_role("button", name="Rebuild again")).to_be_visible(timeout=30_000)
        proof = page.get_by_role("region", name="Proof")
        expect(proof).to_contain_text("✓ Proved")
        expect(proof.get_by_role("table")).to_have_count(0)
        proof.get_by_role("button", name="data/sea.crate ✓ holds").click()
        expect(proof.get_by_role("table", name="Proof of data/sea.crate")).to_contain_text("11 identical")
        page.get_by_role("button", name="Hear the rebuilt stream").first.click()
        self.listened()
        self.assertTrue(self.strip("audio").startswith("r"))
        results = page.get_by_role("region", name="Trial run").get_by_role("listitem")
        results.filter(has_text="0247").get_by_role("button", name="Play it in").click()
        expect(page.get_by_role("region", name="Trial run")).to_contain_text("✓ played", timeout=60_000)
        page.get_by_role("button", name="Listen").first.click()
        self.listened()
        with page.expect_download() as caught:
            page.get_by_role("link", name="Download").first.click()
        build = self.api(f"/mods/{self.mod(game)}/build")
        first = self.api(f"/builds/{build['id']}/files")["rows"][0]
        self.assertEqual(Path(caught.value.path()).stat().st_size, first["size"])
        pcm, loop = self.check_played(build["trials"][0], swap, build, 441)
        steps = np.abs(np.diff(pcm.astype(int), axis=0)).max(axis=1)  # whole periods: the seam can't be heard
        self.assertLessEqual(steps[loop.end - 5 : loop.end + 5].max(), steps[loop.start : loop.end - 100].max())
        self.assertEqual({p: zlib.crc32(p.read_bytes()) for p in before}, before)

    def test_by_keyboard(self):
        page = self.page
        game = self.register()
        self.open(f"#/{game}/survey")
        expect(page.get_by_role("heading", name="Survey")).to_be_visible()
        page.keyboard.press("Control+k")
        page.keyboard.type("go to loc")
        page.keyboard.press("Enter")
        expect(page.get_by_label("Name, id, bank, path")).to_be_visible()
        page.get_by_label("Name, id, bank, path").focus()
        page.keyboard.type("music.bell")
        expect(self.total()).to_have_text("5")
        grid = page.get_by_role("grid")
        page.keyboard.press("ArrowDown")
        expect(grid).to_be_focused()
        heard = []
        for _ in range(4):  # down the list, each plays at once
            page.keyboard.press("ArrowDown")
            before = heard[-1] if heard else ""
            heard.append(
                self.until(
                    lambda b=before: (a := self.strip("audio")) != b and self.strip("playing") == "true" and a,
                    10,
                    "the next stream",
                )
            )
        self.assertEqual(len(set(heard)), 4)
        page.keyboard.press("m")
        expect(page.get_by_role("row", selected=True)).to_contain_text("◆")
        page.keyboard.press("Enter")
        expect(page.get_by_role("button", name="Drop the replacement here")).to_be_visible()
        replacement = wav_file(self.root / "tone2.wav", tone(5, 48000, 480), 48000)
        page.wait_for_load_state("networkidle")
        with page.expect_file_chooser() as chooser:
            page.get_by_role("button", name="Drop the replacement here").press("Enter")
        chooser.value.set_files(replacement)
        page.get_by_role("button", name="Fit all that can be").focus()
        page.keyboard.press("Enter")
        expect(page.get_by_role("link", name="Go to Rebuild")).to_be_visible()
        start = page.get_by_role("slider", name="Loop start")
        start.focus()
        page.keyboard.press("Shift+ArrowRight")
        stream_id = page.evaluate("location.hash").split("/")[-1]
        swap = self.until(
            lambda: (
                (s := self.api(f"/swaps/{stream_id}"))["treatment"]["loop_start"] > 0 and s["state"] == "ready" and s
            ),
            15,
            "the moved loop",
        )
        self.assertEqual(swap["treatment"]["loop"], "points")
        self.until(lambda: self.strip("audio") == swap["new"]["audio"], 10, "the new sound")
        page.locator("body").press("s")
        self.until(lambda: self.strip("playing") == "true", 10, "the seam by key")
        page.locator("body").press("o")
        self.assertEqual(self.strip("side"), "original")
        page.keyboard.press("Control+k")
        page.keyboard.type("go to reb")
        page.keyboard.press("Enter")
        button = page.get_by_role("button", name="Rebuild")
        button.focus()
        page.keyboard.press("Enter")
        expect(page.get_by_role("region", name="Proof")).to_contain_text("✓ Proved", timeout=30_000)
        place = swap["place"]
        row = page.get_by_role("region", name="Trial run").get_by_role("listitem").filter(has_text=place)
        row.get_by_role("button", name="Play it in Saltglass Ferry").focus()
        page.keyboard.press("Enter")
        expect(page.get_by_role("region", name="Trial run")).to_contain_text("✓ played", timeout=60_000)
        build = self.api(f"/mods/{self.mod(game)}/build")
        self.check_played(build["trials"][0], self.api(f"/swaps/{stream_id}"), build, 480)

    def mod(self, game: int) -> int:
        return next(g["mod_id"] for g in self.api("/games") if g["id"] == game)

    def swap(self, game: int) -> dict:
        return next(s for s in self.api(f"/mods/{self.mod(game)}/swaps") if "0247" in s["place"])

    def test_undo_errors_and_empty_states(self):
        page = self.page
        game = self.register()
        self.open(f"#/{game}/locate")
        self.find("no such thing")
        expect(page.get_by_text("No stream matches")).to_be_visible()
        self.find("crew_de 1002")
        self.row("1002").click()
        page.get_by_role("button", name="Swap this stream").click()
        text = self.root / "words.wav"
        text.write_text("only words")
        page.get_by_label("Replacement file").set_input_files(text)
        alert = page.get_by_role("alert")
        expect(alert).to_contain_text("not an audio file that can be read")
        expect(alert).to_contain_text("words.wav")
        expect(alert).to_contain_text("Choose a WAV, AIFF, FLAC")
        line = wav_file(self.root / "line.wav", tone(1, 24000, 480), 24000)
        page.get_by_label("Replacement file").set_input_files(line)
        expect(page.get_by_role("link", name="Go to Rebuild")).to_be_visible()
        page.get_by_role("button", name="Remove swap").click()
        expect(page.get_by_role("status").filter(has_text="was removed")).to_be_visible()
        expect(page.get_by_role("link", name="line.wav")).to_have_count(0)
        page.get_by_role("status").get_by_role("button", name="Undo").click()
        expect(page.get_by_role("link", name="line.wav")).to_be_visible()
        page.get_by_role("button", name="Remove swap").click()
        expect(page.get_by_role("link", name="line.wav")).to_have_count(0)

    def test_a_file_dropped_on_a_stream_begins_its_swap(self):
        page = self.page
        game = self.register()
        self.open(f"#/{game}/locate")
        self.find("crew_en 1001")
        self.row("1001").click()
        data = wav_file(self.root / "drop.wav", tone(0.5, 24000, 480), 24000).read_bytes()
        transfer = page.evaluate_handle(
            """bytes => { const d = new DataTransfer();
            d.items.add(new File([new Uint8Array(bytes)], "drop.wav")); return d; }""",
            list(data),
        )
        page.get_by_label("The chosen stream").dispatch_event("drop", {"dataTransfer": transfer})
        expect(page.get_by_role("table", name="Fit report")).to_be_visible()
        expect(page.get_by_role("link", name="drop.wav")).to_be_visible()
        page.get_by_role("button", name="Remove swap").click()
        expect(page.get_by_role("link", name="drop.wav")).to_have_count(0)

    def test_the_length_brush_filters(self):
        page = self.page
        game = self.register()
        self.open(f"#/{game}/locate")
        expect(self.total()).to_have_text("48")
        brush = page.locator("fieldset svg")
        box = brush.bounding_box()
        page.mouse.move(box["x"] + box["width"] * 0.6, box["y"] + 20)
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] - 1, box["y"] + 20, steps=5)
        page.mouse.up()
        expect(self.total()).to_have_text("6")
        page.get_by_role("button", name="any length").click()
        expect(self.total()).to_have_text("48")


class Killed(BrowserTest):
    """A worker that dies in the middle of a rebuild: seen within seconds, back by itself, nothing half-written."""

    @classmethod
    def prepare_library(cls):
        folder = cls.root / "library" / "Large"
        folder.mkdir()
        filler = np.random.default_rng(3).bytes(300_000_000)
        (folder / "large.crate").write_bytes(crate("x", [("a.bell", small_bell(), False), ("filler", filler, False)]))

    def test_killed_during_rebuild(self):
        page = self.page
        game = self.add_game("Large")
        original = (self.root / "library/Large/large.crate").stat()
        stream = self.api(f"/games/{game}/streams?q=0004")["rows"][0]
        self.open(f"#/{game}/swap/s{stream['id']}")
        line = wav_file(self.root / "line.wav", tone(0.1, 24000, 480), 24000)
        page.get_by_label("Replacement file").set_input_files(line)
        page.get_by_role("link", name="Go to Rebuild").click()
        page.get_by_role("button", name="Rebuild and prove").click()
        builds = self.root / "home" / "run" / "builds"
        self.until(lambda: any(builds.rglob("*part")), 20, "the writing to begin")
        first = self.worker("long")
        os.kill(first, signal.SIGKILL)
        expect(page.get_by_role("alert").first).to_contain_text("cut off", timeout=12_000)
        self.assertEqual([p for p in builds.rglob("*") if p.is_file()], [])
        self.until(lambda: self.worker("long") not in (0, first) and self.is_up(), 20, "the worker to come back")
        now = (self.root / "library/Large/large.crate").stat()
        self.assertEqual((now.st_size, now.st_mtime_ns), (original.st_size, original.st_mtime_ns))
        page.get_by_role("button", name="Rebuild and prove").click()
        expect(page.get_by_role("region", name="Proof")).to_contain_text("✓ Proved", timeout=60_000)
        jobs = [j for j in self.api("/jobs") if j["kind"] == "rebuild"]
        self.assertEqual([j["state"] for j in jobs], ["done", "cut off"])
        self.assertNotIn("Traceback", json.dumps(jobs))
