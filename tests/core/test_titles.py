"""Tables of ids and titles in the spellings in which they come."""

import csv
import io

from django.test import SimpleTestCase

from zubret_core.base import ZubretError
from zubret_core.locate.titles import Called, Columns, Matched, match, read_table

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
