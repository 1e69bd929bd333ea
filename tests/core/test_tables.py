"""Tables whose records differ: fields that come and go, records that are no items, numbers in text, sizes from fields."""

import struct
import zlib

from django.test import SimpleTestCase

from tests.support import bytes_of, noise, problem_of, source
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.container import DescribedArchive
from zubret_core.layout import load_layout


class Shifting(SimpleTestCase):
    """Numbers of a record that decide which fields it has, and how long they are."""

    LAYOUT = """
zubret: 1
id: shifting
describes: bank
recognise: [{at: 0, bytes: "53 48"}]
given: {stream.codec: pcm16, stream.rate: 8000}
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 2}, {name: count, type: u8, means: streams.count}]
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: at, type: u8, means: stream.at}
      - {name: stored, type: u8, means: stream.stored}
      - {name: channels, type: u8, means: stream.channels}
      - {name: pan, type: u8, when: channels > 1}
      - {name: names, type: bytes, length: channels * 2}
"""
    PAN = "- {name: pan, type: u8, when: channels > 1}"

    @staticmethod
    def data(pan: bytes = b"\7") -> bytes:
        at = 15 + len(pan)
        return b"SH\2" + bytes([at, 4, 1]) + b"Mo" + bytes([at + 4, 8, 2]) + pan + b"LfRt" + noise(6).tobytes()

    def test_a_replacement_that_would_shift_what_stands_behind_is_an_error(self):
        plain = self.LAYOUT.replace(self.PAN, "")
        for text, data, field in ((self.LAYOUT, self.data(), "pan"), (plain, self.data(b""), "names")):
            bank = DescribedBank(load_layout(text), source(data))
            self.assertEqual([s.format.channels for s in bank.streams], [1, 2])
            for n, channels in ((0, 2), (1, 1)):
                format = bank.streams[n].format.with_(channels=channels, frames=2)
                new = NewStream(source(noise(2, channels).tobytes()), format)
                error = problem_of(self, bank.rebuild, {n: new})
                self.assertIn("what decides about that has changed", error.what)
                self.assertEqual(error.field, f"table.{field} of record {n}")
                same = NewStream(source(noise(2, n + 1).tobytes()), format.with_(channels=n + 1))
                again = DescribedBank(load_layout(text), bank.rebuild({n: same}).source)
                self.assertEqual(again.streams[n].format.frames, 2)

    def test_a_length_that_can_not_be_is_told_when_it_is_loaded_or_read(self):
        for wrong, what in (
            ("channles * 2", 'Did you mean "channels"'), ("names * 2", "is not an earlier number"), ("channels +", "can't be read as an expression"),
            ("0 - channels", "a number or length that is not possible"),
        ):  # fmt: skip
            text = self.LAYOUT.replace("length: channels * 2", f"length: {wrong}")
            self.assertIn(
                what, problem_of(self, lambda text=text: DescribedBank(load_layout(text), source(self.data()))).what
            )


class Nodes(SimpleTestCase):
    """Tables of which some records are entries or streams and others are not."""

    LAYOUT = """
zubret: 1
id: nodes
describes: archive
recognise: [{at: 0, bytes: "4e 4f"}]
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 2}, {name: count, type: u16}]
  - name: nodes
    after: head
    repeat: head.count
    items: kind == 0
    fields:
      - {name: kind, type: u8}
      - {name: name, type: text, length: 8, means: entry.name, when: kind == 0}
      - {name: at, type: u16, means: entry.at, when: kind == 0}
      - {name: stored, type: u16, means: entry.stored, when: kind == 0}
      - {name: folder, type: text, length: 8, means: folder.name, when: kind == 1}
      - {name: first, type: u16, means: folder.first, when: kind == 1}
      - {name: many, type: u16, means: folder.count, when: kind == 1}
"""

    @staticmethod
    def made(*nodes: tuple) -> bytes:
        """nodes: (name, contents) of an entry, (name, first, count) of a folder."""
        table, payload, begin = b"", b"", 4 + 13 * len(nodes)
        for name, *more in nodes:
            folder = len(more) == 2
            numbers = more if folder else (begin + len(payload), len(more[0]))
            table += struct.pack("<B8sHH", folder, name.encode(), *numbers)
            payload += b"" if folder else more[0]
        return b"NO" + struct.pack("<H", len(nodes)) + table + payload

    def read(self, *nodes: tuple) -> DescribedArchive:
        return DescribedArchive(load_layout(self.LAYOUT), source(self.made(*nodes)))

    def test_folders_hold_folders_by_ranges_of_records(self):
        nodes = ("quay", 2, 4), ("map", b"m"), ("a", b"aa"), ("deep", 4, 1), ("b", b"bbb"), ("none", 0, 0), ("z", b"")
        archive = self.read(*nodes)
        wanted = {"map": b"m", "quay/a": b"aa", "quay/deep/b": b"bbb", "z": b""}
        self.assertEqual({e.path: bytes_of(archive.open(n)) for n, e in enumerate(archive.entries)}, wanted)
        swapped = DescribedArchive(load_layout(self.LAYOUT), archive.rebuild({1: source(b"longer")}).source)
        found = {e.path: bytes_of(swapped.open(n)) for n, e in enumerate(swapped.entries)}
        self.assertEqual(found, wanted | {"quay/a": b"longer"})
        self.assertEqual(bytes_of(swapped.rebuild({1: source(b"aa")}, anew=True).source), self.made(*nodes))

    def test_ranges_that_can_not_be_are_told(self):
        deep = [(f"f{n}", n + 1, 40 - n - 1) for n in range(39)]
        for nodes, what in (
            ([("a", 1, 3), ("b", 2, 4), *[("x", b"")] * 4], "Folder 1 holds only a part of what folder 0 holds."),
            ([("a", 1, 9), ("x", b"")], "Folder 0 holds entries 1 to 10 of 2."),
            ([*deep, ("x", b"")], "more than 32 deep"),
        ):
            self.assertIn(what, problem_of(self, lambda nodes=nodes: self.read(*nodes).entries).what)
        for change, what in (
            (("items: kind == 0", "items: knd == 0"), 'Did you mean "kind"'),
            (("    at: 0\n", "    at: 0\n    items: 1\n"), "egion head is no table of entry.* meanings"),
        ):
            self.assertIn(what, problem_of(self, load_layout, self.LAYOUT.replace(*change)).what)

    def test_free_places_of_a_bank_are_no_streams(self):
        text = """
zubret: 1
id: free
describes: bank
recognise: [{at: 0, bytes: "46 52"}]
given: {stream.codec: pcm16, stream.rate: 8000}
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 2}, {name: used, type: u8, means: streams.count}, {name: count, type: u8, means: table.count}]
  - name: table
    after: head
    repeat: head.count
    items: stored > 0
    fields: [{name: at, type: u16, means: stream.at}, {name: stored, type: u16, means: stream.stored}]
"""
        free = struct.pack("<HH", 0xFFFF, 0)
        data = b"FR\2\4" + free + struct.pack("<HH", 20, 4) + free + struct.pack("<HH", 24, 2) + noise(3).tobytes()
        bank = DescribedBank(load_layout(text), source(data))
        self.assertEqual([s.format.frames for s in bank.streams], [2, 1])
        new = NewStream(source(noise(9).tobytes()), bank.streams[0].format.with_(frames=9))
        written = bytes_of(bank.rebuild({0: new}).source)
        self.assertEqual(written[2:20], b"\2\4" + free + struct.pack("<HH", 20, 18) + free + struct.pack("<HH", 38, 2))
        empty = NewStream(source(b""), bank.streams[0].format.with_(frames=0))
        self.assertIn("none of the layout's `items` any more", problem_of(self, bank.rebuild, {1: empty}).what)


class Lines(SimpleTestCase):
    """Numbers in text that end where certain bytes stand."""

    LAYOUT = """
zubret: 1
id: lines
describes: archive
recognise: [{at: 0, bytes: "4c 4e 20"}]
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 3}, {name: count, type: digits, ends: "0d 0a", means: entries.count}]
  - name: lines
    after: head
    repeat: head.count
    fields:
      - {name: path, type: text, ends: "20", means: entry.path}
      - {name: at, type: digits, radix: 16, ends: "20", means: entry.at}
      - {name: stored, type: digits, ends: "0d 0a", means: entry.stored}
"""

    def test_a_longer_number_moves_what_stands_behind_its_own_table(self):
        data = b"LN 2\r\na 1B 00003\r\nb 1E 70\r\n" + b"one" + bytes(range(70))
        layout = load_layout(self.LAYOUT)
        archive = DescribedArchive(layout, source(data))
        self.assertEqual([bytes_of(archive.open(n)) for n in (0, 1)], [b"one", bytes(range(70))])
        for size, there, back in (
            (228, b"a 1B 00228\r\nb FF 70\r\n", b"a 1B 00003\r\nb 1E 70\r\n"),
            (229, b"a 1C 00229\r\nb 101 70\r\n", b"a 1B 00003\r\nb 1E 70\r\n"),
            (123_456, b"a 1F 123456\r\nb 1E25F 70\r\n", b"a 17 3\r\nb 1A 70\r\n"),  # nobody knows of the zeros any more
        ):
            built = archive.rebuild({0: source(b"x" * size)}).source
            self.assertTrue(bytes_of(built).startswith(b"LN 2\r\n" + there), bytes_of(built)[:40])
            again = DescribedArchive(layout, built)
            self.assertEqual(bytes_of(again.open(1)), bytes(range(70)))
            self.assertTrue(
                bytes_of(again.rebuild({0: source(b"one")}, anew=True).source).startswith(b"LN 2\r\n" + back)
            )

    def test_what_is_no_number_or_does_not_end_is_told(self):
        layout = load_layout(self.LAYOUT)
        for line, what in (
            (b"a 1G 3\r\n", "not possible"),
            (b"a 1B 3", "has no end"),
            (b"a 1B " + b"9" * 30 + b"\r\n", "not possible"),
        ):
            data = b"LN 1\r\n" + line
            problem = problem_of(self, lambda data=data: DescribedArchive(layout, source(data)))
            self.assertIn(what, problem.what)
        for change in (
            ('ends: "20", means: entry.at', 'ends: "20 20 20", means: entry.at'),
            ('ends: "20", means: entry.at', 'ends: "20", length: 3, means: entry.at'),
        ):
            problem_of(self, load_layout, self.LAYOUT.replace(*change))


class ChunkSizes(SimpleTestCase):
    LAYOUT = """
zubret: 1
id: chunk-sizes
describes: archive
recognise: [{at: 0, bytes: "43 53"}]
payload: {packed: [{by: chunks, size: head.kilobytes * 1024, sizes: u16, packed: [zlib]}]}
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 2}, {name: kilobytes, type: u32}, {name: count, type: u8, means: entries.count}]
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: path, type: text, length: 1, means: entry.path}
      - {name: at, type: u16, means: entry.at}
      - {name: stored, type: u16, means: entry.stored}
      - {name: size, type: u32, means: entry.size}
"""

    def test_they_may_stand_in_a_field(self):
        layout, plain = load_layout(self.LAYOUT), noise(2600).tobytes()
        for size in (1, 2):
            step = 1024 * size
            packed = [zlib.compress(plain[at : at + step]) for at in range(0, len(plain), step)]
            payload = b"".join(len(p).to_bytes(2, "little") for p in packed) + b"".join(packed)
            data = (
                b"CS" + struct.pack("<IB", size, 1) + b"a" + struct.pack("<HHI", 16, len(payload), len(plain)) + payload
            )
            archive = DescribedArchive(layout, source(data))
            self.assertEqual(bytes_of(archive.open(0)), plain)
            again = DescribedArchive(layout, archive.rebuild({0: source(plain[:3000])}).source)
            self.assertEqual(bytes_of(again.open(0)), plain[:3000])
            there = bytes_of(again.document.payload(0))  # a table of as many chunks as the field's size asks for
            self.assertEqual(
                zlib.decompress(there[2 * -(-3000 // step) :][: int.from_bytes(there[:2], "little")]), plain[:step]
            )
        for kilobytes in (0, 1 << 17):
            broken = data[:2] + struct.pack("<I", kilobytes) + data[6:]
            problem = problem_of(self, lambda broken=broken: bytes_of(DescribedArchive(layout, source(broken)).open(0)))
            self.assertIn("unpacked bytes", problem.what)
        for change in (
            ("head.kilobytes * 1024", "15"),
            ("head.kilobytes", "head.killobytes"),
            ("head.kilobytes", "stored"),
        ):
            problem_of(self, load_layout, self.LAYOUT.replace(*change, 1))
