"""The proof, attacked: one byte of a rebuilt file changed, records and payloads exchanged, files cut and lengthened. It must
turn red every time. And the ties that a layout lacks: the numbers that would go on saying old places are pointed out."""

import os
import random
import shutil
import struct
import tempfile
import zlib
from dataclasses import dataclass, field
from pathlib import Path

from django.test import SimpleTestCase

from standin.chart import KEYS, chart
from standin.formats import PCM, Sound, bell, crate, towed_bell
from tests.core.test_fuzz import disc, tar, zipped
from tests.examples import examples
from tests.support import bytes_of, demo_game, edited, noise, small_bell, small_crate, source
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.bank.trial import check
from zubret_core.base import Loop
from zubret_core.codec import codec_of
from zubret_core.container import DescribedArchive, GameFolder, NewEntry
from zubret_core.layout import load_layout, read_layout, shipped_layouts
from zubret_core.layout.loading.reuse import others_among, uses_others
from zubret_core.locate import Known, Locator, Spot
from zubret_core.rebuild import EntryFile, StreamSwap, plan_rebuild, write_plan
from zubret_core.rebuild.expected import expectation
from zubret_core.rebuild.prove import prove
from zubret_core.rebuild.suspects import suspects
from zubret_core.source import BytesSource

CHANGES = max(1500, int(os.environ.get("ZUBRET_FUZZ", "0")))


@dataclass
class Subject:
    """A game of few files, and what is changed in it: an entry by a file, or a stream."""

    files: dict[str, bytes]
    path: str
    layouts: list[str] = field(default_factory=list)
    keys: dict[str, bytes] = field(default_factory=dict)
    inside: tuple = ()
    ordinal: int = -1


def subjects() -> dict[str, Subject]:
    """Every shipped layout, every example of the language's page, every container."""
    index, volumes = chart("1.0", [("a.txt", b"text " * 90, 1), ("b.bin", noise(900).tobytes(), 2)])
    bank, tow = towed_bell("night", [Sound(1, noise(300, 2), 44100, block=64), Sound(2, noise(90), 24000, codec=PCM)])
    crate, sums = small_crate(), b"SUMS 1\n00000000 0000000000 small.crate\n"
    radio = bytes_of(Spot.place(GameFolder(demo_game()), "data/sea.crate › radio/radio.bell").source)
    out = {
        "an entry of a crate": Subject({"small.crate": crate, "sums.txt": sums}, "small.crate"),
        "a bank in a crate": Subject({"small.crate": crate}, "small.crate", inside=(("a/small.bell", 1),), ordinal=1),
        "a packed bank": Subject({"small.crate": crate}, "small.crate", inside=(("b/small.bell", 2),), ordinal=1),
        "a loose bank": Subject({"small.bell": small_bell()}, "small.bell", inside=(("small.bell", 0),), ordinal=1),
        "a bank and its tow": Subject({"night.bell": bank, "night.tow": tow}, "night.bell", inside=(("night.bell", 0),), ordinal=1),
        "a bank of packets": Subject({"radio.bell": radio}, "radio.bell", inside=(("radio.bell", 0),), ordinal=0),
        "a locked hold": Subject(
            {"hold.chart": index, **{f"hold.cargo{n:02}": v for n, v in enumerate(volumes)}}, "hold.chart", keys={"purser": KEYS["1.0"]}
        ),
        "zip": Subject({"x.zip": zipped(crate, "in.crate")}, "x.zip"),
        "a bank in a crate in a zip": Subject(
            {"x.zip": zipped(crate, "in.crate")}, "x.zip", inside=(("in.crate", 0), ("a/small.bell", 1)), ordinal=1
        ),
        "tar": Subject({"x.tar": tar("w")}, "x.tar"),
        "packed tar": Subject({"x.tar.gz": tar("w:gz")}, "x.tar.gz"),
        "disc image": Subject({"x.iso": disc()}, "x.iso"),
    }  # fmt: skip
    for example in examples():
        named = {n or "example.bin": d for n, d in example.files.items()}
        if "packed as a whole" in example.title:
            named = {"example.wrap": named["example.bin"]}
        path = next(iter(named))
        used = [e.layout for e in examples() if uses_others(example.layout) and "id: family" in e.layout]
        out[example.title] = Subject(named, path, [example.layout, *used], example.keys)
    return out


class Attacked(SimpleTestCase):
    """10,000 changes over all subjects."""

    def test_no_change_stays_green(self):
        made = subjects()
        each = CHANGES // len(made) + 1
        done, green = 0, []
        for name, subject in made.items():
            folder = Path(tempfile.mkdtemp(dir="/dev/shm" if Path("/dev/shm").is_dir() else None))
            self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
            out, expected = self.rebuilt(subject, folder)
            bad = [(p.label, p.expected, p.found) for p in prove(expected) if not p.ok]
            self.assertEqual(bad, [], name)
            good = {p: p.read_bytes() for p in out.rglob("*") if p.is_file()}
            for seed in range(each):
                rng = random.Random(f"{name} {seed}")
                place = rng.choice(sorted(good))
                while (data := self.spoilt(good[place], rng)) == good[place]:
                    pass  # two records that are alike were exchanged
                place.write_bytes(data)
                if all(p.ok for p in prove(expected)):
                    green.append((name, seed, place.name))
                place.write_bytes(good[place])
                done += 1
        self.assertEqual(green, [])
        self.assertGreaterEqual(done, CHANGES)

    def test_what_takes_long_in_a_packed_entry_is_told(self):
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder)
        sounds = [Sound(n, noise(frames), 24000, codec=PCM) for n, frames in ((1, 300), (2, 2 << 20))]
        data = crate("long", [("b/long.bell", bell("long", sounds), True)])
        subject = Subject({"long.crate": data}, "long.crate", inside=(("b/long.bell", 0),), ordinal=0)
        said: list[tuple[int, int, str]] = []
        prove(self.rebuilt(subject, folder)[1], lambda *words: said.append(words))
        self.assertEqual(sorted(done for done, _, _ in said), [done for done, _, _ in said])
        notes = "\n".join(note for _, _, note in said)
        self.assertRegex(notes, r"unpacking b/long\.bell, 52\.\d %")
        self.assertRegex(notes, r"checksum of b/long\.bell, 50\.\d %")

    def rebuilt(self, subject: Subject, folder: Path):
        """The output folder of a rebuild, and what its proof has to know."""
        game, out = folder / "game", folder / "out"
        game.mkdir()
        for name, data in subject.files.items():
            (game / name).write_bytes(data)
        texts = subject.layouts
        layouts = [*(load_layout(text, others=others_among(texts)) for text in texts), *shipped_layouts()]
        known = Known(layouts, lambda layout, path: subject.keys)
        swaps, files = [], []
        if subject.ordinal >= 0:
            swaps = [self.swap(subject, GameFolder(game), folder, known)]
        else:
            content = folder / "new.bin"
            content.write_bytes(b"what takes its place " * 2)
            entry = Spot.file(GameFolder(game), subject.path, known).archive.entries[0]
            files = [EntryFile(subject.path, entry.path, 0, content)]
        plans = plan_rebuild(GameFolder(game), swaps, known=known, files=files)
        write_plan(plans, out)
        keys = {p.path: {n: k.hex() for n, k in subject.keys.items()} for p in plans}
        return out, expectation(GameFolder(game), out, plans, texts, keys)

    def swap(self, subject: Subject, game: GameFolder, folder: Path, known: Known) -> StreamSwap:
        bank = Locator(subject.path, subject.inside, "", subject.ordinal).bank(game, known)
        stream = bank.streams[subject.ordinal]
        locator = Locator(subject.path, subject.inside, stream.id, subject.ordinal)
        payload = folder / "new.payload"
        if stream.format.codec == "vorbis":  # the payload of another stream, which the same header decodes
            other = next(s for s in bank.streams[1:] if s.format.codec == "vorbis")
            format, data = other.format, bytes_of(other.payload)
        else:
            format = stream.format.with_(frames=400, loop=Loop(0, 300))
            data = codec_of(format).encode(noise(400, format.channels, seed=9), format)
        payload.write_bytes(data)
        return StreamSwap(locator, payload, format, float("inf"))

    def spoilt(self, data: bytes, rng: random.Random) -> bytes:
        """A flipped bit, another byte, two spans exchanged, a file cut or lengthened."""
        kind, at = rng.randrange(12), rng.randrange(len(data))
        if kind < 5:
            return edited(data, at, "<B", data[at] ^ (1 << rng.randrange(8)))
        if kind < 8:
            return edited(data, at, "<B", rng.randrange(256))
        if kind < 10:  # records and payloads exchanged, where the spans are those
            size = rng.choice((1, 2, 4, 8, 16, 32, 76, len(data) // 5))
            other = rng.randrange(len(data))
            a, b = sorted((min(at, len(data) - size), min(other, len(data) - size)))
            if b - a < size:
                return data
            return data[:a] + data[b : b + size] + data[a + size : b] + data[a : a + size] + data[b + size :]
        if kind == 10:
            return data[:at]
        return data + rng.randbytes(rng.randrange(1, 40))


# Ties that are missing ----------------------------------------------------------------------------------

POOLED = """
zubret: 1
id: net-of-samples
describes: bank
recognise: [{at: 0, bytes: "4e 45 54 20"}]
given: {stream.codec: pcm16}
regions:
  - name: net
    at: 0
    fields:
      - {name: mark, type: bytes, length: 4}
      - {name: size, type: u32, means: file.size, base: 8}
  - name: pool
    after: net
    fields:
      - {name: mark, type: bytes, length: 4}
      - {name: size, type: u32, means: payload.end, base: "region.at + 8"}
  - name: knots
    at: "16 + pool.size"
    fields:
      - {name: mark, type: bytes, length: 4}
      - {name: size, type: u32}
  - name: table
    after: knots
    repeat: knots.size // 28
    sentinel: true
    fields:
      - {name: name, type: text, length: 8, means: stream.id}
      - {name: start, type: u32, means: stream.at, unit: 2, base: 16}
      - {name: end, type: u32, means: stream.end, unit: 2, base: 16}
      - {name: loop_a, type: u32, means: stream.loop_start, base: "-start"}
      - {name: loop_b, type: u32, means: stream.loop_end, base: "-start"}
      - {name: rate, type: u32, means: stream.rate}
payload: {behind: {frames: 46}}
end: {align: 1}
"""


def pooled(lengths: list[int]) -> tuple[bytes, list[tuple[int, int]]]:
    """A file of nested chunks for POOLED, by struct alone: samples one behind the other, 46 zero frames behind each, and
    records whose loop points are positions in the whole pool. The last record ends the table and says nothing."""
    pool, records, loops = b"", b"", []
    for n, frames in enumerate(lengths):
        start = len(pool) // 2
        loop = frames // 4, frames // 4 * 3
        loops.append(loop)
        pool += noise(frames, seed=n).astype("<i2").tobytes() + bytes(92)
        records += struct.pack("<8s5I", b"s%03d" % n, start, start + frames, start + loop[0], start + loop[1], 22050)
    records += struct.pack("<8s5I", b"end", 0, 0, 0, 0, 0)
    body = b"POOL" + struct.pack("<I", len(pool)) + pool + b"KNOT" + struct.pack("<I", len(records)) + records
    return b"NET " + struct.pack("<I", len(body)) + body, loops


class MissingTies(SimpleTestCase):
    LENGTHS = [200 + 37 * n for n in range(24)]

    def layout(self, text: str = POOLED):
        return load_layout(text)

    def grown(self, layout, data: bytes):
        """The bank, and the bank with its third sample longer."""
        bank = DescribedBank(layout, source(data, "x.net"))
        format = bank.streams[2].format.with_(frames=1000, loop=Loop(10, 900))
        new = NewStream(BytesSource(noise(1000, seed=99).astype("<i2").tobytes()), format)
        return bank, bank.rebuild({2: new})

    def test_loops_that_count_from_a_common_pool(self):
        """The longer sample moves all that follow; every loop stays where it was in its sample, guards stay behind each, and
        the way back gives the first file."""
        data, loops = pooled(self.LENGTHS)
        layout = self.layout()
        bank, built = self.grown(layout, data)
        self.assertEqual([(s.format.loop.start, s.format.loop.end) for s in bank.streams], loops)
        there = bytes_of(built.source)
        count, table = len(self.LENGTHS), len(there) - 28 * (len(self.LENGTHS) + 1)
        for n in range(count):  # a plain reader: struct alone
            _, start, end, a, b, _ = struct.unpack_from("<8s5I", there, table + 28 * n)
            self.assertEqual((a - start, b - start), (10, 900) if n == 2 else loops[n], n)
            self.assertEqual(end - start, 1000 if n == 2 else self.LENGTHS[n])
            self.assertEqual(there[16 + 2 * end : 16 + 2 * end + 92], bytes(92))
            old = bytes_of(bank.streams[n].payload)
            self.assertEqual(there[16 + 2 * start : 16 + 2 * end] == old, n != 2)
        again = DescribedBank(layout, source(there, "x.net"))
        first = NewStream(bank.streams[2].payload, bank.streams[2].format)
        self.assertEqual(bytes_of(again.rebuild({2: first}, anew=True).source), data)
        self.assertTrue(check(layout, source(data, "x.net")).ok)
        new = read_layout(layout, source(there, "x.net"))
        self.assertEqual(suspects(bank.document, new), [])

    def test_what_is_added_to_a_table_in_order_is_pointed_out(self):
        """A game may search such a table by halves, which finds nothing that stands out of order."""
        layout = load_layout(
            'zubret: 1\nid: sorted\ndescribes: archive\nrecognise: [{at: 0, bytes: "53"}]\nregions:\n'
            "  - {name: head, at: 0, fields: [{name: mark, type: u8}, {name: count, type: u8, means: entries.count}]}\n"
            "  - name: table\n    after: head\n    repeat: head.count\n    fields:\n"
            "      - {name: id, type: u32, means: entry.id, hash: {by: crc32}}\n"
            "      - {name: at, type: u32, means: entry.at}\n      - {name: stored, type: u32, means: entry.stored}\n"
        )
        for order, told in ((1, 1), (-1, 1), (0, 0)):
            ids = sorted((zlib.crc32(b"%d" % n) for n in range(9)), reverse=order < 0)
            ids[3], ids[4] = (ids[3], ids[4]) if order else (ids[4], ids[3])
            table = b"".join(struct.pack("<III", id, 2 + 12 * 9 + n, 1) for n, id in enumerate(ids))
            archive = DescribedArchive(layout, source(b"S\x09" + table + b"saltyfoam"))
            built = archive.rebuild({}, added=[NewEntry("middle", source(b"new"))])
            found = suspects(archive.document, read_layout(layout, source(bytes_of(built.source))))
            self.assertEqual([(s.place, s.line) for s in found], [("table.id", "")] * told)

    def test_the_same_loops_untied_are_pointed_out(self):
        data, _ = pooled(self.LENGTHS)
        bare = POOLED.replace(', means: stream.loop_start, base: "-start"', "").replace(
            ', means: stream.loop_end, base: "-start"', ""
        )
        layout = self.layout(bare)
        bank = DescribedBank(layout, source(data, "x.net"))
        built = bank.rebuild({2: NewStream(BytesSource(bytes(2000)), bank.streams[2].format.with_(frames=1000))})
        found = suspects(bank.document, read_layout(layout, source(bytes_of(built.source), "x.net")))
        self.assertEqual([s.place for s in found], ["table.loop_a", "table.loop_b"])
        self.assertIn("lies inside the stream's own bytes", found[0].evidence)
        self.assertIn('base: "-start"', found[0].line)

    def test_second_tables_sizes_in_headers_and_bytes_of_nobody(self):
        """An index that the layout leaves out, as a field, as a region, and as bytes behind the table; and junk that is none."""
        rng = random.Random(4)
        payloads = [rng.randbytes(rng.randrange(300, 900)) for _ in range(20)]
        places = [2000 + sum(map(len, payloads[:n])) for n in range(20)]
        table = b"".join(
            struct.pack(
                "<4sIIIII",
                b"e%02d" % n,
                places[n],
                len(payloads[n]),
                places[n] + len(payloads[n]),
                rng.randrange(1 << 16),
                n,
            )
            for n in range(20)
        )
        second = b"".join(struct.pack(">I", p) for p in places)
        size = places[-1] + len(payloads[-1])
        head = struct.pack("<4sII", b"TWIN", 20, size)
        body = head + table
        data = body + second + b"JUNK" + rng.randbytes(2000 - len(body) - len(second) - 5) + b"!" + b"".join(payloads)
        text = """zubret: 1
id: twins
describes: archive
recognise: [{at: 0, bytes: "54 57 49 4e"}]
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 4}, {name: count, type: u32, means: entries.count}, {name: whole, type: u32}]
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: path, type: text, length: 4, means: entry.path}
      - {name: at, type: u32, means: entry.at}
      - {name: stored, type: u32, means: entry.stored}
      - {name: other, type: u32}
      - {name: noise, type: u32}
      - {name: order, type: u32}
"""
        layout = load_layout(text)
        old = read_layout(layout, source(data, "x.twin"))
        archive = DescribedArchive(layout, source(data, "x.twin"))
        built = archive.rebuild({1: source(bytes(1500))})
        found = suspects(old, read_layout(layout, source(bytes_of(built.source), "x.twin")))
        self.assertEqual([s.place.split(",")[0] for s in found], ["table.other", "head.whole", "unexplained bytes"])
        self.assertIn("means: entry.end", found[0].line)
        self.assertIn("means: file.size", found[1].line)
        self.assertIn("19 of the 19 old places", found[2].evidence)
        same = archive.rebuild({1: source(payloads[1][::-1])})
        self.assertEqual(suspects(old, read_layout(layout, source(bytes_of(same.source), "x.twin"))), [])
