"""Records of every shape, made at random by an encoder of the test's own, read and written back by layouts."""

import random
import struct

import numpy as np
from django.test import SimpleTestCase
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.core.generated import leb
from tests.examples import examples
from tests.support import bytes_of, problem_of, source
from zubret_core.base import ZubretError
from zubret_core.container import DescribedArchive, NewEntry
from zubret_core.layout import load_layout, read_layout
from zubret_core.layout.language.expression import evaluate
from zubret_core.layout.types import leb128, leb128_bytes

HEAD = """
zubret: 1
id: made-up
describes: archive
byte_order: {order}
recognise: [{{at: 0, bytes: "4d 55"}}]
regions:
  - name: head
    at: 0
    fields:
      - {{name: mark, type: bytes, length: 2}}
      - {{name: count, type: u16, means: entries.count}}
      - {{name: table_at, type: u32, means: table.at}}
  - name: table
    repeat: head.count
    fields:
"""


class Field:
    """A kind of field: its line in a layout, a random value, and the bytes of one."""

    def __init__(self, line, value, data):
        self.line, self.value, self.data = line, value, data


def integers(big: bool) -> list[Field]:
    order = "big" if big else "little"
    out = []
    for kind in ("u8", "u16", "u24", "u32", "u48", "u64", "i8", "i16", "i24", "i32", "i48", "i64"):
        width, signed = int(kind[1:]) // 8, kind[0] == "i"
        low, high = (-(1 << (8 * width - 1)), (1 << (8 * width - 1)) - 1) if signed else (0, (1 << (8 * width)) - 1)

        def value(rng, low=low, high=high):
            return rng.choice((low, high, rng.randint(low, high), rng.randint(low // 2, high // 2)))

        def data(v, width=width, signed=signed):
            return v.to_bytes(width, order, signed=signed)

        out.append(Field(f"type: {kind}", value, data))
    return out


def texts(big: bool) -> list[Field]:
    order = "big" if big else "little"

    def word(rng):
        return "".join(rng.choice("abcdefgh") for _ in range(rng.randrange(9)))

    return [
        Field("type: text, length: 8", word, lambda v: v.encode().ljust(8, b"\0")),
        Field('type: text, ends: "00"', word, lambda v: v.encode() + b"\0"),
        Field('type: text, ends: "00 00", encoding: utf-16-le', word, lambda v: v.encode("utf-16-le") + b"\0\0"),
        Field("type: text, counted: u8", word, lambda v: bytes([len(v)]) + v.encode()),
        Field("type: text, counted: u16", word, lambda v: len(v).to_bytes(2, order) + v.encode()),
        Field("type: text, counted: varint", word, lambda v: bytes([len(v)]) + v.encode()),
        Field("type: varint", lambda rng: rng.choice((0, 127, 128, rng.getrandbits(40), (1 << 63) - 1)), leb),
    ]


class Shapes(SimpleTestCase):
    @settings(max_examples=120, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
    @given(st.integers(0, 1 << 30), st.booleans(), st.booleans())
    def test_any_mixture_of_fields_is_read_and_written_back(self, seed, big, variable):
        rng = random.Random(seed)
        kinds = integers(big) + (texts(big) if variable else texts(big)[:1])
        chosen = [rng.choice(kinds) for _ in range(rng.randrange(1, 7))]
        count = rng.randrange(0, 12)
        lines = [f"      - {{name: f{n}, {f.line}}}" for n, f in enumerate(chosen)]
        lines += [f"      - {{name: {m}, type: u32, means: entry.{m}}}" for m in ("at", "stored")]
        lines.append("      - {name: path, type: text, length: 4, means: entry.path}")
        layout = load_layout(HEAD.format(order="big" if big else "little") + "\n".join(lines) + "\n")
        form = ">" if big else "<"
        values, table = [], b""
        payloads = [rng.randbytes(rng.randrange(1, 20)) for _ in range(count)]
        at = 8
        for n in range(count):
            row = [f.value(rng) for f in chosen]
            values.append(row)
            table += b"".join(f.data(v) for f, v in zip(chosen, row, strict=True))
            table += struct.pack(form + "II4s", at, len(payloads[n]), b"e%d" % n)
            at += len(payloads[n])
        data = struct.pack(form + "2sHI", b"MU", count, at) + b"".join(payloads) + table
        archive = DescribedArchive(layout, source(data))
        self.assertEqual([bytes_of(archive.open(n)) for n in range(count)], payloads)
        place = archive.document.instances[1]
        for n, f in enumerate(chosen):
            slot = place.shape.fields[n]
            found = place.records.numbers(slot).tolist() if slot.whole else place.records.values(slot)
            self.assertEqual(found, [row[n] for row in values], f.line)
        self.assertEqual(bytes_of(archive.rebuild({}, anew=True).source), data)
        if count:
            again = DescribedArchive(layout, source(bytes_of(archive.rebuild({0: source(b"n" * 50)}).source)))
            self.assertEqual(bytes_of(again.open(0)), b"n" * 50)
            self.assertEqual([bytes_of(again.open(n)) for n in range(1, count)], payloads[1:])
            back = again.rebuild({0: source(payloads[0])}, anew=True)
            self.assertEqual(bytes_of(back.source), data)

    def test_leb128_keeps_its_bytes(self):
        for value in (0, 1, 127, 128, 300, 1 << 35, (1 << 63) - 1):
            self.assertEqual(leb128_bytes(value), leb(value))
            self.assertEqual(leb128(leb(value)), value)
        self.assertEqual(leb128_bytes(5, 3), b"\x85\x80\x00")
        self.assertEqual(leb128(b"\x85\x80\x00"), 5)

    def test_sixty_thousand_variable_records_are_measured_in_pieces(self):
        count = 65_535
        layout = load_layout(
            HEAD.format(order="little")
            + """      - {name: path, type: text, counted: u8, means: entry.path}
      - {name: at, type: u32, means: entry.at}
      - {name: stored, type: u8, means: entry.stored}
"""
        )
        table = b"".join(b"\x06%06d" % n + struct.pack("<IB", 8, 1) for n in range(count))
        data = struct.pack("<2sHI", b"MU", count, 9) + b"x" + table
        reading = read_layout(layout, source(data))
        self.assertEqual(reading.column("path")[-1], f"{count - 1:06d}")
        self.assertTrue((np.diff(reading.instances[1].records.places) == 12).all())


class WrittenAnew(SimpleTestCase):
    """What writing must do beside copying: lengths, pools, padding, and errors where a format can't hold more."""

    def archive(self, fields: str, table: bytes, tail: str = "", body: bytes = b"abcdef") -> DescribedArchive:
        layout = load_layout(HEAD.format(order="little") + fields + tail)
        return DescribedArchive(layout, source(struct.pack("<2sHI", b"MU", 1, 8 + len(body)) + body + table))

    def test_digits_keep_their_manner(self):
        for before, size, after in (
            (b"0000006\0", 9, b"0000011\0"),
            (b"     6 \0", 9, b"    11 \0"),
            (b"6       ", 9, b"11      "),
            (b"00000006", 9, b"00000011"),
        ):
            fields = """      - {name: path, type: text, length: 2, means: entry.path}
      - {name: at, type: u8, means: entry.at}
      - {name: stored, type: digits, length: 8, radix: 8, means: entry.stored}
"""
            archive = self.archive(fields, b"p\0\x08" + before)
            self.assertEqual(archive.entries[0].stored, 6)
            built = bytes_of(archive.rebuild({0: source(b"n" * size)}).source)
            self.assertTrue(built.endswith(after), built)
        problem_of(self, self.archive, fields, b"p\0\x08" + b"12x45678")

    def test_a_field_that_is_too_small_is_named_and_nothing_wraps(self):
        fields = """      - {name: path, type: text, length: 2, means: entry.path}
      - {name: at, type: u8, means: entry.at}
      - {name: stored, type: u8, means: entry.stored}
"""
        archive = self.archive(fields, b"p\0\x08\x06")
        error = problem_of(self, archive.rebuild, {0: source(b"n" * 256)})
        self.assertIn("256 is too large for its field, which holds stored numbers from 0 to 255", error.what)
        self.assertIn("table.stored of record 0", error.where)
        error = problem_of(self, archive.rebuild, {}, added=[NewEntry("a longer name", source(b"x"))])
        self.assertIn("longer than 2 bytes", error.what)
        with self.assertRaises(ZubretError):
            archive.rebuild({}, added=[NewEntry("p", source(b"x"))])

    def test_a_varint_that_grows_moves_what_stands_behind_it(self):
        fields = """      - {name: path, type: text, counted: u8, means: entry.path}
      - {name: at, type: varint, means: entry.at}
      - {name: stored, type: varint, means: entry.stored}
"""
        archive = self.archive(fields, b"\x01p\x08\x06" + b"")
        built = bytes_of(archive.rebuild({0: source(b"n" * 200)}).source)
        self.assertEqual(built[-5:], b"\x01p\x08\xc8\x01")
        again = DescribedArchive(archive.layout, source(built))
        self.assertEqual(bytes_of(again.open(0)), b"n" * 200)

    def test_a_layout_with_no_solution_says_so(self):
        text = (
            HEAD.format(order="little")
            + """      - {name: path, type: text, counted: u8, means: entry.path}
      - {name: at, type: u32, means: entry.at}
      - {name: stored, type: u32, means: entry.stored}
"""
        )
        fixed = load_layout(
            text.replace(", means: table.at", "").replace(
                "    repeat: head.count", "    at: 14\n    repeat: head.count"
            )
        )
        data = struct.pack("<2sHI", b"MU", 1, 0) + b"abcdef" + b"\x01p" + struct.pack("<II", 8, 6)
        archive = DescribedArchive(fixed, source(data))
        self.assertEqual(bytes_of(archive.rebuild({}, anew=True).source), data)
        error = problem_of(self, archive.rebuild, {0: source(b"n" * 60)})
        self.assertIn("no field of the layout says where it stands", error.what)


TWO_LEVELS = """
zubret: 1
id: levels
describes: archive
recognise: [{at: 0, bytes: "54 32"}]
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 2}, {name: count, type: u16, means: folders.count}]
  - name: folders
    after: head
    repeat: head.count
    fields:
      - {name: folder, type: text, length: 6, means: entry.folder}
      - {name: place, type: u32, means: files.at}
      - {name: count, type: u16, means: files.count}
  - name: files
    each: folders
    repeat: folders.count
    fields:
      - {name: name, type: text, length: 6, means: entry.name}
      - {name: at, type: u32, means: entry.at, base: folders.place}
      - {name: stored, type: u16, means: entry.stored}
"""
LINKS = """
zubret: 1
id: links
describes: archive
recognise: [{at: 0, bytes: "4c 4b"}]
regions:
  - name: files
    at: 2
    fields:
      - {name: next, type: u16, means: files.next, none: 0}
      - {name: path, type: u16, means: entry.id}
      - {name: at, type: u16, means: entry.at}
      - {name: stored, type: u16, means: entry.stored}
"""


class Xored(SimpleTestCase):
    """Numbers of 64 bits, parts of numbers and places in a pool that are XORed, against plain Python."""

    LAYOUT = """
zubret: 1
id: xored
describes: archive
recognise: [{at: 0, bytes: "58 58"}]
methods: {plain: [], turned: [{by: add, bytes: "01"}]}
regions:
  - name: head
    at: 0
    fields:
      - {name: mark, type: bytes, length: 2}
      - {name: count, type: u16, means: entries.count, xor: 0x1234}
      - {name: key, type: u64}
      - {name: pool_size, type: u32, means: pool.stored, xor: key & 0xffffffff}
  - {name: pool, after: head, size: head.pool_size ^ (head.key & 0xffffffff), pool: {encoding: utf-8, ends: "00"}}
  - name: table
    after: pool
    repeat: head.count ^ 0x1234
    fields:
      - {name: name, type: u32, means: entry.path, pool: pool, xor: 0xa5a5a5a5}
      - {name: salt, type: u16}
      - {name: at, type: u64, means: entry.at, xor: 0xfedcba9876543210, unit: 2}
      - name: word
        type: u32
        parts:
          - {name: method, bits: 3, means: entry.method, xor: salt & 7, values: {0: plain, 1: turned}}
          - {name: stored, bits: 29, means: entry.stored, xor: salt << 3 & 0x1fffffff}
      - {name: size, type: i40, means: entry.size, xor: -1, base: 3}
payload: {align: 2}
end: {align: 2}
"""

    def made(self, entries: list[tuple[bytes, bool]], seed: int) -> bytes:
        rng, pool = random.Random(seed), b"".join(b"name%d\0" % n for n in range(len(entries)))
        key, rows, body = rng.getrandbits(63), b"", b""
        at = 16 + len(pool) + 23 * len(entries)
        at += at % 2
        for n, (content, turned) in enumerate(entries):
            salt, stored = rng.getrandbits(16), bytes(b + turned & 255 for b in content)
            word = (turned ^ salt & 7) | (len(content) ^ salt << 3) << 3
            rows += struct.pack("<IHQI", 6 * n ^ 0xA5A5A5A5, salt, (at + len(body)) // 2 ^ 0xFEDCBA9876543210, word)
            rows += (len(content) - 3 ^ -1).to_bytes(5, "little", signed=True)
            body += stored + bytes(len(stored) % 2)
        head = struct.pack("<2sHQI", b"XX", len(entries) ^ 0x1234, key, len(pool) ^ key & 0xFFFFFFFF)
        return head + pool + rows + bytes(len(head + pool + rows) % 2) + body

    def test_they_are_read_and_written(self):
        layout = load_layout(self.LAYOUT)
        for seed in range(40):
            rng = random.Random(seed)
            entries = [(rng.randbytes(rng.randrange(3, 300)), rng.random() < 0.5) for _ in range(rng.randrange(1, 9))]
            archive = DescribedArchive(layout, source(self.made(entries, seed)))
            self.assertEqual([bytes_of(archive.open(n)) for n in range(len(entries))], [c for c, _ in entries])
            n, new = rng.randrange(len(entries)), rng.randbytes(rng.randrange(3, 600))
            wanted = self.made([(new, t) if k == n else (c, t) for k, (c, t) in enumerate(entries)], seed)
            self.assertEqual(bytes_of(archive.rebuild({n: source(new)}, anew=True).source), wanted)


class Pieces(SimpleTestCase):
    """Regions that stand for each record of others, and records that lead to the next."""

    def levels(self, folders: list[list[bytes]]) -> bytes:
        tables = [b"f%05d" % n + struct.pack("<IH", 0, 0) for fs in folders for n in range(len(fs))]
        head, at = b"", 4 + 12 * len(folders)
        body = b""
        for n, files in enumerate(folders):
            place, inside = at + len(body), 12 * len(files)
            head += b"d%05d" % n + struct.pack("<IH", place, len(files))
            payloads = b""
            for k, data in enumerate(files):
                body += b"f%05d" % k + struct.pack("<IH", inside + len(payloads), len(data))
                payloads += data
            body += payloads
        self.assertEqual(len(tables), sum(map(len, folders)))
        return b"T2" + struct.pack("<H", len(folders)) + head + body

    def test_a_thousand_tables_at_random_are_read_changed_and_given_back(self):
        """Empty tables, too; what is swapped in one moves all behind it, with places that count from each table's own."""
        rng = np.random.default_rng(12)
        layout = load_layout(TWO_LEVELS)
        for folders in (1, 7, 1000):
            files = [[rng.bytes(int(rng.integers(1, 40))) for _ in range(rng.integers(0, 4))] for _ in range(folders)]
            files[0] = [b"first"]
            data = self.levels(files)
            archive = DescribedArchive(layout, source(data))
            paths = [f"d{n:05}/f{k:05}" for n, fs in enumerate(files) for k in range(len(fs))]
            self.assertEqual([e.path for e in archive.entries], paths)
            self.assertEqual(bytes_of(archive.rebuild({}, anew=True).source), data)
            number = int(rng.integers(0, len(paths)))
            flat = [f for fs in files for f in fs]
            flat[number] = b"a longer one than all the others are, of sixty bytes or so ..."
            new = bytes_of(archive.rebuild({number: source(flat[number])}).source)
            again = DescribedArchive(layout, source(new))
            self.assertEqual([bytes_of(again.open(n)) for n in range(len(flat))], flat)
            back = again.rebuild({number: archive.open(number)}, anew=True)
            self.assertEqual(bytes_of(back.source), data)

    def test_links_that_lie(self):
        """A list that comes back to itself, one that leads out of the file, one that is longer than any."""

        def links(*places: int) -> bytes:
            rows = b"".join(struct.pack("<4H", nxt, n, 200, 1) for n, nxt in enumerate(places))
            return (b"LK" + rows).ljust(200, b"\0") + b"!"

        layout = load_layout(LINKS)
        self.assertEqual(len(DescribedArchive(layout, source(links(10, 18, 0))).entries), 3)
        for places, word in (
            ((10, 2), "comes back to byte 2"),
            ((2,), "comes back"),
            ((10, 60_000), "outside the file"),
        ):
            self.assertIn(word, problem_of(self, DescribedArchive, layout, source(links(*places))).what)
        lost = self.levels([[b"one"], [b"two"]])
        wrong = lost[:10] + struct.pack("<I", 1 << 30) + lost[14:]
        self.assertIn(
            "outside the file", problem_of(self, DescribedArchive, load_layout(TWO_LEVELS), source(wrong)).what
        )

    def test_faults_of_layouts_with_pieces(self):
        for text, old, new, word in (
            (TWO_LEVELS, "each: folders", "each: head", "must repeat"), (TWO_LEVELS, "each: folders", "each: lost", "no earlier region"),
            (TWO_LEVELS, "means: files.count", "means: files.next", "records of files themselves"), (LINKS, ", none: 0", "", "none: 0"),
            (TWO_LEVELS, "folders.count\n    fields", "files.count\n    fields", "files.count"),
            (LINKS, "at: 2\n", "at: 2\n    repeat: 2\n", "linked records"),
        ):  # fmt: skip
            self.assertIn(old, text)
            self.assertIn(word, problem_of(self, load_layout, text.replace(old, new, 1)).what)


class Wrong(SimpleTestCase):
    """Layouts that are wrong in the ways in which people get them wrong: the line, what is wrong, a suggestion."""

    def test_each_fault_has_its_line(self):
        fields = """      - {name: path, type: text, length: 8, means: entry.path}
      - {name: at, type: u32, means: entry.at}
      - {name: stored, type: u32, means: entry.stored}
"""
        good = HEAD.format(order="little") + fields
        load_layout(good)
        for old, new, line, word in (
            ("describes: archive", "describes: archiv", 4, 'Did you mean "archive"?'),
            ("byte_order: little", "byte_ordr: little", 5, 'Did you mean "byte_order"?'),
            ("    at: 0\n", "    at: 0\n    after: head\n", 8, "exactly one of"),
            ("    repeat: head.count", "    repeat: head.cuont", 15, 'Did you mean "head.count"?'),
            ("    repeat: head.count", "    repeat: head.count\n    until: end", 14, "both repeat and until"),
            ("type: text, length: 8", "type: text", 17, "needs one of length"),
            ("type: text, length: 8", "type: text, length: size", 17, "no earlier integer"),
            ("type: text, length: 8", 'type: text, ends: "00 00 00"', 17, "1, 2 or 4 bytes"),
            ("type: text, length: 8", "type: text, length: 8, encoding: utf-99", 17, "not a known text encoding"),
            ("type: u32, means: entry.at", "type: u32, means: entry.att", 18, "is not a meaning"),
            ("type: u32, means: entry.at", "type: u32, means: stream.at", 18, "only entry.* meanings"),
            ("name: stored, type", "name: at, type", 14, "stands twice"),
            ("name: stored, type", "name: import, type", 19, "can't be used as a name"),
            ("means: entry.stored", "sum: {by: crc31, of: stored}", 19, "not a sum that Zubret knows"),
            ("means: entry.stored", "sum: {by: crc32, of: tabel}", 19, " sum covers"),
            ("means: entry.stored", "means: entry.size, pool: names", 19, "no region with a pool"),
            ("means: entry.stored", "means: entry.size", 7, "o field means entry.stored"),
            ("regions:", "methods: {a: [zlob]}\nregions:", 7, "zlob"),
            *(
                (
                    "regions:",
                    f"methods: {{a: [{{by: chunks, size: 64, says: bounds, {more}, packed: [zlib]}}]}}\nregions:",
                    7,
                    word,
                )
                for more, word in (("place: inline", "stands in front"), ("align: 4", "have no `align`"))
            ),
            ("regions:", "methods: {a: [{by: aes, key: k}]}\nregions:", 7, "not one of `keys`"),
            ("regions:", "files: {v: {name: ../up}}\nregions:", 7, "has no slash"),
            ("regions:", "files: {v: {name: '{stem}{x}'}}\nregions:", 7, "may stand in braces"),
            ("regions:", "payload: {file: v}\nregions:", 7, "not one of `files`"),
            ('recognise: [{at: 0, bytes: "4d 55"}]', "", 2, "needs `recognise`"),
            ("    at: 0", "\tat: 0", 9, "not YAML"),
            (
                "    fields:\n      - {name: mark",
                "    fields: []\n    x:\n      - {name: mark",
                11,
                "is not known here",
            ),
        ):
            self.assertIn(old, good)
            with self.assertRaises(ZubretError, msg=new) as caught:
                load_layout(good.replace(old, new, 1), "mine.yaml")
            error = caught.exception
            self.assertIn(word, error.what, new)
            self.assertTrue(error.next)
            self.assertEqual(error.where, f"mine.yaml, field line {line}", new)

    def test_faults_of_pools_and_of_ties(self):
        good = next(e.layout for e in examples() if e.title == "Pools without ends")
        load_layout(good)
        for old, new, word in (
            (", text_length: letters", "", "says where the texts of names end"),
            ("text_length: letters", "text_length: letter", "no plain number of the record"),
            ("text_length: letters", "text_length: at", "no plain number of the record"),
            ("pool: folders}", "pool: folders, text_length: letters}", "not counted"),
            ("u8, means: entry.stored", "u8, means: entry.stored, per: 0", "`per` is at least 1"),
            ("u8, means: entry.stored", "u8, means: entry.stored, per: head.none", '"head.none" is not a number'),
            ("u8, means: entry.stored", "u8, means: entry.stored, xor: head.none", '"head.none" is not a number'),
            ("u8, means: entry.stored", "f32, means: entry.stored, xor: 1", "`xor` is for fields of whole numbers"),
        ):
            self.assertIn(old, good)
            self.assertIn(word, problem_of(self, load_layout, good.replace(old, new, 1)).what)


ATOMS = st.sampled_from(["a", "b", "0", "1", "3", "7", "0xff", "4096", "0x7fffffffffffffff", "head.count"])
SIGNS = st.sampled_from(["+", "-", "*", "//", "%", "<<", ">>", "&", "|", "==", "!=", "<", "<=", ">", ">=", "and", "or"])


def joined(parts: st.SearchStrategy) -> st.SearchStrategy:
    """Larger expressions from smaller ones: (as Zubret reads it, as Python works it out with every step checked)."""
    both = st.tuples(parts, SIGNS, parts).map(
        lambda t: (f"({t[0][0]} {t[1]} {t[2][0]})", f'step("{t[1]}", {t[0][1]}, {t[2][1]})')
    )
    one = st.tuples(st.sampled_from(["-", "not "]), parts).map(
        lambda t: (f"({t[0]}{t[1][0]})", f'step("{t[0].strip()}", {t[1][1]})')
    )
    return both | one


def step(sign: str, *operands: int) -> int:
    """What Python says of one step; OverflowError where it leaves what a layout may compute with."""
    left, right = operands[0], operands[-1]
    if sign in ("<<", ">>") and not 0 <= right < 64:
        raise OverflowError
    value = int(eval(f"{sign} {left}" if len(operands) == 1 else f"bool({left}) {sign} bool({right})"
                     if sign in ("and", "or") else f"({left}) {sign} ({right})"))  # fmt: skip
    if not -(1 << 63) <= value < 1 << 63:
        raise OverflowError
    return value


class Conditions(SimpleTestCase):
    """`when` is worked out for every record by compiled code; Python's own arithmetic says what is right."""

    ROWS = ((0, 0), (1, 255), (255, 1), (4096, 12), (0xFFFF_FFFF, 63), (77, 3))

    @settings(max_examples=150, deadline=None, derandomize=True)
    @given(st.recursive(ATOMS.map(lambda a: (a, a.replace("head.count", "count"))), joined, max_leaves=7))
    def test_any_condition_against_python(self, texts):
        ours, python = texts
        if len(ours) > 190:
            return
        layout = load_layout(
            HEAD.format(order="big")
            + f"""      - {{name: a, type: u32}}
      - {{name: b, type: u8}}
      - {{name: at, type: u8, means: entry.at}}
      - {{name: stored, type: u8, means: entry.stored}}
      - {{name: path, type: text, counted: u8, means: entry.path}}
      - {{name: more, type: u16, when: "{ours}"}}
"""
        )
        table, expected = b"", []
        try:
            for a, b in self.ROWS:
                value = eval(python, {"step": step, "a": a, "b": b, "count": len(self.ROWS)})
                self.assertEqual(evaluate(ours, {"a": a, "b": b, "head.count": len(self.ROWS)}), value, ours)
                expected.append(bool(value))
                table += struct.pack(">I5B", a, b, 8, 0, 1, 112) + (b"\x12\x34" if value else b"")
        except (OverflowError, ZeroDivisionError):
            with self.assertRaises(ZubretError):
                evaluate(ours, {"a": a, "b": b, "head.count": len(self.ROWS)})
            return
        reading = read_layout(layout, source(struct.pack(">2sHI", b"MU", len(self.ROWS), 8) + table))
        lengths = np.diff(reading.instances[1].records.places)
        self.assertEqual(lengths.tolist(), [11 if more else 9 for more in expected][:5], ours)

    def test_an_unsigned_number_beyond_63_bits_is_refused_and_not_taken_for_a_negative_one(self):
        layout = load_layout(
            HEAD.format(order="big")
            + """      - {name: a, type: u64}
      - {name: at, type: u8, means: entry.at}
      - {name: stored, type: u8, means: entry.stored}
      - {name: path, type: text, counted: u8, means: entry.path}
      - {name: more, type: u16, when: a < 5}
"""
        )
        for a, fine in ((9, True), ((1 << 63) - 1, True), (1 << 63, False), ((1 << 64) - 1, False)):
            data = source(struct.pack(">2sHIQ4B", b"MU", 1, 8, a, 8, 0, 1, 112))
            if fine:
                self.assertEqual(read_layout(layout, data).column("path"), ["p"])
            else:
                problem_of(self, read_layout, layout, data)
