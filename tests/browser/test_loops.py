"""Loops of a piece: looked for, taken, taken back, and there again after a reload."""

from playwright.sync_api import expect

from tests.browser.support import BrowserTest


class Loops(BrowserTest):
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
        expect(first.get_by_role("cell").first).to_have_text("0:53.33")
        first.get_by_role("button", name="Take the loop of 0:53.33").press("Enter")
        expect(first).to_contain_text("✓ taken")
        expect(start).not_to_have_value(own)
        frames = loop()
        self.assertEqual(frames[1] - frames[0], length)  # as long as the one that the piece was made with
        page.get_by_role("button", name="Fit all that can be").click()  # its start misses a block edge
        expect(ready).to_be_visible()
        swap = next(s for s in self.api(f"/mods/{self.mod(game)}/swaps") if s["stream"]["stream_id"] == "0246")
        self.assertEqual(swap["new"]["loop"][1] - swap["new"]["loop"][0], length)

        page.reload()
        page.get_by_text("One loop was found").click()
        expect(first).to_contain_text("✓ taken")
        page.get_by_label("loop", exact=True).select_option("source")
        expect(start).to_have_value(own)
        first.get_by_role("button", name="Take the loop").click()
        expect(start).not_to_have_value(own)
        page.keyboard.press("Control+z")
        expect(start).to_have_value(own)
        expect(first.get_by_role("button", name="Take the loop")).to_be_visible()

    def mod(self, game: int) -> int:
        return next(g["mod_id"] for g in self.api("/games") if g["id"] == game)
