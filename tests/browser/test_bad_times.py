"""What a screen says, and what it keeps, when the server is away, fails, or has less than before."""

import shutil

from playwright.sync_api import expect

from standin.formats import PCM, Sound, bell, crate
from tests.browser.support import BrowserTest
from tests.support import noise


class BadTimes(BrowserTest):
    """A game of two archives, one of which goes away."""

    @classmethod
    def prepare_library(cls):
        folder = cls.root / "library" / "Two"
        folder.mkdir()
        for name, count in (("a", 40), ("b", 400)):
            sounds = [Sound(n, noise(400, 1, seed=n), 8000, codec=PCM) for n in range(1, count + 1)]
            data = crate("x", [(f"{name}.bell", bell(name, sounds), False)])
            (folder / f"{name}.crate").write_bytes(data)

    def setUp(self):
        super().setUp()
        self.game = self.add_game("Two")

    def total(self):
        return self.page.locator("section[aria-label=Streams] p strong")

    def test_1_the_server_goes_and_comes_back_and_answers_with_a_fault(self):
        page = self.page
        self.open(f"#/{self.game}/locate")
        expect(self.total()).to_have_text("440")
        self.context.set_offline(True)
        field = page.get_by_label("Name, id, bank, path")
        field.fill("b.bell")
        expect(page.get_by_role("alert").first).to_contain_text("Zubret does not answer.")
        expect(self.total()).to_have_text("440")  # what was found stays
        self.context.set_offline(False)
        expect(self.total()).to_have_text("400")
        expect(page.get_by_role("alert")).to_have_count(0)
        expect(field).to_have_value("b.bell")

        page.route("**/api/games/*/streams?*", lambda route: route.fulfill(status=500, body="<h1>Oh</h1>"))
        field.fill("a.bell")
        told = page.get_by_role("alert").first
        expect(told).to_be_visible()
        self.assertNotIn("<h1>", told.inner_text())
        page.unroute("**/api/games/*/streams?*")
        field.fill("a.bell ")
        expect(self.total()).to_have_text("40")
        expect(page.get_by_role("alert")).to_have_count(0)

    def test_2_a_game_that_becomes_less_while_its_screens_are_open(self):
        page = self.page
        folder = self.root / "library" / "Two"
        self.open(f"#/{self.game}/locate")
        expect(self.total()).to_have_text("440")
        name = page.get_by_label("Given name")
        odd = "<img src=x onerror=\"document.title='ran'\"> " + "\u202eעברית " + "n" * 150
        self.row("a.bell").click()
        name.fill(odd)
        page.keyboard.press("Tab")
        expect(page.get_by_role("row").filter(has_text="<img src=x").first).to_be_visible()
        self.assertNotEqual(page.title(), "ran")
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 1280)
        page.get_by_role("grid").focus()
        page.keyboard.press("End")
        expect(page.get_by_label("The chosen stream")).to_contain_text("b.bell › 0400")
        (folder / "b.crate").rename(self.root / "b.crate")
        self.addCleanup(shutil.move, self.root / "b.crate", folder / "b.crate")
        self.ask_for_survey()
        expect(self.total()).to_have_text("40")
        expect(self.row("a.bell")).to_be_visible()
        page.get_by_role("grid").press("Home")
        expect(page.get_by_label("The chosen stream")).to_contain_text("a.bell › 0001")
        self.open(f"#/{self.game}/locate?archive=b.crate")  # as a search that was kept has it
        expect(page.get_by_text("No stream matches. Take a filter away")).to_be_visible()

        folder.rename(self.root / "elsewhere")
        try:
            self.open(f"#/{self.game}/survey")
            expect(page.get_by_role("gridcell", name="a.crate", exact=True)).to_be_visible()
            page.get_by_role("button", name="Survey again").click()
            expect(page.get_by_role("alert").first).to_contain_text("folder")
            expect(page.get_by_role("gridcell", name="a.crate", exact=True)).to_be_visible()
        finally:
            (self.root / "elsewhere").rename(folder)
        page.get_by_role("button", name="Survey again").click()
        expect(page.get_by_role("alert")).to_have_count(0)

    def ask_for_survey(self):
        """From another window of this browser."""
        other = self.context.new_page()
        other.goto(f"{self.address}/#/{self.game}/survey")
        gone = other.get_by_role("gridcell", name="b.crate", exact=True)
        expect(gone).to_be_visible()  # else it is gone before the survey was asked for, and so may this window be
        other.get_by_role("button", name="Survey again").click()
        expect(gone).to_have_count(0)
        other.close()
