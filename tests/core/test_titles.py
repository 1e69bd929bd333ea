"""Tables of ids and titles in the spellings in which they come."""

import csv
import io
from importlib import resources

from django.test import SimpleTestCase

from standin.formats import page
from tests.support import problem_of
from zubret_core.base import ZubretError
from zubret_core.layout.loading.text import load_layout
from zubret_core.locate import Known
from zubret_core.locate.titles import Called, Columns, Matched, match, read_table, table_of
from zubret_core.source import BytesSource

STREAMS = [
    Called(1, "0246", "", "music.bell", ""),
    Called(2, "247", "", "music.bell", ""),
    Called(3, "0246", "", "voice/crew.bell", ""),
    Called(4, "x", "deck/horn.wav", "b.bell", ""),
    Called(5, "900", "", "crew.bell", "English"),
    Called(6, "900", "", "crew.bell", "German"),
]


class Titles(SimpleTestCase):
    def named(self, data: bytes) -> Matched:
        return match(read_table(data), STREAMS, Columns(0, 1))

    def titles(self, found: Matched) -> dict[int, str]:
        return {number: title for number, (title, _) in found.said.items()}

    def test_every_spelling_gives_the_same(self):
        rows = [["id", "title"], ["0246", 'open "water"; far, café'], ["00247", "fog"], ["999", "nobody's"]]
        meant = {1: rows[1][1], 3: rows[1][1], 2: "fog"}
        for sign in "\t;,|":
            out = io.StringIO(newline="")
            csv.writer(out, delimiter=sign).writerows(rows)
            for encoding in ("utf-8", "utf-8-sig", "utf-16", "latin-1"):
                with self.subTest(sign=sign, encoding=encoding):
                    found = self.named(out.getvalue().encode(encoding))
                    self.assertEqual((self.titles(found), found.unknown, found.shared), (meant, ["999"], 2))
        headless = self.named(b"0246\twater\r\n247\tfog")
        self.assertEqual(self.titles(headless), {1: "water", 3: "water", 2: "fog"})

    def test_a_bank_tells_equal_ids_apart(self):
        table = read_table(b"bank,id,title\nmusic,0246,one\nvoice\\crew.bell,0246,two\nnone.bell,0246,three")
        found = match(table, STREAMS, Columns.of(table))
        self.assertEqual((self.titles(found), found.unknown), ({1: "one", 3: "two"}, ["0246"]))

    def test_texts_go_by_language_and_by_the_names_of_what_has_no_id(self):
        table = read_table(b"lang;key;text;name\nde;900;Leinen los!;\nEN;900;Cast off!;cast off\n;HORN.ogg;;horn\n")
        found = match(table, STREAMS, Columns.of(table))
        self.assertEqual(found.said, {6: ("", "Leinen los!"), 5: ("cast off", "Cast off!"), 4: ("horn", "")})
        only = read_table(b"id\ttext\n900\tCast off!\n")
        self.assertEqual(match(only, STREAMS, Columns.of(only)).said, {5: ("", "Cast off!"), 6: ("", "Cast off!")})

    def test_what_is_not_clear_is_not_used(self):
        found = self.named(b"246,a\n247,b\n247,c\nx,d\nx,d\n,e\n5,\n'=1,f")
        self.assertEqual(
            (self.titles(found), found.doubled, found.unknown), ({1: "a", 3: "a", 4: "d"}, ["247"], ["=1"])
        )
        for data in (b"", b"only one column\nand another", b"x" * (9 << 20), b"\xff\xfeab\x00"):
            with self.assertRaises(ZubretError):
                read_table(data)
        many = self.named(b"".join(b"%d,title %d\n" % (n, n) for n in range(60_000)))
        self.assertEqual((len(many.said), len(many.unknown)), (5, 59_997))

    def test_lines_of_keys_are_a_table_and_a_template_finds_the_ids_in_them(self):
        table = read_table(b"[voice]\n# spoken\nVO_900_EN=Cast off; now = go\nVO_900_DE = Leinen los!\nMENU_7=Sail\n")
        found = match(table, STREAMS, Columns.of(table), "VO_{id}_{language}")
        self.assertEqual(found.said, {5: ("", "Cast off; now = go"), 6: ("", "Leinen los!")})
        self.assertEqual(found.unknown, ["MENU_7"])
        two_heads = read_table(b"id,text\nid,text\n247,Fog\n")
        found = match(two_heads, STREAMS, Columns.of(two_heads))
        self.assertEqual((found.said, found.unknown), ({2: ("", "Fog")}, ["id"]))
        for wrong in ("VO_*", "{id}{id}", "{number}"):
            with self.assertRaises(ZubretError):
                match(table, STREAMS, Columns.of(table), wrong)

    def test_a_layout_reads_a_table_of_the_game(self):
        lines = [(246, "en", "Wéigh anchor"), (900, "de", "")]
        for data, wanted in (
            (page(lines), [["id", "text", "language"], ["246", "Wéigh anchor", "en"], ["900", "", "de"]]),
            (b"246\tFog\n", [["246", "Fog"]]),
        ):
            self.assertEqual(table_of(BytesSource(data), Known()).rows, wanted)
        for end in (9, 14, 20):  # cut short
            with self.assertRaises(ZubretError):
                table_of(BytesSource(page(lines)[:end]), Known())
        text = resources.files("zubret_core.layout.shipped").joinpath("saltglass-page.yaml").read_text("utf-8")
        problem = problem_of(self, load_layout, text.replace("row.text", "row.bank"))
        self.assertIn("A table needs a field that means row.id, one that means row.title or row.text", problem.what)
