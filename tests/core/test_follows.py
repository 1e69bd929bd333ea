"""Tables that follow the sound: places to begin from, packet sizes, peaks, marks in time.

Against outside tools: the media library's readers of MP3 and Ogg files say where packets stand and how long they are; IMA blocks by
their arithmetic (Multimedia Data Standards Update 1994); peaks by plain code over libsndfile's samples.
"""

import io
import shutil
import struct
import tempfile
from pathlib import Path

import av
import numpy as np
import soundfile
from django.test import SimpleTestCase

from tests.core.test_frames import made, sweep
from tests.support import bytes_of, edited, noise, problem_of, source
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.bank.trial import check
from zubret_core.base import Format
from zubret_core.base.format import frozen
from zubret_core.codec import codec_of
from zubret_core.codec.units import Spacing, points_of
from zubret_core.container import GameFolder
from zubret_core.layout import load_layout
from zubret_core.locate import Known, Locator
from zubret_core.rebuild import StreamSwap, plan_rebuild, write_plan
from zubret_core.rebuild.expected import expectation
from zubret_core.rebuild.prove import prove
from zubret_core.source import BytesSource

LAYOUT = """
zubret: 1
id: jumps
describes: bank
recognise: [{at: 0, bytes: "4a 55 4d 50"}]
given: {stream.codec: ima-adpcm, stream.rate: 8000, stream.block_size: 36}
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 4}, {name: count, type: u32, means: streams.count}]
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: at, type: u32, means: stream.at}
      - {name: stored, type: u32, means: stream.stored}
      - {name: frames, type: u32, means: stream.frames}
      - {name: points, type: u16, means: jumps.count}
      - {name: moments, type: u16, means: marks.count}
      - {name: jump_at, type: u32, means: jumps.at}
      - {name: mark_at, type: u32, means: marks.at}
  - name: jumps
    each: table
    repeat: table.points
    follows: {every: 100}
    fields:
      - {name: frame, type: u32, means: point.frame}
      - {name: place, type: u32, means: point.at, base: -table.at}
      - {name: loudest, type: f32, means: point.peak, unit: 32768}
  - name: marks
    each: table
    repeat: table.moments
    follows: {}
    fields: [{name: frame, type: u32, means: point.frame}, {name: lips, type: u32}]
"""
ADPCM = Format("ima-adpcm", 8000, 1, 0, None, 36)


def peaks(payload: bytes, frames: int) -> list[int]:
    """The loudest sample of each 100 frames, by plain code."""
    format = ADPCM.with_(frames=frames)
    pcm = codec_of(format).decode(source(payload), format, 0, frames)[:, 0].tolist()
    return [max(map(abs, pcm[at : at + 100])) for at in range(0, frames, 100)]


def bank(lengths: list[int], marks: dict[int, list[int]]) -> bytes:
    """A bank of that layout by struct alone: 36 bytes hold 65 frames of IMA ADPCM."""
    payloads = [bytes(codec_of(ADPCM).encode(noise(n), ADPCM.with_(frames=n))) for n in lengths]
    tables = [(-(-n // 100), marks.get(k, [])) for k, n in enumerate(lengths)]
    begin = 8 + 24 * len(lengths)
    at = begin + sum(12 * points + 8 * len(m) for points, m in tables)
    records, behind, place = b"", b"", begin
    for (points, m), payload, n in zip(tables, payloads, lengths, strict=True):
        records += struct.pack("<IIIHHII", at, len(payload), n, points, len(m), place, place + 12 * points)
        for k, loud in enumerate(peaks(payload, n)):
            behind += struct.pack("<IIf", 100 * k // 65 * 65, at + 100 * k // 65 * 36, loud / 32768)
        behind += b"".join(struct.pack("<II", f, 7) for f in m)
        place, at = begin + len(behind), at + len(payload)
    return b"JUMP" + struct.pack("<I", len(lengths)) + records + behind + b"".join(payloads)


def shorter(n: int) -> NewStream:
    """A new sound of so many frames, quieter than the old ones."""
    format = ADPCM.with_(frames=n)
    return NewStream(BytesSource(bytes(codec_of(ADPCM).encode(noise(n) // 4, format))), format)


class Banks(SimpleTestCase):
    """Read, changed, changed back, proved, and attacked."""

    LENGTHS, MARKS = [650, 40, 1000], {0: [10, 300, 649], 2: [999]}

    def setUp(self):
        self.layout, self.data = load_layout(LAYOUT), bank(self.LENGTHS, self.MARKS)

    def test_longer_shorter_and_back(self):
        """All tables of a rebuilt bank are what plain code makes of its payloads; the way back gives the first file."""
        self.assertTrue(check(self.layout, source(self.data)).ok)
        for n, frames in ((0, 2000), (0, 30), (1, 5000), (2, 1000)):
            old = DescribedBank(self.layout, source(self.data, "x"))
            lengths = [frames if k == n else length for k, length in enumerate(self.LENGTHS)]
            there = bytes_of(old.rebuild({n: shorter(frames)}).source)
            new = DescribedBank(self.layout, source(there, "x"))
            for k, stream in enumerate(new.streams):
                table = struct.unpack_from("<IIIHHII", there, 8 + 24 * k)
                points = [struct.unpack_from("<IIf", there, table[5] + 12 * p) for p in range(table[3])]
                wanted = [(100 * p // 65 * 65, table[0] + 100 * p // 65 * 36) for p in range(-(-lengths[k] // 100))]
                self.assertEqual([p[:2] for p in points], wanted, (n, frames, k))
                loud = peaks(there[table[0] : table[0] + table[1]], lengths[k])
                self.assertEqual([round(p[2] * 32768) for p in points], loud)
                marks = [struct.unpack_from("<II", there, table[6] + 8 * p) for p in range(table[4])]
                self.assertEqual(marks, [(f, 7) for f in self.MARKS.get(k, [])])
                self.assertEqual(stream.format.frames, lengths[k])
            back = NewStream(old.streams[n].payload, old.streams[n].format)
            self.assertEqual(bytes_of(new.rebuild({n: back}, anew=True).source), self.data)

    def test_a_table_of_no_records_grows(self):
        """Of measured records, too: sizes of packets as numbers of no fixed length."""
        text = LAYOUT.replace("follows: {every: 100}", "follows: {every: 4, first: 1, unit: packets}").replace(
            "- {name: frame, type: u32, means: point.frame}\n      - {name: place, type: u32, means: point.at, base: -table.at}"
            "\n      - {name: loudest, type: f32, means: point.peak, unit: 32768}",
            "- {name: place, type: varint, means: point.at}",
        )
        layout, payloads = load_layout(text), [shorter(n).payload for n in (60, 200)]
        at, records = 8 + 48, b""
        for n, payload in zip((60, 200), payloads, strict=True):
            records += struct.pack("<IIIHHII", at, payload.size, n, 0, 0, 56, 56)
            at += payload.size
        data = b"JUMP" + struct.pack("<I", 2) + records + b"".join(map(bytes_of, payloads))
        old = DescribedBank(layout, source(data, "x"))
        there = bytes_of(old.rebuild({1: shorter(65 * 13)}).source)
        table = struct.unpack_from("<IIIHHII", there, 8 + 24)
        self.assertEqual(there[table[5] :][:6].hex(" "), "90 01 a0 02 b0 03")  # 144, 288 and 432 in LEB128
        self.assertEqual(table[3], 3)
        back = NewStream(old.streams[1].payload, old.streams[1].format)
        new = DescribedBank(layout, source(there, "x"))
        self.assertEqual(bytes_of(new.rebuild({1: back}, anew=True).source), data)

    def test_in_a_game_the_tables_are_proved_and_what_does_not_fit_is_named(self):
        root = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, root)
        lying = bytearray(self.data)
        lying[struct.unpack_from("<I", self.data, 8 + 16)[0]] = 1  # the first jump of the first stream
        for name, data in (("a.jump", self.data), ("b.jump", bytes(lying))):
            (root / name).write_bytes(data)
        known, new = Known([self.layout]), shorter(500)
        (root / "new").write_bytes(bytes_of(new.payload))
        swaps = [
            StreamSwap(Locator(name, ((name, 0),), "", 0), root / "new", new.format, float("inf"))
            for name in ("a.jump", "b.jump")
        ]
        game, out = GameFolder(root), root / "out"
        plans = plan_rebuild(game, swaps, known=known)
        told = {p.path: [s.evidence for s in p.suspects] for p in plans}
        self.assertEqual([len(told["a.jump"]), len(told["b.jump"])], [1, 2], told)
        self.assertIn("3 marks in time stay where they were in the old sound; 1 of them", told["a.jump"][0])
        self.assertIn("its rule gives as point.frame 0 in record 0, where 1 stands", told["b.jump"][0])
        write_plan(plans, out)
        expected = expectation(game, out, plans, [LAYOUT], {})
        points = {p.label: p for p in prove(expected)}
        self.assertTrue(all(p.ok for p in points.values()))
        self.assertIn("a.jump: tables of untouched streams", points)
        there = (out / "a.jump").read_bytes()
        for n, label in ((0, "a.jump: table jumps 0"), (2, "a.jump: tables of untouched streams")):  # a table that lies
            place = struct.unpack_from("<I", there, 8 + 24 * n + 16)[0]
            (out / "a.jump").write_bytes(edited(there, place + 12, "<I", 5))
            wrong = [p.label for p in prove(expected) if not p.ok]
            self.assertIn(label, [w.rpartition("› ")[2] for w in wrong], points.keys())

    def test_what_can_not_be_followed_is_an_error(self):
        for change, what in (
            (("follows: {every: 100}", "align: 1"), "region jumps needs `follows`"),
            (("every: 100", "first: 1"), "Without `every`, the records of jumps are marks in time"),
            (
                ("each: table\n    repeat: table.moments", "at: 9\n    repeat: 0"),
                "so it stands for each record of a table of streams",
            ),
            (("    repeat: table.points\n", ""), "so it has records: `repeat` or `until`"),
        ):
            self.assertIn(what, problem_of(self, load_layout, LAYOUT.replace(*change)).what)
        layout = load_layout(
            LAYOUT.replace("stream.codec: ima-adpcm", "stream.codec: far").replace(
                "regions:", "codecs: {far: {codec: pcm, interleave: -1}}\nregions:", 1
            )
        )
        old = DescribedBank(layout, source(bank([10], {}), "x"))
        format = old.streams[0].format.with_(frames=4, channels=2)
        problem = problem_of(self, old.rebuild, {0: NewStream(BytesSource(bytes(16)), format)})
        self.assertIn("does not tell where its blocks or packets stand", problem.what)
        self.assertEqual(problem.field, "follows")


class Units(SimpleTestCase):
    """Where packets and frames stand, against readers of other files."""

    def test_mpeg_frames_against_a_reader_of_mp3(self):
        format, payload = made("3 96", 44100, 2)
        with av.open(io.BytesIO(payload), format="mp3") as file:
            read = [(p.pos, p.size) for p in file.demux() if p.size]
        found = points_of(Spacing(1, "packets"), {"at", "size", "frame", "frames"}, source(payload), format)
        self.assertEqual(list(zip(found["at"].tolist(), found["size"].tolist(), strict=True)), read)
        self.assertEqual(found["frame"].tolist(), [1152 * n for n in range(len(read))])
        some = points_of(Spacing(2500, "frames", 1, True), {"at", "frame"}, source(payload), format)
        self.assertEqual(some["frame"].tolist()[:3] + some["frame"].tolist()[-1:], [2304, 4608, 6912, format.frames])
        self.assertEqual(some["at"].tolist()[-1], len(payload))

    def test_packets_of_vorbis_and_opus_against_a_reader_of_ogg(self):
        for codec, rate in (("vorbis", 44100), ("opus", 48000), ("opus", 24000)):
            format = Format(codec, rate, 1, 60_000, parameters=(("headers", "stream"),))
            payload = source(bytes(codec_of(format).encode(sweep(60_000, rate), format)))
            file = bytes_of(codec_of(format).wrapped(payload, format))
            with av.open(io.BytesIO(file)) as ogg:
                packets = [p for p in ogg.demux() if p.size]
                given = [sum(f.samples for f in p.decode()) if codec == "vorbis" else p.duration for p in packets]
            found = points_of(Spacing(1, "packets", 0, True), {"size", "frame", "at"}, payload, format)
            self.assertEqual(found["size"].tolist()[: len(packets)], [p.size for p in packets], codec)
            times = 48000 // rate if codec == "opus" else 1
            begins = np.cumsum([packets[0].pts if codec == "opus" else 0, *given])[
                :-1
            ]  # a packet of Vorbis gives what was before it
            wanted = np.clip(begins // times, 0, 60_000)
            self.assertEqual(found["frame"].tolist()[: len(packets)], wanted.tolist(), (codec, rate))
            for at, packet in zip(found["at"].tolist(), packets, strict=False):
                self.assertEqual(payload.read(at + 2, packet.size), bytes(packet))

    def test_a_place_holds_the_moment_that_it_is_said_to_hold(self):
        """What begins at a place is put behind what another sound has in front of it: sound changes from that frame on, in all channels."""
        short = {"interleave": 48, "last_turn": "short", "last_align": 32}
        for codec, channels, block, how in (
            ("pcm16", 2, 0, {}), ("pcm", 2, 0, {"interleave": 64, "last_turn": "filled"}), ("pcm", 3, 96, {"interleave": "block"}),
            ("filter-adpcm", 2, 0, {}), ("filter-adpcm", 1, 0, {"interleave": 64}), ("filter-adpcm", 2, 0, {"interleave": 64}),
            ("filter-adpcm", 2, 0, short), ("xa-adpcm", 2, 0, {}), ("xa-adpcm", 1, 0, {"sector": 2336, "lead": 8}),
            ("ima-adpcm", 2, 72, {}), ("step-adpcm", 2, 0, {"header": "none", "group": 4}), ("ms-adpcm", 2, 70, {}),
            ("table-adpcm", 1, 0, {"bits": 3, "moves": (-1, -1, 1, 2)}), ("delta-pcm", 1, 0, {}), ("packed-pcm", 1, 0, {}),
        ):  # fmt: skip
            with self.subTest(codec, **how):
                format = Format(codec, 8000, channels, 900, None, block, parameters=frozen(how))
                sounds = [noise(900, channels, seed=seed) for seed in (1, 2)]
                one, other = (bytes(codec_of(format).encode(pcm, format)) for pcm in sounds)
                found = points_of(Spacing(1, "packets", 0, True), {"at", "frame", "size"}, source(one), format)
                places, frames = found["at"].tolist(), found["frame"].tolist()
                self.assertEqual((places[0], frames[0], places[-1], frames[-1]), (0, 0, len(one), 900))
                self.assertEqual(found["size"].tolist()[:-1], np.diff(places).tolist())
                before = codec_of(format).decode(source(one), format, 0, 900)
                for n in range(1, len(places) - 1, 7):
                    mixed = source(one[: places[n]] + other[places[n] :])
                    changed = codec_of(format).decode(mixed, format, 0, 900) != before
                    self.assertFalse(changed[: frames[n]].any())
                    some = changed[frames[n] : frames[n] + max(8, frames[n + 1] - frames[n])]
                    self.assertTrue(some.any(axis=0).all())

    def test_histories_against_the_decoded_sound(self):
        for codec, how, order in (
            ("filter-adpcm", {"interleave": 64, "order": "big"}, ">i2"),
            ("pcm", {"sample": "s24"}, "<i2"),
        ):
            format = Format(codec, 8000, 2, 900, parameters=frozen(how))
            payload = source(bytes(codec_of(format).encode(noise(900, 2), format)))
            pcm = codec_of(format).decode(payload, format, 0, 900)
            pcm = pcm if codec != "pcm" else np.clip(np.rint(pcm * 32768), -32768, 32767)
            found = points_of(Spacing(1, "packets", 0, True), {"history", "frame"}, payload, format)
            padded = np.concatenate([np.zeros((2, 2)), pcm])
            wanted = [padded[f : f + 2][::-1].T.astype(order).tobytes() for f in found["frame"].tolist()]
            self.assertEqual(found["history"].tolist(), wanted)

    def test_levels_against_samples_of_libsndfile(self):
        pcm = noise(100_000, 2)
        file = io.BytesIO()
        soundfile.write(file, pcm, 8000, "PCM_16", format="WAV")
        samples = soundfile.read(io.BytesIO(file.getvalue()), dtype="int16")[0]
        format = Format("pcm16", 8000, 2, len(pcm))
        found = points_of(Spacing(125, "milliseconds"), {"low", "high", "peak"}, source(pcm.tobytes()), format)
        rows = [samples[at : at + 1000].astype(int) for at in range(0, 100_000, 1000)]
        self.assertEqual(found["low"].tolist(), [int(r.min()) for r in rows])
        self.assertEqual(found["high"].tolist(), [int(r.max()) for r in rows])
        self.assertEqual(found["peak"].tolist(), [int(abs(r).max()) for r in rows])


class Lengths(SimpleTestCase):
    def test_packets_say_how_long_a_stream_is_where_nothing_else_does(self):
        text = """
zubret: 1
id: said
describes: stream
names: [.said]
codecs: {said: {codec: opus, framing: counted, headers: none}}
given: {stream.codec: said, stream.rate: 24000}
"""
        format = Format("opus", 24000, 1, 30_000)
        codec = codec_of(format)
        data = bytes(codec.encode(sweep(30_000, 24000), format))
        at, packets = 0, 0
        while at < len(data):  # packets of 20 ms behind two bytes of length each
            at, packets = at + 2 + int.from_bytes(data[at : at + 2], "little"), packets + 1
        layout = load_layout(text)
        bank = DescribedBank(layout, source(data, "x.said"))
        self.assertEqual(bank.streams[0].format.frames, (960 * packets - 312) // 2)
        self.assertTrue(check(layout, source(data, "x.said")).ok)
