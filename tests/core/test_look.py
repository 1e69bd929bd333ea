"""The bench's aids and its check."""

import json
import random
import re

from django.test import SimpleTestCase

from server.home.management.commands.openapi import schema_document
from tests.examples import examples, loaded
from tests.support import ROOT, problem_of, small_crate, source
from zubret_core.bank.trial import check
from zubret_core.layout import layout_named, load_layout, read_layout
from zubret_core.layout.trial import explained, regions_of, spans_in, unexplained
from zubret_core.source.look import MOST_SEARCHED, entropy, find_number, record_distance, strings


class Aids(SimpleTestCase):
    def test_entropy_tells_packed_from_plain(self):
        plain, text, packed = bytes(40_000), b"the night ferry crosses " * 1700, random.Random(1).randbytes(40_000)
        values = entropy(source(plain + text + packed), 30)
        self.assertEqual(values[3], 0.0)
        self.assertTrue(2.5 < values[14] < 4.5)
        self.assertGreater(values[27], 7.8)
        self.assertEqual(entropy(source(b""), 10), [])

    def test_a_number_is_found_in_all_widths_and_orders(self):
        value = 0x123456
        data = bytearray(3_000_000)
        places = {
            100: value.to_bytes(4, "little"), 200: value.to_bytes(4, "big"), 300: value.to_bytes(3, "big"),
            (1 << 20) - 2: value.to_bytes(8, "little"), 2_500_000: value.to_bytes(6, "big"),
        }  # fmt: skip
        for at, stored in places.items():
            data[at : at + len(stored)] = stored
        data[300 - 3 : 300] = data[303:306] = b"\xff\xff\xff"
        hits, searched = find_number(source(bytes(data)), value)
        found = {(h.type, h.order): h.at for h in hits}
        self.assertEqual(found["u24", "big"], 300)
        self.assertIn((1 << 20) - 2, [h.at for h in hits])
        self.assertIn(2_500_000 - 2, [h.at for h in hits])  # zeros before make it the wider number
        self.assertEqual(searched, len(data))
        self.assertEqual(find_number(source(b"abc"), 1 << 70), ([], 3))

    def test_a_search_tells_what_it_has_and_goes_on_from_there(self):
        """Across the end of a part, and where the number stands nearly everywhere."""
        data, value = bytearray(MOST_SEARCHED + 13), 0x123456789A
        for at in (7, MOST_SEARCHED - 3, MOST_SEARCHED + 5):
            data[at : at + 8] = value.to_bytes(8, "little")
        found, at = [], 0
        while at < len(data):
            hits, at = find_number(source(bytes(data)), value, at)
            found += [h.at for h in hits]
        whole = [m.start() for m in re.finditer(re.escape(value.to_bytes(5, "little")), bytes(data))]
        self.assertEqual([at for at in found if at in whole], whole)
        everywhere, at = find_number(source(bytes(4000)), 0)
        self.assertEqual(len(everywhere), 200)
        self.assertLess(at, 4000)

    def test_texts_and_record_lengths(self):
        data = small_crate()
        table = int.from_bytes(data[12:16], "little") * 2048
        found = strings(source(data), table)
        self.assertEqual((found[0].at, found[0].text), (table, "notes.txt"))
        records = b"".join(random.Random(n).randbytes(4) + b"\0\0\1\0" + bytes([n % 256]) * 3 for n in range(900))
        self.assertEqual(record_distance(source(records), 0)[0].bytes, 11)
        self.assertEqual(record_distance(source(random.Random(2).randbytes(9000)), 0), [])


class Trying(SimpleTestCase):
    def test_spans_name_every_field_of_what_is_on_screen(self):
        reading = read_layout(layout_named("saltglass-crate"), source(small_crate()))
        head = list(spans_in(reading, 0, 48))
        self.assertEqual([s.field for s in head][:4], ["mark", "version", "tide", "count"])
        self.assertEqual((head[3].value, head[3].means, head[3].at), ("4", "entries.count", 8))
        table = reading.instances[1].at
        third = list(spans_in(reading, table + 152, table + 200))
        self.assertEqual((third[0].record, third[0].field, third[0].value), (2, "path", "b/small.bell"))
        self.assertEqual([r.name for r in regions_of(reading)], ["head", "table"])
        self.assertEqual(explained(reading), 1.0)
        odd = bytearray(small_crate())
        odd[1000:1010] = b"who put it"
        reading = read_layout(layout_named("saltglass-crate"), source(bytes(odd)))
        self.assertEqual(unexplained(reading), [(48, 2000)])

    def test_check_holds_for_every_example_and_tells_where_it_does_not(self):
        for example in examples():
            layout = loaded(example.layout)
            beside = lambda n, e=example: source(e.files[n], n)  # noqa: E731
            found = check(layout, source(example.files[""], "example.bin"), beside, example.keys)
            self.assertTrue(found.ok and found.tried, example.title)
        # A fill that is not the file's: its gaps are carried over, and only the file's end would be made anew.
        text = (ROOT / "zubret_core/layout/shipped/saltglass-crate.yaml").read_text("utf-8")
        wrong = load_layout(text.replace("unit: 2048}\n      - {name: build", "unit: 1024}\n      - {name: build"))
        error = problem_of(self, read_layout, wrong, source(small_crate(), "x.crate"))
        self.assertIn("should have", error.what)
        other = load_layout(text.replace("of: unpacked", "of: stored"))
        error = problem_of(self, check, other, source(small_crate(), "x.crate"))
        self.assertIn("The checksum of notes.txt is", error.what)
        self.assertIn("table.sum of record 0", error.where)

    def test_the_schema_is_the_committed_one(self):
        stored = (ROOT / "docs/layout.schema.json").read_text("utf-8")
        self.assertEqual(stored, schema_document(), "run: manage.py openapi")
        self.assertIn("regions", json.loads(stored)["properties"])
