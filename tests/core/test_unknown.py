"""Unknown audio: the right reading stands first, and becomes a layout that gives the file back."""

import time

import numpy as np
import soundfile
import soxr
from django.test import SimpleTestCase

from tests.core.test_containers import OPEN_SOUNDS
from tests.support import bytes_of, demo_game, noise, problem_of, source, tone
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.base import Format, to_int16
from zubret_core.base.format import frozen
from zubret_core.codec import codec_of
from zubret_core.container import GameFolder
from zubret_core.layout import load_layout, shipped_layouts
from zubret_core.locate import Known, Spot, open_bank
from zubret_core.locate.draft_texts import draft
from zubret_core.locate.tables import find_table
from zubret_core.locate.unknown import MOVES, Candidate, likely_start, rank
from zubret_core.source import FileSource


class Ranking(SimpleTestCase):
    KINDS = (
        Format("pcm", 48000, 1, 0),
        Format("pcm", 48000, 1, 0, parameters=frozen({"order": "big"})),
        Format("pcm", 48000, 1, 0, parameters=frozen({"sample": "u8"})),
        Format("pcm", 48000, 1, 0, parameters=frozen({"sample": "mu-law"})),
        Format("pcm", 48000, 1, 0, parameters=frozen({"sample": "f32", "order": "big"})),
        Format("packed-pcm", 48000, 1, 0, parameters=frozen({"bits": 12, "nibbles": "low"})),
        Format("packed-pcm", 48000, 1, 0, parameters=frozen({"bits": 12, "nibbles": "high"})),
        Format("ima-adpcm", 48000, 1, 0, None, 512),
        Format("ima-adpcm", 48000, 2, 0, None, 1024),
        Format("ms-adpcm", 48000, 1, 0, None, 256),
        Format("step-adpcm", 48000, 1, 0, parameters=frozen({"header": "none", "nibbles": "low"})),
        Format("step-adpcm", 48000, 1, 0, parameters=frozen({"header": "none", "nibbles": "high"})),
        Format("filter-adpcm", 48000, 1, 0),
        Format("pcm", 48000, 1, 0, parameters=frozen({"sample": "f64"})),
        Format("table-adpcm", 48000, 1, 0, parameters=frozen({"bits": 3, "nibbles": "high", "moves": MOVES[3]})),
        Format("table-adpcm", 48000, 1, 0, parameters=frozen({"bits": 5, "nibbles": "low", "moves": MOVES[5]})),
        Format("delta-pcm", 48000, 1, 0),
        Format("xa-adpcm", 48000, 2, 0, parameters=frozen({"sector": 0})),
    )

    def test_open_voices_in_many_forms(self):
        """Debian's alsa-utils voices, encoded by us: codec, channels and the parameters that matter come out first."""
        whole, _ = soundfile.read(OPEN_SOUNDS / "Front_Left.wav", dtype="int16", always_2d=True)
        tune, _ = soundfile.read(OPEN_SOUNDS / "Rear_Right.wav", dtype="int16", always_2d=True)
        length = min(len(whole), len(tune))
        for wanted in self.KINDS:
            pcm = np.hstack([whole[8000:length], tune[8000:length]])[:, : wanted.channels]
            format = wanted.with_(frames=len(pcm))
            data = codec_of(format).encode(pcm, format)
            best = rank(source(data), 0, len(data)).candidates[0]
            self.assertEqual(
                (best.codec, best.channels, best.block_size), (wanted.codec, wanted.channels, wanted.block_size), wanted
            )
            found = dict(best.parameters)
            for name, value in wanted.parameters:
                self.assertEqual(found.get(name), value, (wanted, best))
            self.assertGreater(best.score, 4)

    def test_what_is_no_sound_convinces_nobody(self):
        rng = np.random.default_rng(3)
        for data, word in (
            (rng.bytes(60_000), "encrypted"),
            (bytes(50_000), "zero"),
            (b"RIFF" + bytes(99), "WAV"),
            (b"ab", "Too few"),
        ):
            found = rank(source(data), 0, len(data))
            self.assertIn(word, found.note)
            self.assertEqual(found.candidates, [])

    def test_blocks_of_no_known_kind_are_told_by_what_comes_back(self):
        rows = np.random.default_rng(5).integers(0, 256, (900, 36), np.uint8)
        rows[:, 2] &= 15
        found = rank(source(rows.tobytes()), 0, rows.size)
        self.assertIn("Each 36 bytes something comes back", found.note)

    def test_packets_of_opus_are_heard_and_become_a_layout(self):
        pcm, _ = soundfile.read(OPEN_SOUNDS / "Front_Left.wav", dtype="float32", always_2d=True)
        for channels, how in ((1, {"width": 2}), (2, {"width": 4, "order": "big"})):
            format = Format("opus", 48000, channels, len(pcm), parameters=frozen({"headers": "none", **how}))
            data = bytes(codec_of(format).encode(np.repeat(pcm, channels, axis=1), format))
            best = rank(source(data), 0, len(data)).candidates[0]
            self.assertEqual((best.codec, best.channels), ("opus", channels))
            self.assertEqual([likely_start(source(bytes(n) + data)) for n in (0, 12, 40)], [0, 12, 40])
            payload, read = best.read(source(data), 0, len(data), 22050)
            self.assertEqual(read.rate, 48000)
            heard = codec_of(read).decode(payload, read, 0, len(pcm))
            self.assertGreater(np.corrcoef(heard[:, 0], pcm[:, 0])[0, 1], 0.97)
            bank = DescribedBank(load_layout(draft("x.opk", data, best, 22050, 0, None)), source(data, "x.opk"))
            self.assertEqual((bank.streams[0].format.rate, bank.streams[0].format.channels), (48000, channels))

    def test_the_rate_of_voices_is_guessed_from_the_spectrum(self):
        """Within a factor of 1.5 at 16,000 and 48,000 Hz, of nine in ten of Debian's voices; a pure tone tells nothing."""
        near = []
        for path in sorted(OPEN_SOUNDS.glob("*_*.wav")):
            pcm, own = soundfile.read(path, dtype="float32", always_2d=True)
            for rate in (16_000, own):
                data = to_int16(soxr.resample(pcm[:, :1], own, rate)).tobytes()
                found = rank(source(data), 0, len(data))
                near.append(found.rate > 0 and max(found.rate / rate, rate / found.rate) < 1.5)
                self.assertEqual("spectrum" in found.why, found.rate > 0)
        self.assertGreaterEqual(sum(near), 0.9 * len(near))
        data = tone(2, 44_100, 440).tobytes()
        self.assertEqual(rank(source(data), 0, len(data)).rate, 0)

    def test_anything_can_be_judged(self):
        """Random and repetitive bytes of odd lengths: an answer or none, never a fault, and soon."""
        rng = np.random.default_rng(8)
        begun = time.monotonic()
        for n in range(6):
            length = int(rng.integers(0, 20_000))
            data = bytes(rng.integers(0, (256, 4, 2)[n % 3], length, dtype=np.uint8))
            start = int(rng.integers(0, length // 2 + 1))
            for candidate in rank(source(data), start, length).candidates:
                self.assertTrue(candidate.label and np.isfinite(candidate.score))
                candidate.format(8000, length)
            found = find_table(source(data))
            if found:
                self.assertLessEqual(sum(found.spans[-1]), length)
        self.assertLess(time.monotonic() - begun, 60)


class Drafts(SimpleTestCase):
    def test_banks_of_the_demo_as_if_nobody_knew_them(self):
        """Places that count from the first sound, blocks with silence at the beginning, packets behind lengths."""
        known = Known(list(shipped_layouts()))
        for place, word in (("voice/crew_en.bell", "ima-adpcm"), ("radio/radio.bell", "packets without a container")):
            spot = Spot.place(GameFolder(demo_game()), f"data/sea.crate › {place}", known)
            file, beside = spot.source, spot.siblings
            spans = find_table(file).spans
            self.assertEqual(spans, [(s.at, s.stored) for s in open_bank(file, known, beside).streams])
            for at, length in spans:
                found = rank(file, at, at + length)
                if not (found.candidates and found.candidates[0].codec == "opus"):  # those are heard
                    self.assertIn(word, found.note or found.candidates[0].codec)

    def test_the_demo_s_unknown_bank_becomes_a_layout(self):
        with FileSource(demo_game() / "data/drift.bin") as file:
            table = find_table(file)
            self.assertEqual((table.count, table.stride, table.rate), (3, 20, 22050))
            at, length = table.spans[1]
            best = rank(file, at, at + length).candidates[0]
            text = draft("drift.bin", file.read(0, 4096), best, 44100, at, table)
            bank = DescribedBank(load_layout(text), file)
            self.assertEqual([(s.id, s.format.frames, s.format.rate) for s in bank.streams],
                             [("71", 66150, 22050), ("72", 66150, 22050), ("73", 66150, 22050)])  # fmt: skip
            self.assertEqual(bytes_of(bank.rebuild({}, anew=True).source), bytes_of(file))

    def test_without_a_table_one_stream_is_drafted(self):
        pcm = noise(3000, 1, 900)
        data = b"LONE" + bytes(28) + pcm.astype("<i2").tobytes()
        self.assertIsNone(find_table(source(data)))
        reading = rank(source(data), 32, len(data)).candidates[0]
        text = draft("Lone!.dat", data, reading, 8000, 32, None)
        bank = DescribedBank(load_layout(text), source(data))
        self.assertEqual((len(bank.streams), bank.streams[0].at, bank.streams[0].format.rate), (1, 32, 8000))
        self.assertEqual(bytes_of(bank.rebuild({}, anew=True).source), data)

    def test_voices_without_a_table_have_none(self):
        """Debian's voices as plain samples of four kinds, from an even and an odd place on."""
        for n, path in enumerate(sorted(OPEN_SOUNDS.glob("*_*.wav"))):
            pcm, _ = soundfile.read(path, dtype="int16")
            for m, kind in enumerate(("<i2", ">i2", "i1", "<f4")):
                data = (pcm / 32768 if kind == "<f4" else pcm >> 8 if kind == "i1" else pcm).astype(kind).tobytes()
                start = (0, 44, 45)[(n + m) % 3]
                self.assertIsNone(find_table(source(bytes(start) + data)), f"{path.name}, {kind}, {start}")

    def test_tables_in_sectors_of_either_order_are_found(self):
        """Records of 12 to 24 bytes, places in sectors of 2,048 bytes or in bytes, from the file's or the sounds' start."""
        rng = np.random.default_rng(6)
        for order, unit, stride, base in (
            ("big", 2048, 12, 0),
            ("little", 1, 24, 0),
            ("big", 1, 16, 0),
            ("little", 2048, 20, 4096),
        ):
            sizes = [int(n) for n in rng.integers(3000, 9000, 12)]
            at, spans, records = 4096, [], b""
            for n, size in enumerate(sizes):
                at += -at % 2048
                spans.append((at, size))
                fields = [
                    ((at - base) // unit).to_bytes(4, order),
                    size.to_bytes(4, order),
                    (700 + n).to_bytes(4, order),
                ]
                records += b"".join(fields).ljust(stride, b"\0")
                at += size
            head = b"TABL" + len(sizes).to_bytes(4, order) + records
            data = bytearray(rng.integers(1, 255, at, dtype=np.uint8).tobytes())
            data[:4096] = head.ljust(4096, b"\0")
            found = find_table(source(bytes(data)))
            self.assertEqual((found.spans, found.stride, found.unit, found.order), (spans, stride, unit, order))
            self.assertEqual((found.counter, found.base), ((4, "u32"), base))
            text = draft("t", head, Candidate("pcm", 1, 9.0), 8000, 4096, found)
            bank = DescribedBank(load_layout(text), source(bytes(data)))
            self.assertEqual([(s.at, s.stored) for s in bank.streams], spans)

    def test_meanings_that_are_given_must_make_sense(self):
        text = """zubret: 1
id: given
describes: bank
recognise: [{at: 0, bytes: "47 49"}]
given: {stream.codec: pcm16, stream.rate: 8000}
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 2}, {name: count, type: u16, means: streams.count}]
  - name: table
    after: head
    repeat: head.count
    fields: [{name: at, type: u16, means: stream.at}, {name: stored, type: u16, means: stream.stored}]
"""
        data = b"GI\x02\0" + b"\x0c\0\x06\0" + b"\x12\0\x04\0" + bytes(range(10))
        bank = DescribedBank(load_layout(text), source(data))
        self.assertEqual([(s.id, s.format.frames, s.format.rate) for s in bank.streams], [("", 3, 8000), ("", 2, 8000)])
        new = NewStream(source(bytes(20)), bank.streams[0].format.with_(frames=10))
        again = DescribedBank(load_layout(text), source(bytes_of(bank.rebuild({0: new}).source)))
        self.assertEqual([s.format.frames for s in again.streams], [10, 2])
        for wrong, word in ((text.replace("stream.codec: pcm16, ", ""), "stream.codec"), (text.replace("pcm16", "soup"), "soup"),
                            (text.replace("8000", "fast"), "whole number"), (text.replace("stream.rate: 8000", "stream.tempo: 8"), "stream.tempo"),
                            (text.replace("stream.at}", "stream.rate}"), "given")):  # fmt: skip
            self.assertIn(word, str(problem_of(self, load_layout, wrong)))
