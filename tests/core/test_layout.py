"""The layout language: reading, writing, and what it refuses."""

import re
import struct
import zlib

from django.conf import settings
from django.test import SimpleTestCase

from tests.support import (
    bytes_of,
    demo_game,
    edited,
    noise,
    problem_of,
    resummed_bell,
    resummed_crate,
    small_bell,
    small_crate,
    source,
)
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.base import Loop, ZubretError
from zubret_core.codec import CODECS
from zubret_core.container import DescribedArchive
from zubret_core.layout import NewItem, layout_named, load_layout, read_layout, rebuild
from zubret_core.source import BytesSource

CRATE, BELL = layout_named("saltglass-crate"), layout_named("saltglass-bell")
TOLD = layout_named("saltglass-told-bell")


class Reading(SimpleTestCase):
    def test_an_archive_is_read_as_it_was_made(self):
        archive = DescribedArchive(CRATE, source(small_crate()))
        self.assertEqual([e.path for e in archive.entries], ["notes.txt", "a/small.bell", "b/small.bell", "odd.bin"])
        self.assertEqual([e.method for e in archive.entries], ["zlib", "plain", "zlib", "plain"])
        self.assertEqual(bytes_of(archive.open(0)), b"The night ferry. " * 40)
        self.assertEqual(bytes_of(archive.open(2)), small_bell())
        self.assertEqual(archive.head(2, 4), b"BELL")
        self.assertTrue(all(e.at % 2048 == 0 for e in archive.entries))
        for n in range(4):
            archive.check(n)

    def test_a_bank_is_read_as_it_was_made(self):
        bank = DescribedBank(BELL, source(small_bell()))
        first, second, third, fourth = bank.streams
        self.assertEqual((bank.language, bank.name), ("French", "small"))
        self.assertEqual((first.id, first.format.codec, first.format.rate), ("0001", "ima-adpcm", 48000))
        self.assertEqual((first.format.channels, first.format.block_size), (2, 64))
        self.assertEqual((first.format.frames, first.format.loop), (200, Loop(57, 180)))
        self.assertEqual((second.shares, third.shares, fourth.shares), ((2,), (1,), ()))
        self.assertTrue((second.decode(0, 90) == noise(90, 1, seed=2)).all())
        self.assertIsNone(fourth.format.loop)

    def test_text_that_does_not_decode_keeps_its_bytes(self):
        data = small_crate()
        table = struct.unpack_from("<I", data, 12)[0] * 2048
        odd = resummed_crate(data[:table] + b"\xff\xfe.txt\0junk" + data[table + 11 :])
        archive = DescribedArchive(CRATE, source(odd))
        self.assertEqual(archive.entries[0].path.encode("utf-8", "surrogateescape"), b"\xff\xfe.txt")
        self.assertEqual(bytes_of(archive.rebuild({}, anew=True).source), odd)

    def test_many_texts_are_cut_as_few_are(self):
        """Fixed texts of many records go through a kernel; what it gives is the same as text by text (Python's codecs)."""
        layout = """
zubret: 1
id: texts
describes: archive
byte_order: little
recognise: [{at: 0, bytes: "54 58"}]
regions:
  - {name: head, at: 0, fields: [{name: mark, type: bytes, length: 2}, {name: count, type: u16, means: entries.count}]}
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: text, type: text, length: 6, means: entry.path}
      - {name: at, type: u32, means: entry.at}
      - {name: stored, type: u32, means: entry.stored}
"""
        plain = [b"a%d" % n for n in range(40)] + [
            b"sixsix",
            "h\u00f6h".encode(),
            b"\xff\xfe.t",
            b"cut\0x",
            b"\xc3\0\xb6",
        ]
        for odd in ([], [b"\0gone"], [b"a\nb"], [b"a\tb\0\n"]):
            texts = plain + odd
            data = b"TX" + struct.pack("<H", len(texts)) + b"".join(struct.pack("<6sII", t, 4, 0) for t in texts)
            wanted = [t.split(b"\0")[0].decode("utf-8", "surrogateescape") for t in texts]
            archive = DescribedArchive(load_layout(layout), source(data))
            self.assertEqual([e.path for e in archive.entries], wanted)
            self.assertEqual(bytes_of(archive.rebuild({}, anew=True).source), data)


class Writing(SimpleTestCase):
    """A forced rebuild gives back the file; a swap and its reverse do too."""

    def test_forced_rebuild_of_small_files_is_identical(self):
        for layout, data in ((CRATE, small_crate()), (BELL, small_bell())):
            built = rebuild(read_layout(layout, source(data)), {}, anew=True)
            self.assertEqual(bytes_of(built.source), data, layout.id)
            self.assertEqual(sum(s.length for s in built.segments), len(data))

    def test_forced_rebuild_of_the_demo_is_identical_down_to_its_banks(self):
        data = (demo_game() / "data" / "sea.crate").read_bytes()
        archive = DescribedArchive(CRATE, source(data))
        changes = {}
        for n, entry in enumerate(archive.entries):
            if entry.path.endswith(".bell"):
                layout = TOLD if archive.head(n, 4) == b"BELV" else BELL
                changes[n] = DescribedBank(layout, archive.open(n)).rebuild({}, anew=True).source
        self.assertEqual(len(changes), 7)
        self.assertEqual(bytes_of(archive.rebuild(changes, anew=True).source), data)

    def test_every_tied_field_is_written_and_not_copied(self):
        """The meanings are taken from the good file, the bytes underneath are spoilt."""
        for layout, data in ((CRATE, small_crate()), (BELL, small_bell())):
            reading = read_layout(layout, source(data))
            for means in {s.tie.means for g in reading.groups for i in g.instances for s in i.shape.slots.values()}:
                reading.tied((means or "").split(".")[-1])
            for instance in reading.instances:
                records = instance.records
                records.data = records.data.copy()
                for slot in instance.shape.slots.values():
                    if slot.tie.means and slot.whole:
                        for row in range(records.count):
                            at, length = records.span(slot, row)
                            records.data[at : at + length] = 0
                records._numbers.clear()
            spoilt = bytes_of(rebuild(reading, {}, anew=True).source)
            again = read_layout(layout, source(spoilt))
            clean = read_layout(layout, source(data))
            for what in ("at", "stored", "size", "method", "codec", "rate", "channels", "frames", "block_size"):
                self.assertEqual(again.column(what), clean.column(what), what)

    def _swapped(self, data: bytes, ordinal: int, payload: bytes, frames: int, loop: Loop | None, anew=False):
        bank = DescribedBank(BELL, source(data))
        format = bank.streams[ordinal].format.with_(frames=frames, loop=loop)
        return bank.rebuild({ordinal: NewStream(BytesSource(payload), format)}, anew=anew)

    def test_swapping_there_and_back_gives_the_first_file(self):
        data = small_bell()
        old = DescribedBank(BELL, source(data)).streams[0]
        for frames in (57, 170, 900):
            format = old.format.with_(frames=frames, loop=None)
            payload = CODECS["ima-adpcm"].encode(noise(frames, 2, seed=8), format)
            there = self._swapped(data, 0, payload, frames, None)
            self.assertEqual(there.in_place, frames < 900)
            self.assertNotEqual(bytes_of(there.source), data)
            # What became longer is laid out afresh on the way back; what fits stays in its slot.
            anew = not there.in_place
            back = self._swapped(bytes_of(there.source), 0, bytes_of(old.payload), 200, Loop(57, 180), anew)
            self.assertEqual(bytes_of(back.source), data)

    def test_a_longer_payload_moves_what_follows_and_only_that(self):
        data = small_crate()
        archive = DescribedArchive(CRATE, source(data))
        new = source(b"x" * 9000)
        built = archive.rebuild({1: new})
        again = DescribedArchive(CRATE, source(bytes_of(built.source)))
        self.assertEqual((built.in_place, built.moved), (False, 2))
        self.assertEqual([e.path for e in again.entries], [e.path for e in archive.entries])
        self.assertEqual(again.entries[0], archive.entries[0])
        self.assertEqual(bytes_of(again.open(1)), b"x" * 9000)
        for n in (0, 2, 3):
            self.assertEqual(bytes_of(again.open(n)), bytes_of(archive.open(n)))
        for n in range(4):
            again.check(n)
        self.assertEqual(sum(s.kind == "new" for s in built.segments), 1)

    def test_a_shared_payload_changes_for_all_its_records(self):
        payload = noise(40, 1, seed=5).astype("<i2").tobytes()
        built = self._swapped(small_bell(), 1, payload, 40, None)
        bank = DescribedBank(BELL, source(bytes_of(built.source)))
        self.assertEqual([s.format.frames for s in bank.streams], [200, 40, 40, 150])
        self.assertEqual(bank.streams[1].at, bank.streams[2].at)

    def test_bytes_that_nothing_explains_are_carried_over(self):
        data = bytearray(small_crate())
        data[2048 - 20 : 2048 - 4] = b"a secret message"  # in the gap behind the header
        archive = DescribedArchive(CRATE, source(bytes(data)))
        self.assertEqual(bytes_of(archive.rebuild({}, anew=True).source), bytes(data))
        self.assertIn("unexplained", {s.kind for s in archive.segments()})
        moved = bytes_of(archive.rebuild({0: source(noise(9000).tobytes())}).source)
        self.assertIn(b"a secret message", moved)

    def test_what_a_field_can_not_hold_is_an_error_and_never_a_wrap(self):
        reading = read_layout(BELL, source(small_bell()))
        cases = {"rate": 48001, "channels": 9, "block_size": 4 << 12, "frames": 1 << 32, "codec": "mp3"}
        for what, value in cases.items():
            error = problem_of(self, rebuild, reading, {0: NewItem(source(b"x" * 64), {what: value})})
            name = {"block_size": "block"}.get(what, what)
            self.assertIn(f"records.{name} of record 0", error.where, what)


class Damaged(SimpleTestCase):
    """Every damage gives an error with what, where and next, and nothing else."""

    def _edges(self, layout, data: bytes) -> set[int]:
        """Every field's boundary and one byte to either side, and places inside payloads."""
        reading = read_layout(layout, source(data))
        edges: set[int] = set()
        for instance in reading.instances:
            for row in range(instance.records.count):
                edges |= {instance.records.place_of(slot, row) for slot in instance.shape.fields}
            edges.add(instance.at + instance.stored)
        at, stored, _ = reading.spans()
        for a, n in zip(at.tolist(), stored.tolist(), strict=True):
            edges |= {a, a + n // 2, a + n}
        return {n for e in edges for n in (e - 1, e, e + 1) if 0 <= n < len(data)}

    def test_cut_short_at_every_field_and_inside_payloads(self):
        for layout, opened, data in (
            (CRATE, DescribedArchive, small_crate()),
            (BELL, DescribedBank, small_bell()),
        ):
            edges = self._edges(layout, data)
            self.assertGreater(len(edges), 100)
            for size in sorted(edges):
                error = problem_of(self, opened, layout, source(data[:size]))
                self.assertIn("test.bin", error.where, f"{layout.id} cut to {size}")

    def test_each_lie_is_named_with_its_place(self):
        data, bank = small_crate(), small_bell()
        table = struct.unpack_from("<I", data, 12)[0] * 2048
        second = table + 76
        cases = [
            (CRATE, edited(data, 0, "<I", 0), "mark", "byte 0"),
            (CRATE, edited(data, 4, "<H", 9), "was expected", "head.version"),
            (CRATE, edited(data, 8, "<I", 1 << 30), "promises 1,073,741,824 records", "table"),
            (CRATE, edited(data, 12, "<I", 1 << 30), "outside the file", "table"),
            (CRATE, edited(data, table, "<B", 65), "checksum of region table", "table"),
            (CRATE, resummed_crate(edited(data, second + 56, "<I", 1 << 20)), "leaves the file", "table.sector"),
            (CRATE, resummed_crate(edited(data, second + 56, "<I", 0)), "covers region head", "table.sector"),
            (CRATE, resummed_crate(edited(data, second + 60, "<I", 2049)), "begins inside", "table.sector"),
            (CRATE, resummed_crate(edited(data, second + 68, "<H", 7)), "has no meaning", "table.method"),
            (BELL, resummed_bell(edited(bank, 48 + 12, "<I", 5)), "has no meaning", "records.codec"),
            (BELL, edited(bank, 36, "<I", 7), "not aligned", "records.place"),
            (BELL, edited(bank, 40, "<I", 99), "should have 99 bytes", "head"),
        ]
        for layout, bad, what, where in cases:
            opened = DescribedArchive if layout is CRATE else DescribedBank
            error = problem_of(self, opened, layout, source(bad))
            self.assertIn(what, error.what)
            self.assertIn(where, error.where)

    def test_loops_and_rates_that_no_stream_can_have(self):
        bank = small_bell()
        for at, form, value, word in (
            (48 + 20, "<I", 190, "loop 190 to 180"),
            (48 + 24, "<I", 201, "outside the stream's 200 frames"),
            (48 + 13, "<B", 0, "sample rate of"),
        ):
            bad = edited(bank, at, form, value)
            if at == 48 + 13:
                bad = edited(bad, 48 + 14, "<B", bad[48 + 14] & 0xF0)
            error = problem_of(self, DescribedBank, BELL, source(resummed_bell(bad)))
            self.assertIn(word, error.what)

    def test_a_packed_entry_that_lies_about_its_size(self):
        data = small_crate()
        table = struct.unpack_from("<I", data, 12)[0] * 2048
        for size, word in ((100, "more than the 100 bytes"), (9999, "its table gives 9,999")):
            bad = DescribedArchive(CRATE, source(resummed_crate(edited(data, table + 64, "<I", size))))
            self.assertIn(word, problem_of(self, lambda b=bad: bytes_of(b.open(0))).what)
        spoilt = bytearray(data)
        spoilt[2048 + 30] ^= 0xFF
        archive = DescribedArchive(CRATE, source(bytes(spoilt)))
        self.assertIn("notes.txt", problem_of(self, archive.check, 0).where)


class Language(SimpleTestCase):
    """What a layout may say, and the line of what it may not."""

    def test_what_can_not_be_used_is_told_with_its_line(self):
        texts = {
            "base": "zubret: 1\nid: base\nparameters: {a: 4}\ndescribes: archive\nwhole: true\nregions: [{name: t, at: 0, repeat: 1, "
            "fields: [{name: p, type: text, length: $a, means: entry.path}, {name: x, type: u8, means: entry.at}, "
            "{name: n, type: u8, means: entry.stored}]}]",
            "ring": "zubret: 1\nid: ring\nuse: ring",
            "lost": "zubret: 1\nid: lost\nuse: nowhere",
        }
        good = "zubret: 1\nid: own\nuse: base\nset: {a: 9}\nregions:\n  - {use: base.t, name: more, repeat: 2}"
        layout = load_layout(good, "own", texts.get)
        lengths = [r.fields[0].length for r in layout.regions]
        self.assertEqual(
            ([r.name for r in layout.regions], lengths, layout.regions[1].repeat), (["t", "more"], [9, 9], 2)
        )
        for text, line, word in (
            (good.replace("use: base\n", "use: bass\n"), 3, '"bass"'), (good.replace("{a: 9}", "{b: 9}"), 4, "no parameter"),
            (good + "\nwithout: [u]", 7, '"u"'), (good.replace("base.t", "base.u"), 6, "layout.region"),
            ("zubret: 1\nid: o\nuse: ring", 3, "used by itself"), ("zubret: 1\nid: o\nuse: lost", 3, '"nowhere"'),
            ("zubret: 1\nid: o\nset: {a: 1}", 3, "`use`"), (good.replace("{a: 9}", "{a: wide}"), 3, "length"),
            (good.replace("repeat: 2", "repeat: $b"), 6, "no parameter; there are a"),
        ):  # fmt: skip
            problem = problem_of(self, load_layout, text, "own", texts.get)
            self.assertIn(word, problem.what)
            self.assertIn(f"line {line}", problem.where)

    def test_faults_name_their_line_and_suggest(self):
        text = (settings.ROOT / "zubret_core/layout/shipped/saltglass-bell.yaml").read_text("utf-8")
        cases = [
            ("repeat: head.count", "repeat: head.cuont", 'Did you mean "head.count"?'),
            ("payload: {align: 32", "payload: {algn: 32", 'Did you mean "align"?'),
            ("type: u8, one_of", "type: u9, one_of", "Input should be"),
            ("means: stream.rate", "means: stream.rat", '"stream.rat" is not a meaning'),
            ("bits: 12, means: stream.block_size", "bits: 33, means: stream.block_size", "more bits than u32"),
            ("{name: stored, type: u32", "{name: place, type: u32", '"place" stands twice'),
            ("repeat: head.count", "repeat: head.count ** 9", "plain arithmetic"),
            ("repeat: head.count", "repeat: __import__('os')", "plain arithmetic"),
            ("describes: bank", "describes: bank\ndescribes: archive", "stands twice"),
            ("regions:", "regions: [", "not YAML"),
            ('bytes: "42 45 4c 4c"', 'bytes: "4 2x"', "not a row of hexadecimal byte pairs"),
            (
                "values: {0: pcm16, 1: ima-adpcm, 2: g711-mu, 3: lanes, 4: tide}",
                "values: {0: pcm16, 1: pcm16}",
                "could not choose",
            ),
            ("length: 24, means: bank.name", "means: bank.name", "needs one of length"),
        ]
        for old, new, word in cases:
            self.assertIn(old, text)
            with self.assertRaises(ZubretError) as caught:
                load_layout(text.replace(old, new, 1), "mine.yaml")
            self.assertIn(word, caught.exception.what)
            line = int(re.search(r"line (\d+)", caught.exception.where)[1])
            wanted = text[: text.index(old)].count("\n") + 1
            self.assertLessEqual(abs(line - wanted), 40 if line < 15 else 9, f"{new}: line {line}, not {wanted}")

        for odd in (
            "hello",
            "5",
            "[1]",
            "~",
            "a: \x07",
            "zubret: " + "9" * 5000,
            "zubret: 0x" + "f" * 5000,
            "x" * 200_000,
        ):
            self.assertIn("line 1", problem_of(self, load_layout, odd).where)

    def test_ids_with_leading_zeros_stay_text(self):
        text = (settings.ROOT / "zubret_core/layout/shipped/saltglass-bell.yaml").read_text("utf-8")
        layout = load_layout(text.replace("title: Saltglass Ferry bell", "title: 0246"))
        self.assertEqual(layout.title, "0246")

    def test_big_endian_signed_and_unit_in_an_expression(self):
        """A format of the test's own: big-endian, the unit itself stored in the header."""
        text = """
zubret: 1
id: test-big
describes: archive
byte_order: big
recognise: [{at: 0, bytes: "54 42"}]
regions:
  - name: head
    at: 0
    fields:
      - {name: mark, type: bytes, length: 2}
      - {name: shift, type: u8}
      - {name: offset, type: i8}
      - {name: count, type: u16, means: entries.count}
  - name: table
    at: 6
    repeat: head.count
    fields:
      - {name: where, type: u16, means: entry.at, unit: 1 << head.shift, base: head.offset * 2}
      - {name: path, type: text, length: 6, encoding: utf-16-be, means: entry.path}
      - {name: stored, type: u32, means: entry.stored}
payload: {align: 1, fill: "2a"}
"""
        body = b"first" + b"second!"
        head = struct.pack(">2sBbH", b"TB", 2, -4, 2)
        # where * 4 - 8: the table ends at 6 + 2 * 12 = 30; payloads at 32 and 40
        records = struct.pack(">H6sI", 10, "uno".encode("utf-16-be"), 5)
        records += struct.pack(">H6sI", 12, "due".encode("utf-16-be"), 7)
        data = head + records + b"**" + body[:5] + b"***" + body[5:]
        archive = DescribedArchive(load_layout(text), source(data))
        self.assertEqual([(e.path, e.at, e.stored) for e in archive.entries], [("uno", 32, 5), ("due", 40, 7)])
        self.assertEqual(bytes_of(archive.rebuild({}, anew=True).source), data)
        swapped = archive.rebuild({0: source(b"ONE")})
        self.assertTrue(swapped.in_place)
        self.assertEqual(bytes_of(swapped.source)[32:40], b"ONE*****")

    def test_crc32_is_the_catalogue_one(self):
        """Check value of CRC-32/ISO-HDLC over "123456789": cbf43926 (ITU-T V.42; also RFC 1952's sum)."""
        from zubret_core.source import crc32_of

        self.assertEqual(crc32_of(source(b"123456789")), 0xCBF43926)
        self.assertEqual(zlib.crc32(b"123456789"), 0xCBF43926)
