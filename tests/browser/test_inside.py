"""Files that nobody has described: what is in them is found and heard, and becomes a layout with hardly a word."""

import re
import zlib

from playwright.sync_api import expect

from tests.browser.support import BrowserTest
from tests.core.test_sift import NAMES, archive, tone, written
from tests.server.test_inside import hoard, parts


class Inside(BrowserTest):
    @classmethod
    def prepare_library(cls):
        folder = cls.root / "library" / "Hoard"
        folder.mkdir()
        (folder / "hoard.dat").write_bytes(hoard(parts()))
        (folder / "logs.pak").write_bytes(archive(zlib.compress))
        (folder / "more").mkdir()
        table = archive(zlib.compress, base=0)
        (folder / "more/pair.idx").write_bytes(table[:816])
        (folder / "more/pair.dat").write_bytes(table[816:])
        for n in range(3):  # speech as bare frames, each a whole file
            (folder / f"line{n}.vox").write_bytes(written("MP3", "MPEG_LAYER_III", tone(1 + n, 300 + 50 * n)))

    def test_what_is_in_here_is_heard_within_seconds_and_becomes_a_layout(self):
        game, page = self.add_game("Hoard"), self.page
        self.open(f"#/{game}/survey/hoard.dat")
        page.get_by_role("complementary", name="The chosen file").get_by_role("link", name="What is in here?").click()
        page.get_by_role("button", name="Look through it").press("Enter")
        found = page.get_by_role("grid", name="Sounds found")
        found.get_by_role("row").filter(has_text="Ogg Vorbis").first.dblclick()
        self.until(lambda: self.strip("playing") == "true" and int(self.strip("frame")) > 1000, 10, "the sound found")
        expect(page.get_by_role("status").filter(has_text="12 sounds")).to_be_visible()
        found.press("End")
        expect(page.get_by_text("Zubret can't play this kind")).to_be_visible()
        page.get_by_role("button", name="Write a layout from their places").click()
        expect(page.get_by_text("✓ reads this file")).to_be_visible()
        page.get_by_role("button", name="Save for surveys").click()
        page.get_by_role("button", name="Survey again").click()

        def its_streams() -> bool:
            rows = self.api(f"/games/{game}/streams?limit=100")["rows"]
            return sum(row["archive"] == "hoard.dat" for row in rows) == 11

        self.until(its_streams, 60, "its sounds, those without a head, too")

    def test_bare_speech_and_packed_entries_from_the_draft_as_it_is(self):
        """No edit at all is needed here; five would be allowed. From payloads whose table stands in another file a link leads there."""
        game, page = self.add_game("Hoard"), self.page
        seen = page.get_by_role("region", name="From what is seen")
        for path in ("line1.vox", "logs.pak", "more%2Fpair.dat"):
            self.open(f"#/{game}/bench/{path}")
            page.get_by_role("button", name="Begin a layout …").click()
            if "pair" in path:
                seen.get_by_role("link", name="Go there").click()
                expect(page).to_have_url(re.compile(r"more%2Fpair\.idx"))
                page.get_by_role("button", name="Begin a layout …").click()
            seen.get_by_role("button", name="Take this one").first.click()
            expect(page.get_by_text("✓ reads this file")).to_be_visible()
            expect(page.get_by_text("100.0 % explained").first).to_be_visible()
            page.get_by_role("button", name="Check", exact=True).click()
            expect(page.get_by_text("✓ gives back the identical file")).to_be_visible()
            page.get_by_role("button", name="Save for surveys").click()
            page.get_by_role("button", name="Survey again").click()
        for path in ("logs.pak", "more/pair.idx"):
            entries = self.until(lambda of=path: self.files(game, of), 60, "the packed entries")
            self.assertEqual(entries, len(NAMES))
        self.open(f"#/{game}/locate")
        self.find("line2")
        self.row("line2").click()
        self.until(lambda: self.strip("playing") == "true", 30, "the speech")
        page.keyboard.press("Space")

    def files(self, game: int, path: str) -> int:
        row = next(r for r in self.api(f"/games/{game}/files?limit=100")["rows"] if r["path"] == path)
        return row["entries"] if row["what"] == "archive" else 0
