"""A mod goes over to a new build of its game, which stands in a folder of its own."""

import numpy as np
from playwright.sync_api import expect

from standin.make import make
from tests.browser.support import BrowserTest
from tests.support import tone, wav_file


class Carry(BrowserTest):
    @classmethod
    def prepare_library(cls):
        make(cls.root / "library" / "Newer", "1.1")

    def test_a_mod_is_brought_judged_carried_over_worked_down_and_rebuilt(self):
        page, old, new = self.page, self.register(), self.add_game("Newer")
        self.open(f"#/{old}/locate")
        self.find("0251")
        self.row("0251").click()
        page.get_by_role("grid").press("Enter")
        fog = wav_file(self.root / "fog.wav", tone(3, 44_100, 441, 2), 44_100)
        page.get_by_label("Replacement file").set_input_files(fog)
        page.get_by_role("button", name="Fit all that can be").click()
        expect(page.get_by_role("link", name="Go to Rebuild")).to_be_visible()
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
        page.get_by_role("status").get_by_role("button", name="Undo").press("Enter")
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
        heard, rate = self.played(new, "fog")
        pitch = float(np.argmax(np.abs(np.fft.rfft(heard[: 2 * rate : 2]))))
        self.assertAlmostEqual(pitch, 441, delta=2)
