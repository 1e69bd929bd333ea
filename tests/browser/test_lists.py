"""Long lists, filters, finding, damaged files, and what stays after a reload."""

import zipfile

from playwright.sync_api import expect

from standin.formats import PCM, Sound, bell, crate
from tests.browser.support import BrowserTest
from tests.support import edited, noise, small_crate
from zubret_core.base.wording import spaced


class Lists(BrowserTest):
    """A game with 5,000 streams in one bank and a damaged archive beside it."""

    @classmethod
    def prepare_library(cls):
        folder = cls.root / "library" / "Many"
        folder.mkdir()
        sounds = [Sound(n, noise(400 + n % 900, 1, seed=n), 8000, codec=PCM) for n in range(1, 5001)]
        (folder / "many.crate").write_bytes(crate("x", [("many.bell", bell("many", sounds), False)]))
        (folder / "bad.crate").write_bytes(edited(small_crate(), 8, "<I", 99_999_999))
        (folder / "part.crate").write_bytes(edited(small_crate(), small_crate().index(b"BELL") + 4, "<B", 77))

    def setUp(self):
        super().setUp()
        self.game = self.add_game("Many")

    def rows(self):
        return self.page.locator("[role=row][id^=row-]")

    def narrow(self, text: str, found: int):
        """Type a filter and wait until the list answers it."""
        self.find(text)
        expect(self.page.locator("section[aria-label=Streams] p strong")).to_have_text(spaced(found))

    def test_five_thousand_streams_are_a_few_rows_at_a_time(self):
        page = self.page
        self.open(f"#/{self.game}/locate")
        expect(page.locator("section[aria-label=Streams] p strong")).to_have_text("5\u202f004")
        self.assertLess(self.rows().count(), 60)
        grid = page.get_by_role("grid")
        grid.focus()
        page.keyboard.press("End")
        selected = page.get_by_role("row", selected=True)
        expect(selected).to_be_visible()
        self.assertEqual(selected.get_attribute("aria-rowindex"), "5005")
        page.keyboard.press("PageUp")
        self.until(lambda: int(selected.get_attribute("aria-rowindex") or 0) < 5000, 5, "the page before")
        self.assertLess(self.rows().count(), 60)
        self.until(lambda: self.strip("playing") == "true" or int(self.strip("frame")) > 0, 20, "sound")

    def test_filters_come_together_and_sorting_turns(self):
        page = self.page
        self.open(f"#/{self.game}/locate")
        page.get_by_role("button", name="part.crate").click()
        expect(page.locator("section[aria-label=Streams] p strong")).to_have_text("4")
        page.get_by_role("button", name="French").click()
        expect(page.locator("section[aria-label=Streams] p strong")).to_have_text("4")
        page.get_by_role("button", name="all archives").click()
        page.get_by_role("button", name="any language").click()
        self.find("many")
        for header, first in (("length", "4499"), ("length", "0900"), ("id", "0001")):
            page.get_by_role("columnheader", name=header).get_by_role("button").click()
            expect(self.rows().first).to_contain_text(first)

    def test_finding_a_stream_by_typing_goes_to_it(self):
        page = self.page
        self.open(f"#/{self.game}/survey")
        expect(page.get_by_role("heading", name="Survey")).to_be_visible()
        page.keyboard.press("Control+k")
        page.keyboard.type("4242")
        expect(page.get_by_role("option", name="4242")).to_be_visible()
        page.keyboard.press("Enter")
        expect(page.get_by_label("The chosen stream")).to_contain_text("many.bell › 4242")
        page.reload()
        expect(page.get_by_label("The chosen stream")).to_contain_text("many.bell › 4242")
        expect(page.get_by_role("row", selected=True)).to_contain_text("4242")

    def test_the_address_brings_work_back(self):
        page, count = self.page, "section[aria-label=Streams] p strong"
        self.open(f"#/{self.game}/locate")
        self.narrow("many 123", 15)
        page.get_by_role("columnheader", name="id").get_by_role("button").click()
        self.row("1234").click()
        expect(page.get_by_label("The chosen stream")).to_contain_text("many.bell › 1234")
        link = page.url

        def as_it_was(page):
            expect(page.locator(count)).to_have_text("15")
            expect(page.get_by_role("row", selected=True)).to_contain_text("1234")
            expect(page.get_by_role("columnheader", name="id")).to_have_attribute("aria-sort", "ascending")

        page.reload()
        as_it_was(page)
        page.get_by_role("grid").press("e")
        expect(page.get_by_role("heading", name="1234")).to_be_visible()
        page.go_back()
        as_it_was(page)
        page.go_forward()
        expect(page.get_by_role("heading", name="1234")).to_be_visible()
        page.keyboard.press("Escape")
        as_it_was(page)
        expect(page.get_by_role("grid")).to_be_focused()
        self.assertEqual(page.url, link)
        page.get_by_role("navigation", name="Route").get_by_role("link", name="Locate").click()
        as_it_was(page)
        elsewhere = self.browser.new_context()
        self.addCleanup(elsewhere.close)
        another = elsewhere.new_page()
        another.goto(link)
        as_it_was(another)  # another browser
        other = self.context.new_page()
        other.goto(link)
        as_it_was(other)
        for mark in "◆◇":  # what is said in one window is seen in the other
            other.get_by_role("grid").press("m")
            expect(page.get_by_role("row", selected=True)).to_contain_text(mark)
        for name, here, there in (("first", page, other), ("last", other, page)):  # the last word holds, in both
            here.get_by_label("Given name").fill(name)
            here.get_by_label("Given name").press("Tab")
            expect(there.get_by_role("row", selected=True)).to_contain_text(name)
        other.close()
        page.keyboard.press("Control+k")
        page.keyboard.type("many 04")
        page.get_by_role("option", name="Show all").click()
        expect(page.get_by_label("Name, id, bank, path")).to_have_value("many 04")
        page.go_back()
        expect(page.locator(count)).to_have_text("15")

        # How far the list was scrolled, though what is chosen is out of sight.
        self.open(f"#/{self.game}/locate")
        self.narrow("many", 5000)
        self.row("0001").click()
        first = page.get_by_role("row").filter(has_text="2500")
        page.get_by_role("grid").evaluate("(grid) => grid.scrollTo({ top: 33 * 2500 })")
        page.mouse.move(400, 400)
        page.mouse.wheel(0, -40)
        expect(first.first).to_be_in_viewport()
        self.until(lambda: page.evaluate("JSON.stringify(history.state)").find("scroll of Streams") > 0, 5, "its rest")
        page.reload()
        expect(first.first).to_be_in_viewport()
        self.open(f"#/{self.game}/swap")
        expect(page.get_by_role("heading", name="No swap yet")).to_be_visible()
        page.go_back()
        expect(first.first).to_be_in_viewport()
        page.get_by_role("grid").press("ArrowDown")
        expect(self.row("0002")).to_be_in_viewport()

        self.open(f"#/{self.game}/survey")
        page.get_by_role("gridcell", name="bad.crate", exact=True).click()
        page.keyboard.press("/")
        page.keyboard.type("crate")
        expect(page.get_by_role("row").filter(has_text="part.crate")).to_be_visible()
        page.reload()
        expect(page.get_by_role("searchbox")).to_have_value("crate")
        expect(page.get_by_label("The chosen file")).to_contain_text("bad.crate")

    def test_banks_with_their_sums_lead_to_their_streams(self):
        page = self.page
        self.open(f"#/{self.game}/locate")
        self.find("many")
        page.get_by_role("button", name="Banks", exact=True).click()
        banks = page.get_by_role("grid", name="Banks")
        row = banks.get_by_role("row").filter(has_text="many.bell").first
        expect(row).to_contain_text("many.crate")
        page.get_by_role("columnheader", name="streams").get_by_role("button").click()
        expect(banks.get_by_role("row").nth(1)).to_contain_text("many.bell")
        page.reload()
        expect(banks.get_by_role("row").nth(1)).to_contain_text("many.bell")
        banks.focus()
        page.keyboard.type("many")
        page.keyboard.press("Enter")
        expect(page.get_by_role("grid", name="Streams")).to_be_visible()
        self.assertIn("within=many.crate", page.url)
        page.go_back()

    def test_names_are_given_in_a_row(self):
        page = self.page
        self.open(f"#/{self.game}/locate")
        self.narrow("many 222", 14)
        self.row("2220").click()
        name = page.get_by_label("Given name")
        name.fill("one")
        for typed, at in (("two", "2221"), ("three", "2222")):
            page.keyboard.press("Enter")
            expect(page.get_by_label("The chosen stream")).to_contain_text(f"many.bell › {at}")
            expect(name).to_be_focused()
            page.keyboard.type(typed)
        page.keyboard.press("Enter")
        for at, text in (("2220", "one"), ("2221", "two"), ("2222", "three")):
            expect(self.row(at)).to_contain_text(text)
        # What is said on the stream's own page stands in the list, and what is said in the list on the page.
        self.row("2221").click()
        page.keyboard.press("e")
        expect(page.get_by_role("link", name="List")).to_be_visible()
        expect(name).to_have_value("two")
        name.fill("the second")
        page.keyboard.press("Tab")
        page.get_by_role("button", name="Mark this stream").click()
        expect(page.get_by_role("button", name="Take the mark away")).to_be_visible()
        page.get_by_role("link", name="List").click()
        expect(self.row("2221")).to_contain_text("the second")
        expect(name).to_have_value("the second")
        name.fill("2nd")
        page.keyboard.press("Tab")
        expect(self.row("2221")).to_contain_text("2nd")
        self.row("2221").click()
        page.keyboard.press("e")
        expect(page.get_by_role("link", name="List")).to_be_visible()
        expect(name).to_have_value("2nd")
        page.keyboard.press("Escape")
        expect(self.row("2221")).to_be_visible()
        page.get_by_role("grid").focus()
        page.keyboard.press("?")
        expect(page.get_by_role("dialog", name="Keys")).to_contain_text("choose on to there")
        page.keyboard.press("Escape")
        expect(page.get_by_role("grid")).to_be_focused()

    def test_many_are_chosen_marked_named_and_as_they_were(self):
        page, bar = self.page, self.page.get_by_role("toolbar", name="What is chosen")
        self.open(f"#/{self.game}/locate")
        self.narrow("many 222", 14)
        grid = page.get_by_role("grid")
        grid.focus()
        page.keyboard.type("2220")
        expect(page.get_by_role("row", selected=True)).to_contain_text("2220")
        page.keyboard.press("Shift+ArrowDown")
        page.keyboard.press("Shift+ArrowDown")
        expect(bar).to_contain_text("3 of 14 chosen")
        self.row("2225").click(modifiers=["Control"])
        self.row("2221").click(modifiers=["Control"])
        expect(bar).to_contain_text("3 of 14 chosen")
        bar.get_by_role("button", name="◆ Mark", exact=True).click()
        expect(page.get_by_role("status")).to_have_text("3 streams were marked. Undo")
        marked = page.get_by_role("row").filter(has=page.get_by_role("button", name="marked", exact=True))
        expect(marked).to_have_count(3)
        bar.get_by_role("button", name="Name …").click()
        page.get_by_role("textbox", name="Pattern").fill("line {number:2} of {id}")
        dialog = page.get_by_role("dialog", name="Name by a pattern")
        expect(dialog).to_contain_text("line 02 of 2222")
        page.keyboard.press("Enter")
        expect(self.row("2225")).to_contain_text("line 03 of 2225")
        expect(bar.get_by_role("button", name="Name …")).to_be_focused()
        page.get_by_role("button", name="Undo").click()
        expect(self.row("2225")).to_contain_text("no name yet")
        expect(marked).to_have_count(3)
        page.get_by_role("columnheader", name="id").get_by_role("button").click()
        expect(bar).to_contain_text("3 of 14 chosen")
        grid.focus()
        page.keyboard.press("Escape")
        expect(bar).to_be_hidden()
        page.keyboard.press("Control+a")
        expect(bar).to_contain_text("14 of 14 chosen")
        bar.get_by_role("button", name="Take out …").click()
        expect(page.get_by_role("dialog")).to_contain_text("the 14 that are chosen")
        expect(page.get_by_role("button", name="Take out 14 files")).to_be_visible()

        page.keyboard.press("Escape")
        mod = next(g["mod_id"] for g in self.api("/games") if g["id"] == self.game)
        said, swapped = page.get_by_role("status").filter(has_text="put into the mod"), page.get_by_text("⇄")
        bar.get_by_role("button", name="Put into the mod …").click()
        page.get_by_role("radio", name="each as it is, with a gain").check()
        page.get_by_label("Gain, dB").fill("-12")
        page.keyboard.press("Enter")
        expect(said).to_have_text("14 streams were put into the mod with −12 dB. Undo")
        expect(swapped).to_have_count(14)
        expect(bar.get_by_role("button", name="Put into the mod …")).to_be_focused()
        self.until(lambda: {s["state"] for s in self.api(f"/mods/{mod}/swaps")} == {"ready"}, 60, "the swaps")
        said.get_by_role("button", name="Undo").click()
        expect(swapped).to_have_count(0)
        bar.get_by_role("button", name="Put into the mod …").click()
        page.get_by_role("radio", name="each as it is, brought to a loudness").check()
        page.get_by_label("Loudness, LUFS").fill("-30")
        page.keyboard.press("Enter")
        expect(said).to_have_text("14 streams were put into the mod at −30 LUFS. Undo")

        def loudness() -> set[str]:
            swaps = self.api(f"/mods/{mod}/swaps")
            return {p["new"] for s in swaps for p in s["points"] if p["key"] == "loudness"}

        self.until(lambda: loudness() == {"−30.0 LUFS"}, 60, "swaps that are equally loud")
        said.get_by_role("button", name="Undo").click()
        expect(swapped).to_have_count(0)
        bar.get_by_role("button", name="Let go").click()
        page.get_by_role("button", name="Columns").click()
        page.get_by_role("checkbox", name="codec").uncheck()
        page.get_by_label("Width of bank, px").fill("300")
        page.keyboard.press("Escape")
        expect(page.get_by_role("button", name="Columns")).to_be_focused()
        page.reload()
        expect(page.get_by_role("columnheader", name="bank")).to_be_visible()
        expect(page.get_by_role("columnheader", name="codec")).to_be_hidden()
        self.assertEqual(page.get_by_role("columnheader", name="bank").bounding_box()["width"], 300)

    def test_many_files_are_chosen_and_taken_out(self):
        page, bar = self.page, self.page.get_by_role("toolbar", name="What is chosen")
        self.open(f"#/{self.game}/survey?tree=true")
        grid = page.get_by_role("grid", name="Files")
        expect(self.row("many.crate")).to_have_attribute("aria-selected", "true")
        grid.press("Shift+ArrowDown")
        expect(bar).to_contain_text("2 chosen · 2 files")
        expect(bar).to_contain_text("5\u202f004 streams")
        grid.press("Control+a")
        expect(bar).to_contain_text("3 chosen · 3 files")
        self.row("bad.crate").click(modifiers=["Control"])
        expect(bar).to_contain_text("2 chosen · 2 files")
        bar.get_by_role("button", name="Take out …").click()
        dialog = page.get_by_role("dialog", name="Take out")
        expect(dialog).to_contain_text("What is in 2 files")
        dialog.get_by_label("as a ZIP download").check()
        entries = sum(f["entries"] for f in self.api(f"/games/{self.game}/files")["rows"] if f["path"] != "bad.crate")
        dialog.get_by_role("button", name=f"Take out {entries} files").click()
        with page.expect_download() as caught:
            dialog.get_by_role("link", name="Download taken out.zip").click()
        with zipfile.ZipFile(caught.value.path()) as pack:
            self.assertEqual({name.partition("/")[0] for name in pack.namelist()[:-1]}, {"many.crate", "part.crate"})
        page.keyboard.press("Escape")
        page.keyboard.press("Escape")
        expect(bar).to_be_hidden()
        expect(grid).to_be_focused()

    def test_titles_from_a_table_and_a_search_that_is_kept(self):
        page = self.page
        self.open(f"#/{self.game}/locate")
        page.get_by_role("button", name="Titles …").click()
        dialog = page.get_by_role("dialog", name="Titles")
        table = "id;title\n42;<b>forty-two</b>\n0043;forty-three\n9999;nobody\n".encode("utf-16")
        file = {"name": "titles.csv", "mimeType": "text/csv", "buffer": table}
        dialog.get_by_text("Choose a table …").locator("input").set_input_files(file)
        expect(dialog).to_contain_text("2 streams: 2 titles, 0 texts")
        expect(dialog).to_contain_text("1 id that no stream has: 9999")
        dialog.get_by_label("Column 1").select_option("title")
        expect(dialog.get_by_role("button", name="Take it over for 0 streams")).to_be_disabled()
        dialog.get_by_text("Another table …").locator("input").set_input_files(file)
        with page.expect_download() as caught:
            dialog.get_by_role("link", name="Give out the names as CSV").click()
        self.assertEqual(caught.value.suggested_filename, "titles.csv")
        dialog.get_by_role("button", name="Take it over for 2 streams").click()
        expect(page.get_by_role("status")).to_contain_text("titles.csv told of 2 streams.")
        self.narrow("forty", 2)
        expect(self.row("0042")).to_contain_text("<b>forty-two</b>")
        page.get_by_role("button", name="Searches").click()
        page.get_by_label("Name of this search").fill("forties")
        page.get_by_role("button", name="Keep").click()
        page.keyboard.press("Escape")
        expect(page.get_by_role("button", name="Searches")).to_be_focused()
        page.get_by_role("button", name="everything").click()
        page.reload()
        expect(page.locator("section[aria-label=Streams] p strong")).to_have_text("5\u202f004")
        page.get_by_role("button", name="Searches").click()
        page.get_by_role("button", name="forties", exact=True).click()
        expect(page.locator("section[aria-label=Streams] p strong")).to_have_text("2")
        expect(page.get_by_label("Name, id, bank, path")).to_have_value("forty")

    def test_damage_is_shown_where_it_is(self):
        page = self.page
        self.open(f"#/{self.game}/survey")
        row = page.get_by_role("row").filter(has_text="bad.crate")
        expect(row).to_contain_text("can't be read")
        page.get_by_role("gridcell", name="bad.crate", exact=True).click()
        alert = page.get_by_label("The chosen file").get_by_role("alert")
        expect(alert).to_contain_text("promises 99,999,999 records")
        expect(alert).to_contain_text("bad.crate, byte")
        expect(alert).to_contain_text("check it against another copy")
        expect(page.get_by_role("row").filter(has_text="part.crate")).to_contain_text("in part not read")

    def test_theme_and_mark_stay_after_a_reload(self):
        page = self.page
        self.open(f"#/{self.game}/locate")
        self.narrow("many 0007", 1)
        self.row("0007").click()
        page.get_by_role("button", name="Mark this stream").click()
        expect(page.get_by_role("button", name="Take the mark away")).to_be_visible()
        before = page.evaluate("document.documentElement.dataset.theme")
        page.get_by_role("button", name="Switch to the").click()
        page.reload()
        self.assertNotEqual(page.evaluate("document.documentElement.dataset.theme"), before)
        self.narrow("many 0007", 1)
        expect(self.row("0007")).to_contain_text("◆")

    def test_the_strip_is_moved_by_mouse_and_keys(self):
        page = self.page
        self.open(f"#/{self.game}/locate")
        self.narrow("part 0001", 1)
        self.row("0001").click()
        self.until(lambda: self.strip("playing") == "true", 20, "sound")  # a loop of 2.6 ms
        page.get_by_role("button", name="Pause").click()
        self.until(lambda: self.strip("playing") == "false", 20, "silence")
        slider = page.get_by_role("slider", name="Position")
        box = slider.bounding_box()
        page.mouse.click(box["x"] + box["width"] / 2, box["y"] + 10)
        self.assertAlmostEqual(int(self.strip("frame")), 100, delta=3)
        slider.focus()
        page.keyboard.press("Home")
        self.assertEqual(self.strip("frame"), "0")
        page.keyboard.press("ArrowRight")
        self.assertEqual(self.strip("frame"), "200")
