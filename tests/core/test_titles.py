"""Tables of ids and titles in the spellings in which they come."""

import csv
import io

from django.test import SimpleTestCase

from zubret_core.base import ZubretError
from zubret_core.locate.titles import Matched, match, read_table

STREAMS = [(1, "0246", "music.bell"), (2, "247", "music.bell"), (3, "0246", "voice/crew.bell"), (4, "x", "b.bell")]


class Titles(SimpleTestCase):
    def named(self, data: bytes, **columns: int) -> Matched:
        return match(read_table(data), STREAMS, **{"id_column": 0, "title_column": 1, **columns})

    def test_every_spelling_gives_the_same(self):
        rows = [["id", "title"], ["0246", 'open "water"; far, café'], ["00247", "fog"], ["999", "nobody's"]]
        meant = {1: rows[1][1], 3: rows[1][1], 2: "fog"}
        for sign in "\t;,|":
            out = io.StringIO(newline="")
            csv.writer(out, delimiter=sign).writerows(rows)
            for encoding in ("utf-8", "utf-8-sig", "utf-16", "latin-1"):
                with self.subTest(sign=sign, encoding=encoding):
                    found = self.named(out.getvalue().encode(encoding))
                    self.assertEqual((found.titles, found.unknown, found.shared), (meant, ["999"], 2))
        headless = self.named(b"0246\twater\r\n247\tfog")
        self.assertEqual(headless.titles, {1: "water", 3: "water", 2: "fog"})

    def test_a_bank_tells_equal_ids_apart(self):
        table = read_table(b"bank,id,title\nmusic,0246,one\nvoice\\crew.bell,0246,two\nnone.bell,0246,three")
        columns = {name: table.column((name,)) for name in ("id", "title", "bank")}
        found = match(table, STREAMS, columns["id"], columns["title"], columns["bank"])
        self.assertEqual((found.titles, found.unknown), ({1: "one", 3: "two"}, ["0246"]))

    def test_what_is_not_clear_is_not_used(self):
        found = self.named(b"246,a\n247,b\n247,c\nx,d\nx,d\n,e\n5,\n'=1,f")
        self.assertEqual((found.titles, found.doubled, found.unknown), ({1: "a", 3: "a", 4: "d"}, ["247"], ["=1"]))
        for data in (b"", b"only one column\nand another", b"x" * (9 << 20), b"\xff\xfeab\x00"):
            with self.assertRaises(ZubretError):
                read_table(data)
        many = self.named(b"".join(b"%d,title %d\n" % (n, n) for n in range(60_000)))
        self.assertEqual((len(many.titles), len(many.unknown)), (3, 59_998))
