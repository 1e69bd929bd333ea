"""The stand-in's cabin: a table that is locked by a key in its header, squeezed entries, oars with filters of their own, reeds without
what follows from elsewhere, and shouts that are bare MPEG audio. Described, surveyed, heard, swapped, rebuilt, proved, and played by the
stand-in's own decoders."""

import shutil
import tempfile
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase

from standin.cabin import as_shout, cabin, oars, opened, row, shout
from standin.player import Ferry, Refused
from standin.reeds import blow, reeds
from tests.core.test_swap import fitted
from tests.support import bytes_of, copy_of_demo, source, tone, wav_file
from zubret_core.audio import look_through
from zubret_core.bank.trial import check
from zubret_core.base import to_int16
from zubret_core.container import GameFolder
from zubret_core.layout import load_layout, shipped_layouts
from zubret_core.locate import Known, Locator, Spot, kind_of
from zubret_core.locate.survey import BankRecord, contents
from zubret_core.rebuild import StreamSwap, plan_rebuild, prove_in_new_process, write_plan
from zubret_core.rebuild.expected import expectation
from zubret_core.source import FileSource
from zubret_core.swap import Treatment, prepare

CABIN = """
zubret: 1
id: cabin
describes: archive
recognise: [{at: 0, bytes: "43 41 42 4e"}]
methods:
  plain: []
  squeezed:
    - {by: lzss, window: 2048, code: [{offset: 11}, {length: 5}], byte_order: big, bit_order: high, literal: 0}
regions:
  - name: head
    at: 0
    fields:
      - {name: mark, type: bytes, length: 4}
      - {name: version, type: u16, one_of: [1]}
      - {name: count, type: u16, means: entries.count}
      - {name: key, type: u32}
      - {name: sum, type: u32, sum: {by: crc32, of: table}}
      - {name: size, type: u32, means: file.size}
  - name: table
    after: head
    repeat: head.count
    size: head.count * 48
    packed: [{by: xor, number: head.key}]
    fields:
      - {name: path, type: text, length: 24, means: entry.path}
      - {name: at, type: u32, means: entry.at}
      - {name: stored, type: u32, means: entry.stored}
      - {name: size, type: u32, means: entry.size}
      - {name: how, type: u32, means: entry.method, values: {0: plain, 1: squeezed}}
      - {name: total, type: u32, sum: {by: crc32, of: unpacked}}
      - {name: purser, type: u32}
payload: {align: 16}
end: {align: 16}
"""
OARS = """
zubret: 1
id: oars
describes: bank
recognise: [{at: 0, bytes: "4f 41 52 53"}]
codecs:
  oar: {codec: filter-adpcm, frame: 8, unit: 2048, grows: true, nibbles: high, rounding: floor, order: big, pairs: 8,
    record: [filters, zero, head, history, loop_head, loop_history, zero]}
given: {stream.codec: oar}
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 4}, {name: count, type: u16, means: streams.count}]
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: id, type: u16, means: stream.id}
      - {name: rate, type: u16, means: stream.rate}
      - {name: at, type: u32, means: stream.at}
      - {name: stored, type: u32, means: stream.stored}
      - {name: frames, type: u32, means: stream.frames}
      - {name: start, type: u32, means: stream.loop_start}
      - {name: end, type: u32, means: stream.loop_end}
      - {name: setup, type: bytes, length: 48, means: stream.setup}
keeps: [rate, channels, codec]
"""
SHOUTS = """
zubret: 1
id: shouts
describes: stream
inside: [cabin]
paths: ["shouts/*"]
whole: true
given: {stream.codec: mpeg}
keeps: [rate, channels, codec]
"""
REEDS = """
zubret: 1
id: reeds
describes: bank
recognise: [{at: 0, bytes: "52 45 45 44"}]
codecs: {reed: {codec: vorbis, order: big, blocks: [512, 1024], trimmed: [type, windows]}}
given: {stream.codec: reed}
regions:
  - name: head
    at: 0
    fields:
      - {name: mark, type: bytes, length: 4}
      - {name: count, type: u16, means: streams.count}
      - {name: modes, type: bytes, length: 4}
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: id, type: u16, means: stream.id}
      - {name: channels, type: u16, means: stream.channels}
      - {name: rate, type: u32, means: stream.rate}
      - {name: at, type: u32, means: stream.at}
      - {name: stored, type: u32, means: stream.stored}
      - {name: frames, type: u32, means: stream.frames}
      - {name: maker, type: u32}
  - name: setup
    after: table
    fields: [{name: size, type: u32}, {name: header, type: bytes, length: size, means: bank.setup}]
payload: {align: 8}
keeps: [rate, channels, codec]
"""
TEXTS = [CABIN, OARS, SHOUTS, REEDS]


def wave(frames: int, rate: int, hz: float) -> np.ndarray:
    return to_int16(tone(frames / rate, rate, hz))[:frames]


def made() -> bytes:
    bank = oars(
        [(11, 22050, wave(2800, 22050, 300)[:, 0], (280, 2800)), (12, 16000, wave(1500, 16000, 500)[:, 0], None)]
    )
    entries = [("oars/crew.oars", bank, True), ("log.txt", b"wind and water, " * 40, True)]
    entries += [
        ("reeds/crew.reed", reeds([(n, 22050, wave(15_000 + 4000 * n, 22050, 240 + 40 * n)) for n in (5, 6)]), False)
    ]
    entries += [
        (f"shouts/{n:04}.dat", as_shout(wave(9000 + 1000 * n, 22050, 200 + 90 * n), 22050), n % 2 == 1)
        for n in range(3)
    ]
    return cabin(entries, 0x5EA51DE5)


class Cabin(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.data = made()
        cls.known = Known([*map(load_layout, TEXTS), *shipped_layouts()])
        cls.folder = Path(tempfile.mkdtemp())
        cls.addClassCleanup(shutil.rmtree, cls.folder)
        game = copy_of_demo(cls.folder / "game")
        (game / "data/cabin.lock").write_bytes(cls.data)
        cls.game = GameFolder(game)

    def test_what_is_read_is_what_the_game_plays(self):
        archive = Spot("data/cabin.lock", source(self.data, "data/cabin.lock"), None, self.known).archive
        self.assertEqual([e.method for e in archive.entries], ["squeezed"] * 2 + ["plain"] * 2 + ["squeezed", "plain"])
        self.assertTrue(check(load_layout(CABIN), source(self.data, "x")).ok)
        bank = bytes_of(archive.open(0))
        self.assertTrue(check(load_layout(OARS), source(bank, "x.oars")).ok)
        spot = Spot("x", source(self.data, "x"), None, self.known)
        for stream in spot.entry(0).bank.streams:
            pcm, rate, loop = row(bank, int(stream.id))
            self.assertEqual((stream.format.rate, bool(stream.format.loop)), (rate, bool(loop)))
            np.testing.assert_array_equal(stream.decode(0, stream.format.frames), pcm)
        reed = bytes_of(archive.open(2))
        self.assertTrue(check(load_layout(REEDS), source(reed, "x.reed")).ok)
        for stream in spot.entry(2).bank.streams:
            pcm, rate = blow(reed, int(stream.id))
            self.assertEqual((stream.format.rate, stream.format.frames), (rate, len(pcm)))
            self.assertLess(np.abs(to_int16(stream.decode(0, len(pcm))).astype(int) - pcm).max(), 3)
        stream = spot.entry(4).bank.streams[0]
        pcm, rate = shout(bytes_of(archive.open(4)))
        self.assertEqual((stream.format.rate, stream.format.frames), (rate, len(pcm)))
        self.assertLess(np.abs(to_int16(stream.decode(0, len(pcm))).astype(int) - pcm).max(), 3)
        self.assertIsNone(Spot.entry(spot, 1).opened)

    def test_all_of_it_is_swapped_rebuilt_proved_and_played(self):
        spot = Spot.file(self.game, "data/cabin.lock", self.known)
        found = [r for r in contents(spot, kind_of(spot.source, self.known)) if isinstance(r, BankRecord)]
        self.assertEqual([len(r.streams) for r in found if not r.error], [2, 2, 1, 1, 1])
        file = FileSource(wav_file(self.folder / "new.wav", tone(0.4, 44100, 700), 44100))
        self.addCleanup(file.close)
        info, swaps, cues = look_through(file), [], {}
        places = [
            ("oars/crew.oars", 0, "11", 0),
            ("oars/crew.oars", 0, "12", 1),
            ("reeds/crew.reed", 2, "6", 1),
            ("shouts/0001.dat", 4, "", 0),
            ("shouts/0002.dat", 5, "", 0),
        ]
        for n, (path, entry, id, ordinal) in enumerate(places):
            locator = Locator("data/cabin.lock", ((path, entry),), id, ordinal)
            stream = locator.stream(self.game, self.known)
            how, report = fitted(
                stream, info, Treatment(loop="points", loop_start=4410, loop_end=13_230) if n == 0 else Treatment()
            )
            result = prepare(stream, file, info, how, report)
            self.assertGreater(result.snr_db, 20)
            payload = self.folder / f"{n}.payload"
            payload.write_bytes(bytes_of(result.payload))
            swaps.append(StreamSwap(locator, payload, result.format, result.snr_db))
            cues[f"cabin/{path}" + (f":{id}" if id else "")] = result
        plans = plan_rebuild(self.game, swaps, known=self.known)
        out = self.folder / "out"
        write_plan(plans, out)
        points = prove_in_new_process(expectation(self.game, out, plans, TEXTS))
        self.assertEqual([p for p in points if not p.ok], [])
        self.assertTrue(any("byte" in p.label for p in points), [p.label for p in points])
        ferry = Ferry(self.game.folder, out)
        for cue, result in cues.items():
            pcm, rate, _ = ferry.play(cue, loops=1)
            format = result.format
            self.assertEqual((rate, len(pcm)), (format.rate, format.loop.end if format.loop else format.frames), cue)
            self.assertLess(np.abs(result.heard(0, len(pcm)).astype(int) - pcm).max(), 3, cue)
        first = opened(self.data)["shouts/0000.dat"]
        self.assertEqual(len(ferry.play("cabin/shouts/0000.dat")[0]), len(shout(first)[0]))
        broken = bytearray((out / "data/cabin.lock").read_bytes())
        broken[25] ^= 1
        (out / "data/cabin.lock").write_bytes(broken)
        self.assertRaises(Refused, Ferry(self.game.folder, out).play, "cabin/shouts/0000.dat")
        self.assertTrue([p for p in prove_in_new_process(expectation(self.game, out, plans, TEXTS)) if not p.ok])
