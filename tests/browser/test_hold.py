"""The modder's way into a locked game, on real screens: keys, names, the layout bench, taking out, two builds."""

import os
import shutil
import struct
import zipfile

from playwright.sync_api import expect

from tests.browser.support import BrowserTest
from tests.support import copy_of_demo
from zubret_core.base.wording import spaced


def odd_archive(files: dict[str, bytes]) -> bytes:
    """A format that no layout describes: big-endian, sizes before places, names with their length, a sum at the end."""
    table, body, at = b"", b"", 0
    for name, data in files.items():
        table += struct.pack(">IIB", len(data), at, len(name)) + name.encode()
        body += data
        at += len(data)
    return b"ODD!" + struct.pack(">HI", len(files), 10 + len(table)) + table + body


LAYOUT = """zubret: 1
id: odd
title: Odd archive
describes: archive
byte_order: big
recognise: [{at: 0, bytes: "4f 44 44 21"}]
regions:
  - name: head
    at: 0
    fields:
      - {name: mark, type: bytes, length: 4}
      - {name: count, type: u16, means: entries.count}
      - {name: body, type: u32, means: payload.at}
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: size, type: u32, means: entry.stored}
      - {name: place, type: u32, means: entry.at, base: head.body}
      - {name: path, type: text, counted: u8, means: entry.path}
"""


class Hold(BrowserTest):
    @classmethod
    def prepare_library(cls):
        files = {f"tune{n}.bin": bytes([n]) * (900 + n) for n in range(5)}
        (cls.game / "data" / "unknown.odd").write_bytes(odd_archive(files))

    def file(self, path: str):
        self.page.get_by_role("gridcell", name=path, exact=True).click()
        return self.page.get_by_label("The chosen file")

    def test_1_the_waiting_key_unlocks_the_hold(self):
        page, game = self.page, self.register()
        self.open(f"#/{game}/survey")
        panel = self.file("data/hold.chart")
        expect(page.get_by_role("row").filter(has_text="hold.cargo00")).to_contain_text("volume of hold.chart")
        expect(panel.get_by_role("alert")).to_contain_text("needs a key of 32 bytes")
        page.get_by_label("key, hexadecimal or base64").fill("00112233445566778899aabbccddeeff" * 2)
        page.get_by_role("button", name="Add and try").click()
        told = page.get_by_role("list", name="What trying keys gave")
        expect(told).to_contain_text("■ stays locked")
        text = (self.game / "found on a forum.txt").read_text().splitlines()[-1]
        page.get_by_label("key, hexadecimal or base64").fill(text)
        page.get_by_label("label").fill("purser")
        page.get_by_role("button", name="Add and try").click()
        expect(told).to_contain_text("✓ opens with purser")
        expect(told).to_contain_text("checksum of index is right")
        self.assertNotIn(text.split()[5][2:] + text.split()[6][2:], page.content())
        expect(page.get_by_role("row").filter(has_text="hold.cargo01")).to_contain_text("volume of hold.chart")
        panel.get_by_text("Give a name list").locator("input").set_input_files(self.game / "data" / "hold names.txt")
        expect(page.get_by_role("gridcell", name="› cabin/cabin.crate")).to_be_visible()
        expect(panel.get_by_role("grid", name="Entries")).to_contain_text("ambience/night.bell")

    def test_1b_files_as_a_tree_and_to_scale(self):
        page, game = self.page, self.register()
        self.open(f"#/{game}/survey")
        picture = page.get_by_role("region", name="Picture of the game")
        expect(picture).to_contain_text("streams are in data/sea.crate")
        page.get_by_role("button", name="hide not recognised").click()
        expect(page.get_by_role("row").filter(has_text="drift.bin")).to_be_hidden()
        page.get_by_role("button", name="everything").click()
        page.get_by_role("button", name="Tree", exact=True).click()
        rows = page.get_by_role("grid", name="Files").get_by_role("row")
        expect(rows.nth(1)).to_contain_text("data")
        page.get_by_role("grid", name="Files").focus()
        page.keyboard.press("Home")
        page.keyboard.press("ArrowRight")
        expect(page.get_by_role("gridcell", name="sea.crate", exact=True)).to_be_visible()
        page.keyboard.type("hold.ch")
        expect(page.get_by_label("The chosen file").get_by_role("heading", level=2)).to_have_text("data/hold.chart")
        page.keyboard.press("ArrowRight")
        expect(page.get_by_role("gridcell", name="› cabin/cabin.crate")).to_be_visible()
        expect(page.get_by_label("The chosen file")).to_contain_text("data/hold.chart")
        page.reload()
        expect(page.get_by_role("gridcell", name="› cabin/cabin.crate")).to_be_visible()
        expect(page.get_by_role("row", selected=True)).to_contain_text("hold.chart")
        page.keyboard.press("/")
        page.keyboard.type("cabin")
        expect(rows).to_have_count(4)  # with its head: what was found, and what is around it
        page.get_by_role("searchbox", name="Path").fill("")
        picture.get_by_role("button", name="data/deck.zip:").click()
        expect(rows).to_have_count(3)
        page.go_back()
        page.go_forward()
        expect(picture.get_by_role("button", name="data/deck.zip:")).to_have_attribute("aria-pressed", "true")

    def test_2_a_layout_is_written_from_nothing_until_it_gives_the_file_back(self):
        page, game = self.page, self.register()
        self.open(f"#/{game}/survey")
        panel = self.file("data/unknown.odd")
        expect(panel).to_contain_text("not recognised")
        panel.get_by_role("link", name="Describe it on the layout bench").click()
        page.get_by_role("button", name="Begin a layout …").click()
        page.get_by_role("dialog", name="Begin a layout").get_by_role("button", name="Begin with little").click()
        state = page.get_by_label("Layout text")
        expect(state).to_contain_text("■")  # the first guess does not read it
        # The number of entries is found by looking: two bytes behind the mark, high byte first.
        page.get_by_label("Go to byte").fill("4")
        page.get_by_role("button", name="Go", exact=True).click()
        page.get_by_role("tab", name="aids").click()
        expect(page.get_by_role("table", name="Integers at the cursor")).to_contain_text("5")
        editor = page.locator(".cm-content")
        editor.click()
        page.keyboard.press("Control+a")
        page.keyboard.insert_text(LAYOUT.replace("entry.stored", "entry.stord"))
        expect(state).to_contain_text('line 18: "entry.stord" is not a meaning')
        page.keyboard.press("Control+a")
        page.keyboard.insert_text(LAYOUT)
        expect(state).to_contain_text("✓ reads this file")
        expect(state).to_contain_text("5 entries · 100.0 % explained")
        page.get_by_role("tab", name="structure").click()
        page.get_by_role("button", name="count", exact=True).click()
        expect(page.get_by_label("The file", exact=True)).to_contain_text("head · count = 5")
        page.get_by_role("tab", name="entries").click()
        items = page.get_by_role("grid", name="Items")
        expect(items.get_by_role("row")).to_have_count(6)
        items.focus()
        page.keyboard.type("tune3")
        at = odd_archive({f"tune{n}.bin": bytes([n]) * (900 + n) for n in range(5)}).index(bytes([3]) * 903)
        expect(page.get_by_label("The file", exact=True)).to_contain_text(f"byte {spaced(at)} ·")
        page.get_by_role("button", name="Check", exact=True).click()
        expect(page.get_by_role("tabpanel")).to_contain_text("✓ gives back the identical file")
        expect(page.get_by_role("tabpanel")).to_contain_text("there and back")
        expect(page.get_by_text("draft kept")).to_be_visible()
        page.get_by_role("button", name="Save for surveys").click()
        page.get_by_role("button", name="Survey again").click()
        self.open(f"#/{game}/survey")
        expect(page.get_by_role("row").filter(has_text="unknown.odd")).to_contain_text("archive · odd")
        self.file("data/unknown.odd").get_by_role("link", name="Look at its bytes").click()
        expect(page.get_by_label("Layout text")).to_contain_text("✓ reads this file")

    def test_2b_the_aids_find_what_points_where(self):
        page, game = self.page, self.register()
        data = odd_archive({f"tune{n}.bin": bytes([n]) * (900 + n) for n in range(5)})
        self.open(f"#/{game}/bench/data%2Funknown.odd")
        page.get_by_role("tab", name="aids").click()
        page.get_by_label("Go to byte").fill("0x6")
        page.get_by_label("Go to byte").press("Enter")
        body = struct.unpack(">I", data[6:10])[0]  # where the payloads begin
        numbers = page.get_by_role("table", name="Integers at the cursor")
        expect(numbers.get_by_role("row").filter(has_text="32 bit")).to_contain_text(str(body))
        numbers.get_by_role("button", name=str(body), exact=True).last.click()
        panel = page.get_by_role("tabpanel")
        expect(panel).to_contain_text(f"{body} stands at")
        expect(panel.get_by_role("button", name="u32 big").first).to_contain_text("6")
        page.get_by_role("button", name="Texts and record length from here").click()
        expect(panel.get_by_role("button", name="tune3.bin")).to_be_visible()
        page.get_by_role("tab", name="structure").click()
        page.get_by_role("tab", name="aids").click()  # what was found is still there
        panel.get_by_role("button", name="tune3.bin").click()
        there = f"byte {data.index(b'tune3.bin')} ·"
        expect(page.get_by_label("The file", exact=True)).to_contain_text(there)
        page.wait_for_url(f"**at={data.index(b'tune3.bin')}**")
        page.reload()
        expect(page.get_by_label("The file", exact=True)).to_contain_text(there)
        expect(page.get_by_role("tab", name="aids", selected=True)).to_be_visible()

    def test_3_taking_out_shows_progress_is_cancelled_and_goes_on(self):
        page = self.page
        out = self.root / "library" / "out"
        big = self.root / "library" / "Big"
        big.mkdir(exist_ok=True)
        with open(big / "big.odd", "wb") as file:  # 2.8 GB of holes: enough to be cut
            head = odd_archive({f"part{n}": b"" for n in range(4)})
            table = b"".join(
                struct.pack(">IIB", 700_000_000, n * 700_000_000, 5) + f"part{n}".encode() for n in range(4)
            )
            file.write(head[:10] + table)
            file.truncate(len(head) + 2_800_000_000)
        game = self.add_game("Big")
        self.open(f"#/{game}/survey")
        page.get_by_role("button", name="Take all out").click()
        dialog = page.get_by_role("dialog", name="Take out")
        dialog.get_by_label("export folder").fill(str(out))
        expect(dialog).to_contain_text("4 files · 2.80 GB")
        dialog.get_by_role("button", name="Take out 4 files").click()
        expect(dialog.get_by_role("status")).to_contain_text("of 2.80 GB")
        dialog.get_by_role("button", name="Cancel").click()
        expect(dialog).to_contain_text("Taking out is cancelled")
        self.assertEqual(list(out.rglob("*part")), [])
        dialog.get_by_role("button", name="Go on from here").click()
        expect(dialog).to_contain_text("written", timeout=60_000)
        self.assertEqual(sorted(p.stat().st_size for p in out.glob("part*")), [700_000_000] * 4)
        shutil.rmtree(out)

    def test_3b_two_ticked_entries_come_as_one_zip(self):
        page, game = self.page, self.register()
        self.open(f"#/{game}/survey")
        panel = self.file("data/deck.zip")
        panel.get_by_label("Filter entries by path").fill("call")
        boxes = panel.get_by_role("grid", name="Entries").get_by_role("checkbox")
        expect(boxes).to_have_count(2)
        boxes.nth(0).check()
        before = self.api("/surveys")[0]["id"]
        os.utime(self.game / "data" / "unknown.odd")
        page.get_by_role("button", name="Survey again").click()  # a tick outlives a survey and what follows it
        self.until(lambda: self.api("/surveys")[0]["id"] > before and not self.api("/jobs?open=true"), 60, "the survey")
        boxes.nth(1).check()
        panel.get_by_role("button", name="Take out 2 chosen").click()
        dialog = page.get_by_role("dialog", name="Take out")
        dialog.get_by_label("as a ZIP download").check()
        dialog.get_by_label("without folders").check()
        dialog.get_by_role("button", name="Take out 2 files").click()
        with page.expect_download() as caught:
            dialog.get_by_role("link", name="Download taken out.zip").click()
        with zipfile.ZipFile(caught.value.path()) as pack:
            self.assertIsNone(pack.testzip())
            self.assertEqual(pack.namelist(), ["call_01.ogg", "call_02.ogg", "zubret manifest.jsonl"])
        page.keyboard.press("Escape")
        expect(dialog).to_be_hidden()
        page.reload()  # the filter and the order are in the address
        panel = page.get_by_label("The chosen file")
        panel.get_by_label("order").select_option("-size")
        expect(panel.get_by_label("Filter entries by path")).to_have_value("call")
        panel.get_by_label("Filter entries by path").fill("")
        entries = panel.get_by_role("grid", name="Entries")
        expect(entries.get_by_role("row")).to_have_count(6)
        entries.focus()
        for keys, chosen in (("Control+a", 6), ("Home", 1), ("Shift+ArrowDown", 2), ("c", 1)):
            page.keyboard.press(keys)  # a letter leads to the next name that begins so
            expect(panel.get_by_role("button", name=f"Take out {chosen} chosen")).to_be_visible()
        expect(entries.get_by_role("row", selected=True)).to_contain_text("call_0")

    def test_3e_what_changed_keeps_its_place(self):
        page, game = self.page, self.register()
        before = self.api("/surveys")[0]["id"]
        (self.game / "data" / "new log.txt").write_text("one more")
        self.open(f"#/{game}/survey")
        page.get_by_role("button", name="Survey again").click()
        self.until(lambda: self.api("/surveys")[0]["id"] > before and not self.api("/jobs?open=true"), 60, "the survey")
        page.get_by_role("link", name="What changed").click()
        row = page.get_by_role("grid", name="Changes").get_by_role("row").filter(has_text="new log.txt")
        expect(row).to_contain_text("added")
        after = self.api("/surveys")[0]["id"]
        self.assertIn(f"old={before}&now={after}", page.url)
        page.get_by_label("Filter by path").fill("log")
        page.get_by_role("button", name="added 1").click()
        page.wait_for_url("**q=log**")
        page.reload()
        expect(row).to_be_visible()
        expect(page.get_by_role("button", name="added 1")).to_have_attribute("aria-pressed", "true")
        page.get_by_label("before").select_option(str(after))
        expect(page.get_by_text("These are the same survey")).to_be_visible()

    def test_3c_a_key_is_shown_only_when_asked_and_taken_off(self):
        page, game = self.page, self.register()
        self.open(f"#/{game}/survey")
        self.file("data/deck.zip")
        page.get_by_role("button", name="Keys", exact=True).click()
        ring = page.get_by_role("region", name="Key ring")
        page.get_by_label("key, hexadecimal or base64").fill("not a key!")
        page.get_by_role("button", name="Add and try").click()
        expect(ring.get_by_role("alert")).to_contain_text("hexadecimal")
        page.get_by_label("key, hexadecimal or base64").fill("0x" + "5a" * 32)
        page.get_by_label("label").fill("spare")
        page.get_by_role("button", name="Add and try").click()
        expect(ring).to_contain_text("spare")
        expect(ring).to_contain_text("opens nothing yet")
        self.assertNotIn("5a" * 8, page.content())
        spare = ring.locator("div.border-b").filter(has_text="spare")
        spare.get_by_role("button", name="Show").click()
        expect(spare).to_contain_text("5a" * 32)
        spare.get_by_role("button", name="Hide").click()
        expect(spare).not_to_contain_text("5a" * 32)
        spare.get_by_role("button", name="Remove the key spare").click()
        expect(page.get_by_text("The key spare was taken off the ring.")).to_be_visible()
        expect(spare).to_have_count(0)

    def test_3d_a_file_takes_an_entry_s_place_another_joins_and_both_are_proved(self):
        page, game = self.page, self.register()
        self.open(f"#/{game}/survey")
        panel = self.file("data/sea.crate")
        panel.get_by_label("Filter entries by path").fill("strings")
        entries = panel.get_by_role("grid", name="Entries")
        expect(entries.get_by_role("checkbox").nth(0)).to_be_visible()
        entries.get_by_role("checkbox").nth(0).check()
        text = {"name": "words.txt", "mimeType": "text/plain", "buffer": b"Cast off!\n" * 400}
        panel.get_by_text("Put a file in its place …").locator("input").set_input_files(text)
        mine = panel.get_by_role("region", name="Files in this mod")
        expect(mine).to_contain_text("replaced by words.txt, 4.00 kB")
        panel.get_by_text("Add a file …").locator("input").set_input_files({**text, "name": "more.txt"})
        expect(panel.get_by_label("the new entry's path")).to_have_value("text/more.txt")
        panel.get_by_label("the new entry's path").fill("../more.txt")
        panel.get_by_role("button", name="Add it to the mod").click()
        expect(panel.get_by_role("alert")).to_contain_text("no path for an entry")
        panel.get_by_label("the new entry's path").fill("text/more.txt")
        panel.get_by_label("the new entry's path").press("Enter")
        expect(mine).to_contain_text("added from more.txt")
        mine.get_by_role("button", name="Remove").nth(1).click()
        expect(mine).not_to_contain_text("more.txt")
        page.get_by_role("button", name="Undo").click()
        expect(mine).to_contain_text("added from more.txt")
        mine.get_by_role("link", name="Go to Rebuild").click()
        written = page.get_by_role("region", name="What will be written")
        expect(written).to_contain_text("data/sea.crate › text/more.txt, added as a whole")
        page.get_by_role("button", name="Rebuild and prove").click()
        expect(page.get_by_role("region", name="Proof")).to_contain_text("✓ Proved", timeout=60_000)
        page.get_by_role("button", name="data/sea.crate ✓ holds").click()
        expect(page.get_by_role("table", name="Proof of data/sea.crate")).to_contain_text("text/more.txt: bytes")

    def test_4_an_update_of_the_game_is_told_entry_by_entry(self):
        page, game = self.page, self.register()
        (self.game / "data" / "unknown.odd").unlink()
        copy_of_demo(self.game, "1.1")
        self.open(f"#/{game}/survey")
        self.until(lambda: not self.api("/jobs?open=true"), 60, "rest")
        before = self.api("/surveys")[0]["id"]
        page.get_by_role("button", name="Survey again").click()
        self.until(lambda: self.api("/surveys")[0]["id"] > before, 60, "the survey")
        page.get_by_role("link", name="What changed").click()
        table = page.get_by_role("grid", name="Changes")
        expect(table).to_contain_text("text/strings_news.txt")
        expect(table).to_contain_text("music/music.bell")
        page.get_by_role("button", name="added").click()
        expect(table).not_to_contain_text("music/music.bell")
        page.get_by_label("Filter by path").fill("news")
        expect(table.get_by_role("row")).to_have_count(2)
        with page.expect_download() as caught:
            page.get_by_role("link", name="CSV").click()
        self.assertIn("strings_news", open(caught.value.path()).read())
