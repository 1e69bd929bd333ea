"""Every decoder on damaged payloads and odd formats: sound, or a ZubretError that says what, where and what next."""

import gc
import os
import resource
import shutil
import time
import weakref
from pathlib import Path
from unittest.mock import patch

import numpy as np
from django.test import SimpleTestCase

from standin.formats import PCM, Sound, bell
from standin.make import SOURCES
from tests.support import WithFolder, edited, files_end_at, noise, problem_of, resummed_bell, source, tone
from zubret_core.audio import Style
from zubret_core.bank import DescribedBank, Stream
from zubret_core.bank.base import OnePayload
from zubret_core.base import Format, Loop, Samples, ZubretError, gathered, named, nameless, room
from zubret_core.base.format import frozen
from zubret_core.base.room import IN_MEMORY
from zubret_core.codec import codec_of, ogg
from zubret_core.codec.vorbis import facts_of
from zubret_core.extract import SoundItem, export_sounds
from zubret_core.layout import layout_named
from zubret_core.source import FillSource, Source, write_file

ROUNDS = max(6, int(os.environ.get("ZUBRET_FUZZ", "150")) // 6)
PLAIN = [
    Format("pcm", 8000, 2, 900, parameters=frozen({"sample": "s24", "order": "big"})),
    Format("pcm", 8000, 3, 900, parameters=frozen({"sample": "f32"})),
    Format("g711-a", 8000, 1, 900),
    Format("ima-adpcm", 8000, 2, 900, None, 128),
    Format("step-adpcm", 8000, 2, 900, parameters=frozen({"header": "none", "group": 0})),
    Format("dvi4", 8000, 1, 900, None, 84),
    Format("ms-adpcm", 8000, 2, 900, None, 128),
    Format("filter-adpcm", 8000, 2, 900, parameters=frozen({"flags": [0, 6, 3, 1]})),
    Format("xa-adpcm", 37800, 2, 900, parameters=frozen({"sector": 2336, "lead": 8})),
    Format("delta-pcm", 8000, 1, 900),
    Format("packed-pcm", 8000, 1, 901, parameters=frozen({"nibbles": "high"})),
    Format("opus", 48000, 1, 9600),
    Format("opus", 48000, 2, 9600, parameters=frozen({"headers": "stream", "framing": "table"})),
]


def kinds():
    """A format and a good payload of each decoder that writes, Vorbis of the spoken lines, and libraries' formats."""
    for format in PLAIN:
        pcm = tone(format.frames / format.rate, format.rate, 300, format.channels)[: format.frames]
        yield format, codec_of(format).encode(pcm, format)
    data = source((SOURCES / "en_01.ogg").read_bytes())
    packets, last = ogg.packets_of(data)
    rate, channels, short, long = facts_of(packets[0])
    for how in ({"blocks": (short, long)}, {"headers": "stream", "framing": "table"}):
        format = Format("vorbis", rate, channels, last, None, 0, "", frozen(how), packets[2])
        yield format, codec_of(format).from_ogg(data, format)
    yield Format("file", rate, channels, last, None, 0, "OGG/VORBIS"), data.data
    ms = next(f for f in PLAIN if f.codec == "ms-adpcm")
    library = frozen({"decoder": "adpcm_ms", "packet": 128})
    payload = codec_of(ms).encode(tone(900 / 8000, 8000, 300, 2), ms)
    yield ms.with_(codec="library", parameters=library), payload


class Damaged(SimpleTestCase):
    def test_what_is_kept_of_a_payload_goes_with_it(self):
        for format, good in kinds():
            payload = source(good)
            codec_of(format).decode(payload, format, format.frames // 2, 10)
            gone = weakref.ref(payload)
            del payload
            gc.collect()
            self.assertIsNone(gone(), format.codec)

    def test_mutated_payloads(self):
        rng = np.random.default_rng(11)
        begun = time.monotonic()
        for format, good in kinds():
            whole = codec_of(format).decode(source(good), format, 0, format.frames)
            self.assertEqual(whole.shape, (format.frames, format.channels), format.codec)
            for _ in range(ROUNDS):
                data = bytearray(good)
                for _ in range(int(rng.integers(1, 9))):
                    data[int(rng.integers(len(data)))] = int(rng.integers(256))
                cut = data[: int(rng.integers(len(data) + 1))] if rng.random() < 0.3 else data
                start = int(rng.integers(format.frames))
                try:
                    part = codec_of(format).decode(source(bytes(cut)), format, start, min(50, format.frames - start))
                    self.assertEqual(part.shape[1], format.channels)
                except ZubretError as e:
                    self.assertTrue(e.what and e.next, format.codec)
        self.assertLess(time.monotonic() - begun, 120)

    def test_a_setup_that_is_spoilt_anywhere(self):
        rng = np.random.default_rng(12)
        format, good = next((f, d) for f, d in kinds() if f.codec == "vorbis")
        for _ in range(ROUNDS * 3):
            setup = bytearray(format.setup)
            setup[int(rng.integers(len(setup)))] ^= 1 << int(rng.integers(8))
            try:
                codec_of(format).decode(source(good), format.with_(setup=bytes(setup)), 0, 500)
            except ZubretError as e:
                self.assertTrue(e.next)

    def test_ranges_from_kept_states_are_those_of_the_whole(self):
        """Codecs whose samples need those before, long enough for several states, asked at random."""
        rng = np.random.default_rng(13)
        frames = 200_001
        pcm = noise(frames, 2, 6000)
        for name, how in (("filter-adpcm", {}), ("filter-adpcm", {"interleave": -1}), ("xa-adpcm", {}), ("delta-pcm", {}),
                          ("step-adpcm", {"header": "none", "group": 1})):  # fmt: skip
            format = Format(name, 37800, 2, frames, parameters=frozen(how))
            codec = codec_of(format)
            payload = source(codec.encode(pcm, format))
            whole = codec.decode(source(payload.data), format, 0, frames)
            for _ in range(12):
                start = int(rng.integers(frames))
                count = int(rng.integers(1, min(70_000, frames - start) + 1))
                np.testing.assert_array_equal(
                    codec.decode(payload, format, start, count), whole[start : start + count], err_msg=name
                )


class PieceByPiece(WithFolder):
    def test_what_comes_in_pieces_is_encoded_as_the_whole_is_and_read_once(self):
        for format in PLAIN:
            format = format.with_(frames=9001)
            pcm, read = noise(9001, format.channels, 9000), []

            def pieces(pcm=pcm, read=read):
                read.append(len(pcm))
                yield from (pcm[:1], pcm[1:6000], pcm[6000:])

            whole = bytes(codec_of(format).encode(pcm, format))
            with patch("zubret_core.codec.base.PIECE", 700):
                again = codec_of(format).encode(Samples(9001, format.channels, pieces), format)
            self.assertEqual((bytes(again), read), (whole, [9001]), format)
        samples = Samples(9001, 1, lambda: (noise(9001)[at : at + 100] for at in range(0, 9001, 100)))
        for start, end in ((50, 250), (250, 250), (249, 9001), (0, 1), (8000, 9500), (9001, 9002)):
            np.testing.assert_array_equal(samples[start:end], noise(9001)[start:end])

    def test_what_lies_in_a_nameless_file_gets_a_name_and_is_copied_only_to_another_disk(self):
        pieces = [bytes([n]) * (IN_MEMORY // 3) for n in range(4)]
        self.assertEqual(bytes(gathered(pieces)), b"".join(pieces))
        can = named(nameless(), self.folder / "probe")  # not on every file system
        for folder, is_same in ((self.folder, can), (Path("/dev/shm"), False)):
            made, place = room(IN_MEMORY + 1, np.uint8), folder / f"zubret-test-{os.getpid()}"
            self.addCleanup(place.unlink, missing_ok=True)
            made[-1] = 7
            write_file(source(made.data), place)
            self.assertEqual(place.read_bytes(), bytes(made))
            made[-1] = 8
            self.assertEqual(place.read_bytes()[-1], 8 if is_same else 7)


class OddFormats(SimpleTestCase):
    def test_many_channels_and_rates_at_the_edges(self):
        pcm = noise(300, 32)
        for name, block in (
            ("pcm16", 0),
            ("g711-mu", 0),
            ("filter-adpcm", 0),
            ("ima-adpcm", 32 * 36),
            ("delta-pcm", 0),
        ):
            for rate in (1, 4_000_000):
                format = Format(name, rate, 32, 300, None, block).checked()
                data = source(codec_of(format).encode(pcm, format))
                self.assertEqual(codec_of(format).decode(data, format, 10, 200).shape, (200, 32))
        for wrong in (
            Format("pcm16", 0, 1, 1),
            Format("pcm16", 4_000_001, 1, 1),
            Format("pcm16", 8000, 65, 1),
            Format("pcm16", 8000, 1, -1),
        ):
            problem_of(self, wrong.checked, "a bank")
        for loop in (Loop(5, 5), Loop(9, 3), Loop(0, 101), Loop(-1, 9)):
            self.assertIn("loop", problem_of(self, Format("pcm16", 8000, 1, 100, loop).checked, "a bank").what)

    def test_a_bank_that_lies_about_loops_and_lengths_says_which_stream(self):
        good = bell("b", [Sound(1, noise(90), 8000, (5, 60), PCM), Sound(2, noise(90), 8000, codec=PCM)])
        layout = layout_named("saltglass-bell")
        for at, value in (
            (68, 95),
            (64, 60),
            (68, 3),
        ):  # the loop's end beyond the sound, its start at its end, reversed
            spoilt = resummed_bell(edited(good, at + 4, "<I", value))
            self.assertIn("1", problem_of(self, DescribedBank, layout, source(spoilt)).where)
        long = DescribedBank(layout, source(resummed_bell(edited(good, 48 + 32 + 16, "<I", 4000))))
        self.assertIn("4,000 frames", problem_of(self, long.streams[1].decode, 0, 10).what)
        short = DescribedBank(layout, source(resummed_bell(edited(good, 48 + 32 + 16, "<I", 40))))
        self.assertEqual(len(short.streams[1].decode(0, 40)), 40)

    def test_ten_hours_cost_neither_memory_nor_time(self):
        frames = 10 * 3600 * 48_000
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        for name, block, bytes_a_block, per_block in (
            ("ima-adpcm", 2048, 2048, 2041),
            ("pcm16", 0, 4, 1),
            ("g711-a", 0, 2, 1),
        ):
            format = Format(name, 48_000, 2, frames, None, block)
            payload = FillSource(0, -(-frames // per_block) * bytes_a_block)
            self.assertEqual(codec_of(format).decode(payload, format, frames - 1000, 1000).shape, (1000, 2))
        # Seven minutes into a codec that has to be decoded from its beginning; going on from there needs little.
        format = Format("filter-adpcm", 48_000, 2, frames)
        payload = Counted(0, codec_of(format).stored_size(format))
        codec_of(format).decode(payload, format, 20_000_000, 500)
        self.assertGreater(payload.bytes_read, 10_000_000)
        payload.bytes_read = 0
        codec_of(format).decode(payload, format, 20_000_500, 500)
        self.assertLess(payload.bytes_read, 100_000)
        self.assertLess((resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024, 120)


class Counted(FillSource):
    """Nothing but zeros; how many of them have been read."""

    bytes_read = 0

    def _read(self, at: int, length: int) -> bytes:
        self.bytes_read += length
        return super()._read(at, length)


class Nowhere(Source):
    """A payload that can't be read."""

    def __init__(self):
        self.name, self.size = "gone", 1 << 20

    def _read(self, at: int, length: int) -> bytes:
        raise ZubretError("It is gone.", file=self.name, offset=at, next="Look for it.")


class Writing(WithFolder):
    def stream(self, n: int) -> Stream:
        pcm = noise(200_000, 2, seed=n)
        format = Format("pcm16", 44100, 2, len(pcm))
        payload = source(pcm.astype("<i2").tobytes()) if n != 2 else Nowhere()
        return Stream(n, str(n), "", format, 0, payload.size, "", OnePayload(payload))

    def test_one_that_fails_is_listed_and_odd_names_are_made_safe(self):
        from zubret_core.extract import targets_for

        streams = [self.stream(n) for n in range(5)]
        names = ["con.wav", "a/../b:c.wav", "x" * 300 + ".wav", "ok.wav", "OK.wav"]
        targets = targets_for(names)
        items = [
            SoundItem(n, f"s {n}", s.format, t.path) for n, (s, t) in enumerate(zip(streams, targets, strict=True))
        ]
        report = export_sounds(items, self.folder / "out", lambda i: streams[i.key], Style("flac"), figures=True)
        self.assertEqual((report.files, [f["source"] for f in report.failed]), (4, ["s 2"]))
        self.assertEqual(len({t.path.lower() for t in targets}), 5)
        for item in items:
            self.assertEqual((self.folder / "out" / item.target).is_file(), item.key != 2)
        self.assertEqual(list((self.folder / "out").rglob("*part")), [])

    def test_a_disk_that_fills_up_with_the_first_byte_or_with_the_last(self):
        """What a library writes while it closes a file counts, too: nothing that is short passes as whole."""
        stream, out = self.stream(1), self.folder / "out"
        tags = {"ogg": (("title", "x" * 5000),)}
        for kind in ("wav", "flac", "ogg", "opus", "stored"):
            item, style = SoundItem(1, "s", stream.format, f"s.{kind}"), Style(kind, tags=tags.get(kind, ()))
            export_sounds([item], out, lambda i: stream, style)
            size = (out / item.target).stat().st_size
            shutil.rmtree(out)
            for limit in (size // 2, size - 4000, size - 1):
                with self.subTest(kind=kind, limit=limit), files_end_at(limit):
                    report = export_sounds([item], out, lambda i: stream, style)
                    self.assertRegex(report.failed[0]["what"], "File too large|The disk is full")
                    self.assertEqual([p.name for p in out.iterdir()], ["zubret manifest.jsonl"])
