"""Faults that formats brought up which nobody here had invented: each by the smallest file that shows it."""

import shutil
import struct
import tempfile
import zlib
from dataclasses import replace
from pathlib import Path

from django.test import SimpleTestCase

from standin.formats import PCM, Sound, crate, towed_bell
from tests.core import test_proof
from tests.core.test_proof import Subject
from tests.core.test_records import HEAD
from tests.support import bytes_of, edited, noise, problem_of, resummed_bell, small_bell, small_crate, source
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.bank.trial import check
from zubret_core.base import Format, Loop, ZubretError
from zubret_core.codec import codec_of
from zubret_core.container import DescribedArchive
from zubret_core.layout import layout_named, load_layout
from zubret_core.layout.document.extent import Grid
from zubret_core.layout.language.terms import MEANINGS, NUMBER, TEXT
from zubret_core.layout.types import TYPES
from zubret_core.rebuild import prove_in_new_process
from zubret_core.rebuild.prove import prove

NUMBERED = """
zubret: 1
id: numbered
describes: archive
byte_order: big
recognise: [{at: 0, bytes: "4e 55 4d 21"}]
regions:
  - name: chunks
    at: 4
    until: end
    fields:
      - {name: size, type: u32, base: -8}
      - {name: id, type: u32}
    body: {size: size, align: 4, nested: [7]}
  - name: table
    origin: chunks
    chunk: 1
    size: region.room
    packed: [zlib]
    until: end
    fields:
      - {name: path, type: text, length: 4, means: entry.path}
      - {name: at, type: u32, means: entry.at, base: pool.at}
      - {name: stored, type: u32, means: entry.stored}
  - name: pool
    origin: chunks
    chunk: 2
    fields: []
"""
WAVES = """
zubret: 1
id: waves
describes: bank
recognise: [{at: 0, bytes: "52 49 46 46"}]
given: {stream.codec: pcm16}
regions:
  - name: chunks
    at: 0
    until: end
    fields: [{name: id, type: text, length: 4}, {name: size, type: u32}]
    body: {size: size, align: 2, nested: [RIFF], skip: 4}
  - name: loops
    each: chunks
    origin: chunks
    chunk: smpl
    fields:
      - {name: head, type: bytes, length: 28}
      - {name: count, type: u32, means: stream.looped}
      - {name: more, type: bytes, length: 12}
      - {name: start, type: u32, means: stream.loop_start}
      - {name: end, type: u32, means: stream.loop_end, base: 1}
      - {name: rest, type: bytes, length: 8}
  - name: forms
    each: chunks
    origin: chunks
    chunk: "fmt "
    fields:
      - {name: number, type: result, of: region.index, means: stream.id}
      - {name: tag, type: u16, equals: 1}
      - {name: channels, type: u16, means: stream.channels}
      - {name: rate, type: u32, means: stream.rate}
      - {name: more, type: bytes, length: 8}
  - name: sounds
    each: chunks
    origin: chunks
    chunk: data
    fields:
      - {name: at, type: result, of: region.at, means: stream.at}
      - {name: stored, type: result, of: region.room, means: stream.stored}
"""
WALK = """
zubret: 1
id: walked
describes: archive
recognise: [{at: 0, bytes: "57 4b"}]
regions:
  - name: member
    at: 0
    until: end
    fields:
      - {name: mark, type: bytes, length: 2}
      - {name: path, type: text, ends: "00", means: entry.path}
      - {name: gap, type: align, to: 4}
      - {name: size, type: u16, means: entry.stored}
      - {name: sum, type: u16, sum: {by: added, of: record, blank: "20"}}
    body: {size: size, align: 3}
"""


def walked(members: list[tuple[str, bytes]]) -> bytes:
    """A file for WALK, by plain Python."""
    out = b""
    for path, data in members:
        out += bytes(-len(out) % 3)
        record = b"WK" + path.encode() + b"\0"
        record += bytes(-(len(out) + len(record)) % 4) + struct.pack("<H", len(data))
        record += struct.pack("<H", sum(record + b"\x20\x20") & 0xFFFF)
        out += record + data
    return out


class Records(SimpleTestCase):
    def test_alignment_inside_records_with_bodies_and_sums_of_records_that_move(self):
        members = [("one", b"1234567"), ("three", b"abc"), ("seventeen letters", b"x" * 11), ("z", b"")]
        layout, data = load_layout(WALK), walked(members)
        archive = DescribedArchive(layout, source(data))
        self.assertEqual(bytes_of(archive.rebuild({}, anew=True).source), data)
        for size in range(1, 14):
            there = bytes_of(archive.rebuild({0: source(b"n" * size)}).source)
            self.assertEqual(there, walked([("one", b"n" * size), *members[1:]]))
            again = DescribedArchive(layout, source(there))
            self.assertEqual(bytes_of(again.rebuild({0: source(members[0][1])}, anew=True).source), data)

    def test_a_sum_over_a_span_with_its_own_field_blanked_is_rebuilt(self):
        text = HEAD.format(order="little").replace(
            "means: table.at}", 'means: table.at}\n      - {name: sum, type: u32, sum: {by: crc32, of: span, start: 2, end: 16, blank: "20"}}'
        ) + "      - {name: path, type: text, length: 2, means: entry.path}\n      - {name: at, type: u16, means: entry.at}\n      - {name: stored, type: u16, means: entry.stored}\n"  # fmt: skip

        def made(payload: bytes) -> bytes:
            head = struct.pack("<2sHI4s", b"MU", 1, 12 + len(payload), b"    ")
            rest = payload + struct.pack("<2sHH", b"p1", 12, len(payload))
            return head[:8] + struct.pack("<I", zlib.crc32((head + rest)[2:16])) + rest

        archive = DescribedArchive(load_layout(text), source(made(b"abcdef")))
        self.assertEqual(bytes_of(archive.rebuild({}, anew=True).source), made(b"abcdef"))
        self.assertEqual(bytes_of(archive.rebuild({0: source(b"ABCDEFGHI")}).source), made(b"ABCDEFGHI"))

    def test_a_pool_of_many_names_keeps_them_and_takes_a_new_one(self):
        layout = load_layout(HEAD.format(order="little").replace("means: table.at}", "means: table.at}\n      - {name: names, type: u32, means: names.stored}").replace(
            "  - name: table\n", '  - name: names\n    after: head\n    size: head.names\n    pool: {ends: "00"}\n  - name: table\n')
            + "      - {name: path, type: u32, means: entry.path, pool: names}\n      - {name: at, type: u32, means: entry.at}\n      - {name: stored, type: u32, means: entry.stored}\n")  # fmt: skip
        count = 30_000
        pool = b"".join(b"name%05d\0" % n for n in range(count))
        at = 12 + len(pool)
        table = b"".join(struct.pack("<III", 10 * n, at, 4) for n in range(count))
        data = struct.pack("<2sHII", b"MU", count, at + 4, len(pool)) + pool + b"same" + table
        archive = DescribedArchive(layout, source(data))
        self.assertEqual(archive.entries[-1], ("name29999", at, 4, 4, "plain", None, ""))
        self.assertEqual(archive.table.tuples(), [tuple(archive.entries[n]) for n in range(count)])
        self.assertRaises(IndexError, archive.entries.__getitem__, count)
        changes = {n: s for s in [source(b"others")] for n in range(count)}
        again = DescribedArchive(layout, source(bytes_of(archive.rebuild(changes).source)))
        self.assertEqual((again.entries[7].path, bytes_of(again.open(29_999))), ("name00007", b"others"))

    def test_free_space_that_is_only_wished_for_is_refused(self):
        fields = "      - {name: at, type: u32, means: entry.at}\n"
        text = (HEAD.format(order="little") + fields).replace("regions:", "payload: {least: 4}\nregions:")
        self.assertIn("it belongs to `end`", problem_of(self, load_layout, text).what)

    def test_chunks_with_numbers_behind_their_sizes_hold_a_packed_table(self):
        def chunk(number: int, body: bytes) -> bytes:
            return struct.pack(">II", len(body) + 8, number) + body + bytes(-len(body) % 4)

        def file(first: bytes) -> bytes:
            table = struct.pack(">4sII4sII", b"one", 0, len(first), b"two", len(first), 3)
            return b"NUM!" + chunk(9, b"note!") + chunk(7, chunk(1, zlib.compress(table)) + chunk(2, first + b"fog"))

        archive = DescribedArchive(load_layout(NUMBERED), source(file(b"salt")))
        self.assertEqual([bytes_of(archive.open(n)) for n in range(2)], [b"salt", b"fog"])
        self.assertEqual(bytes_of(archive.rebuild({}, anew=True).source), file(b"salt"))
        longer = bytes_of(archive.rebuild({0: source(b"a longer one")}).source)
        again = DescribedArchive(load_layout(NUMBERED), source(longer))
        self.assertEqual([bytes_of(again.open(n)) for n in range(2)], [b"a longer one", b"fog"])
        self.assertEqual(bytes_of(again.rebuild({0: source(b"salt")}, anew=True).source), file(b"salt"))

    def test_chunks_that_belong_together(self):
        """WAV files one behind the other, of which one has loop points: all is given back as the files would be, whichever is replaced."""

        def chunk(name: bytes, *parts: bytes) -> bytes:
            body = b"".join(parts)
            return name + struct.pack("<I", len(body)) + body + bytes(len(body) % 2)

        def file(*payloads: bytes, missing: bytes = b"") -> bytes:
            loop = chunk(b"smpl", bytes(28), struct.pack("<8I", 1, 0, 0, 0, 10, 59, 0, 0))
            heads = [chunk(b"fmt ", struct.pack("<HHIIHH", 1, 1, 8000 + n, 16000, 2, 16)) for n in range(len(payloads))]
            parts = [(heads[n], loop if n == 1 else b"", chunk(b"data", p)) for n, p in enumerate(payloads)]
            return b"".join(chunk(b"RIFF", b"WAVE", *part) for part in parts).replace(missing, b"none", bool(missing))

        sounds = [noise(frames, seed=frames).tobytes() for frames in (100, 251, 400)]
        bank = DescribedBank(load_layout(WAVES), source(file(*sounds)))
        self.assertEqual([bytes_of(s.payload) for s in bank.streams], sounds)
        self.assertEqual(
            [(s.id, s.format.rate, s.format.loop) for s in bank.streams],
            [("0", 8000, None), ("1", 8001, Loop(10, 60)), ("2", 8002, None)],
        )
        for n in range(3):
            for frames in (777, 71):
                fresh = noise(frames, seed=n).tobytes()
                new = NewStream(source(fresh), bank.streams[n].format.with_(frames=frames))
                wanted = file(*sounds[:n], fresh, *sounds[n + 1 :])
                self.assertEqual(bytes_of(bank.rebuild({n: new}).source), wanted)
        error = problem_of(self, DescribedBank, load_layout(WAVES), source(file(*sounds, missing=b"data")))
        self.assertIn("Nothing beside this chunk", error.what)
        flat = load_layout(WAVES.replace("nested: [RIFF], skip: 4", "nested: []"))
        chunks = chunk(b"RIFF") + file(sounds[0])[12:] + chunk(b"data", sounds[1])
        error = problem_of(self, DescribedBank, flat, source(chunks))
        self.assertIn("in 1 chunks, but", error.what)


class Proofs(SimpleTestCase):
    """Bytes of a bank and of gaps that no swap touches; companions by whichever name."""

    def proved(self, subject: Subject, spoil=None):
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder)
        out, expected = test_proof.Attacked.rebuilt(self, subject, folder)
        place = out / subject.path
        if spoil:
            place.write_bytes(spoil(place.read_bytes()))
        return prove(expected), expected

    swap = test_proof.Attacked.swap

    def test_a_changed_byte_in_a_bank_or_in_a_gap_is_named(self):
        bank = Subject({"small.bell": small_bell()}, "small.bell", inside=(("small.bell", 0),), ordinal=1)
        for at in (6, 48 + 28, 48 + 96 + 20):  # a field of the head, one of a record, a loop of another stream
            points, _ = self.proved(bank, lambda data, at=at: edited(data, at, "<B", data[at] ^ 8))
            self.assertTrue([p for p in points if not p.ok], at)
        junk = edited(small_crate(), 2040, "<Q", 0x1122334455667788)
        points, _ = self.proved(Subject({"x.crate": junk}, "x.crate"), lambda d: edited(d, 2041, "<B", 9))
        self.assertIn("byte 2\u202f041", next(p.found for p in points if not p.ok))

    def test_a_companion_inside_an_archive_is_proved_by_what_is_in_it(self):
        bank, tow = towed_bell(
            "night", [Sound(1, noise(300, 2), 44100, block=64), Sound(2, noise(90), 24000, codec=PCM)]
        )
        packed = crate(
            "x", [("a/night.bell", bank, False), ("a/night.tow", tow, True), ("a/night.txt", b"not it", False)]
        )
        points, expected = self.proved(
            Subject({"x.crate": packed}, "x.crate", inside=(("a/night.bell", 0),), ordinal=1)
        )
        self.assertEqual([p for p in points if not p.ok], [])
        untouched = next(p for p in points if p.label == "untouched entries")
        self.assertTrue(
            untouched.found.startswith("1 "), "the bank and its tow change, the text with their stem does not"
        )
        self.assertEqual([p for p in prove_in_new_process(replace(expected, deep=True)) if not p.ok], [])


class Loading(SimpleTestCase):
    """What used to load and to fail later is told when a layout is loaded, with its line."""

    BANK = """
zubret: 1
id: made-up
describes: {describes}
recognise: [{{at: 0, bytes: "4d 55"}}]
given: {{{given}}}
regions:
  - name: head
    at: 0
    fields: [{{name: mark, type: bytes, length: 2}}, {{name: count, type: u16}}]
  - name: table
    after: head
    repeat: head.count
    fields:
{fields}"""

    def text(self, kind: str, line: str) -> str:
        wants = {"stream": ["at", "stored", "codec", "rate", "frames"], "entry": ["at", "stored", "id"]}[kind]
        given = "stream.codec: pcm16, stream.rate: 8000" if kind == "stream" else ""
        fields = [f"      - {{name: f{n}, type: u32, means: {kind}.{w}}}\n" for n, w in enumerate(wants)
                  if w not in ("codec", "rate", "stream.cut" in line and "frames") and f"{kind}.{w}" not in line]  # fmt: skip
        if "stream.codec" in line or "stream.rate" in line:
            given = "stream.rate: 8000" if "stream.codec" in line else "stream.codec: pcm16"
        if "stream.skip" in line:
            given = given.replace("pcm16", "opus")
        describes = "bank" if kind == "stream" else "archive"
        return self.BANK.format(describes=describes, given=given, fields=f"      - {line}\n" + "".join(fields))

    def test_every_type_against_every_meaning(self):
        """A pair loads exactly where the type can give what the meaning takes; else the line says what to use."""
        refused = 0
        for means, meaning in MEANINGS.items():
            kind = means.split(".")[0]
            if kind not in ("stream", "entry") or means.endswith(".pieces"):  # which needs a region of pieces, too
                continue
            for name, type_ in TYPES.items():
                more = {"result": ", of: 4"}.get(name, ", length: 4" * (name in ("text", "bytes", "digits", "bcd")))
                for values, gives in (
                    ("", type_.carries),
                    (", values: {0: pcm16}", (TEXT,)),
                    (", values: {0: 4}", (NUMBER,)),
                ):
                    fits = (type_.whole or not values or name == "result") and bool(set(gives) & set(meaning.takes))
                    try:
                        load_layout(
                            self.text(kind, f"{{name: own, type: {name}{more}, means: {means}{values}}}"), "mine"
                        )
                        loaded = True
                    except ZubretError as e:
                        loaded = False
                        self.assertEqual(e.where, "mine, field line 15", e.what)
                        refused += 1
                    if means != "stream.codec" or values != ", values: {0: 4}":
                        self.assertEqual(loaded, fits and name != "align", (means, name, values))
        self.assertGreater(refused, 400)

    def test_a_length_that_no_byte_tells_must_be_a_field(self):
        text = self.text("stream", "{name: own, type: u8, means: stream.channels}").replace("stream.codec: pcm16", "stream.codec: other").replace(
            "regions:", "codecs: {other: {codec: library, decoder: adpcm_yamaha}}\nregions:")  # fmt: skip
        load_layout(text)
        bare = "\n".join(line for line in text.splitlines() if "stream.frames" not in line) + "\n"
        self.assertIn("a field must mean stream.frames", problem_of(self, load_layout, bare).what)

    def test_circles_units_and_keys_that_stand_in_the_wrong_place(self):
        base = self.text("stream", "{name: own, type: u32, means: stream.channels}")
        for old, new, words in (
            ("name: own, type: u32, means: stream.channels", 'name: own, type: u32, means: stream.channels, base: "own"', "worked out from itself"),
            ("means: stream.at}", "means: stream.at, base: stream.stored}", None),
            ("means: stream.at}", "means: stream.at, unit: milliseconds}", "takes bytes or blocks or frames"),
            ("describes: bank", "describes: bank\nwhen: 1", 'belongs to a field or a region'),
            ("means: stream.at}", "means: stream.at, none: 4294967296}", "can't hold"),
        ):  # fmt: skip
            if words is None:
                load_layout(base.replace(old, new))
                both = base.replace(old, new).replace("means: stream.stored}", "means: stream.stored, base: stream.at}")
                error = problem_of(self, load_layout, both)
                self.assertRegex(error.what, r"are each worked out from the other \(see also line \d+\)")
                continue
            self.assertIn(words, problem_of(self, load_layout, base.replace(old, new)).what)

    def test_fields_before_and_behind_and_other_meanings_may_be_named(self):
        """A place counted from a field behind it, and a size from the place: read, moved, and read back."""
        fields = """      - {name: path, type: text, length: 2, means: entry.path}
      - {name: at, type: i32, means: entry.at, base: "late * 2"}
      - {name: late, type: u16}
      - {name: stored, type: i32, means: entry.stored, base: "entry.at // 2"}
"""
        layout = load_layout(HEAD.format(order="big") + fields)
        table = b"".join(struct.pack(">2sihi", b"e%d" % n, 8 + 4 * n - 14, 7, 4 - (8 + 4 * n) // 2) for n in range(3))
        data = struct.pack(">2sHI", b"MU", 3, 20) + b"oneatwobthre" + table
        archive = DescribedArchive(layout, source(data))
        self.assertEqual([bytes_of(archive.open(n)) for n in range(3)], [b"onea", b"twob", b"thre"])
        there = DescribedArchive(layout, source(bytes_of(archive.rebuild({0: source(b"longer than it")}).source)))
        self.assertEqual([bytes_of(there.open(n)) for n in range(3)], [b"longer than it", b"twob", b"thre"])
        self.assertEqual(bytes_of(there.rebuild({0: archive.open(0)}, anew=True).source), data)

    def test_milliseconds_and_blocks_are_units(self):
        text = self.text("stream", "{name: begins, type: u16, means: stream.loop_start, unit: milliseconds}").replace(
            "means: stream.frames}", "means: stream.frames, unit: blocks}").replace(
            "fields:\n      - {name: begins", "fields:\n      - {name: ends, type: u16, means: stream.loop_end, unit: milliseconds}\n      - {name: block, type: u16, means: stream.block_size}\n      - {name: begins").replace(
            "stream.codec: pcm16, stream.rate: 8000", "stream.codec: ima-adpcm, stream.rate: 22050")  # fmt: skip
        layout = load_layout(text)
        codec = codec_of(Format("ima-adpcm", 22050, 1, 0, None, 64))
        payload = codec.encode(noise(121 * 20), Format("ima-adpcm", 22050, 1, 121 * 20, None, 64))
        record = struct.pack("<HHHIII", 80, 64, 10, 22, len(payload), 20)
        data = b"MU" + struct.pack("<H", 1) + record + payload
        bank = DescribedBank(layout, source(data))
        format = bank.streams[0].format
        self.assertEqual((format.frames, format.loop.start, format.loop.end), (2420, 221, 1764))  # 220.5 up
        self.assertEqual(bytes_of(bank.rebuild({}, anew=True).source), data)
        wrong = NewStream(source(payload), format.with_(frames=2421))
        self.assertIn(
            "counts in blocks. The nearest are 2,420 or 2,541", problem_of(self, bank.rebuild, {0: wrong}).what
        )


class Told(SimpleTestCase):
    def test_a_place_that_a_unit_can_not_store_is_no_fault_of_the_replacement(self):
        fields = """      - {name: path, type: text, length: 2, means: entry.path}
      - {name: end, type: u32, means: entry.end, unit: 4}
      - {name: at, type: u32, means: entry.at}
"""
        layout = load_layout(HEAD.format(order="little") + fields)
        data = struct.pack("<2sHI", b"MU", 1, 12) + b"abcd" + struct.pack("<2sII", b"p1", 3, 8)
        error = problem_of(self, DescribedArchive(layout, source(data)).rebuild, {0: source(b"abcde")})
        self.assertIn("counts in steps of 4", error.what)
        self.assertIn("give `payload` an `align`", error.next)

    def test_a_place_with_a_unit_makes_its_own_grid(self):
        fields = """      - {name: path, type: text, length: 2, means: entry.path}
      - {name: at, type: u32, means: entry.at, unit: 16, base: -8}
      - {name: stored, type: u32, means: entry.stored}
"""
        layout = load_layout(HEAD.format(order="little") + fields)
        rows = struct.pack("<2sII", b"p1", 1, 4) + struct.pack("<2sII", b"p2", 2, 3)
        archive = DescribedArchive(
            layout, source(struct.pack("<2sHI", b"MU", 2, 27) + b"abcd" + bytes(12) + b"xyz" + rows)
        )
        there = DescribedArchive(layout, source(bytes_of(archive.rebuild({0: source(b"n" * 30)}).source)))
        self.assertEqual([e.at for e in there.entries], [8, 40])

    def test_grids_that_meet_far_away_are_found_at_once(self):
        """Units come from the file, so a hostile one must not make the search for a common place walk there step by step.
        Expected by Euclid's algorithm for 6 and 10; the far one is checked by division."""
        self.assertEqual(Grid(6, 5).joined(Grid(10, 1)), Grid(30, 11))
        self.assertIsNone(Grid(6, 5).joined(Grid(10, 2)))
        far = Grid(3, 1).joined(Grid(1 << 40, 5))
        self.assertEqual((far.step, far.rest % 3, far.rest % (1 << 40)), (3 << 40, 1, 5))

    def test_an_error_of_a_bank_names_its_layout(self):
        text = edited(small_bell(), 36, "<I", 7)
        self.assertIn(
            "saltglass-bell", problem_of(self, DescribedBank, layout_named("saltglass-bell"), source(text)).next
        )

    def test_check_opens_every_stream_and_tries_there_and_back(self):
        layout = layout_named("saltglass-bell")
        found = check(layout, source(small_bell()))
        self.assertEqual((found.decoded, found.items), (200 + 90 + 90 + 150, 4))
        self.assertGreater(found.tried, 5)
        # A payload that does not decode, and a loop that moves with its payload: both read, both rebuild unchanged.
        bad = edited(small_bell(), 48 + 12, "<I", (1 << 0) | (1 << 3) | (960 << 8) | (16 << 20))
        problem_of(self, check, layout, source(resummed_bell(bad)))
        shifted = """
zubret: 1
id: shifted
describes: bank
recognise: [{at: 0, bytes: "53 48"}]
given: {stream.codec: pcm16, stream.rate: 8000}
regions:
  - {name: head, at: 0, fields: [{name: mark, type: bytes, length: 2}, {name: count, type: u16}]}
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: at, type: u32, means: stream.at}
      - {name: stored, type: u32, means: stream.stored}
      - {name: start, type: u32, means: stream.loop_start, base: -64}
      - {name: end, type: u32, means: stream.loop_end, base: "64 - stream.at"}
"""
        rows = b"".join(struct.pack("<4I", 64 + 40 * n, 40, 64 + 2, 40 * n + 12) for n in range(3))
        data = b"SH" + struct.pack("<H", 3) + rows
        data = data.ljust(64, b"\0") + noise(60).astype("<i2").tobytes()
        self.assertTrue(check(load_layout(shifted), source(data)).ok)
        stuck = shifted + "  - {name: tail, at: head.count * 0 + 184, fields: [{name: end, type: u32}]}\n"
        self.assertIn(
            "no field of the layout says", problem_of(self, check, load_layout(stuck), source(data + b"tail")).what
        )
