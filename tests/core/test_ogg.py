"""Ogg files read by their pages: any range of them, headers of every kind, and what is broken."""

import io
import subprocess
from pathlib import Path

import numpy as np
import soundfile
from django.test import SimpleTestCase

from tests.core.test_containers import OPEN_SOUNDS
from tests.core.test_packets import THEME
from tests.support import WithFolder, edited, noise, problem_of, source, tone
from zubret_core.base import Format, ZubretError
from zubret_core.base.format import frozen
from zubret_core.codec import CODECS, codec_of, ogg, vorbis
from zubret_core.codec.ogg import OggPages
from zubret_core.source import BytesSource, FileSource


def written(pcm: np.ndarray, rate: int, subtype: str = "VORBIS", level: float = 0.5) -> bytes:
    out = io.BytesIO()
    with soundfile.SoundFile(out, "w", rate, pcm.shape[1], subtype, format="OGG", compression_level=level) as file:
        for at in range(0, len(pcm), 4096):
            file.write(pcm[at : at + 4096])
    return out.getvalue()


class Headers(SimpleTestCase):
    def test_setups_of_every_kind_of_encoding_count_as_libvorbis_does(self):
        """Vorbis I, 4.2.4 and 4.3.1: rates, channels with and without coupling, qualities; frames as libsndfile says."""
        seen = set()
        for rate in (8000, 11025, 16000, 22050, 32000, 44100, 48000):
            for channels in (1, 2, 6):
                for level in (0.1, 0.5, 0.9):
                    data = written(tone(0.4, rate, 300, channels), rate, level=level)
                    packets, last = ogg.packets_of(source(data))
                    _, _, short, long = vorbis.facts_of(packets[0])
                    modes = vorbis.modes_of(packets[0], packets[2])
                    seen.add((short, long, packets[2]))
                    self.assertEqual((modes.short, modes.long), (short, long))
                    self.assertEqual(modes.flags, (False, True) if short != long else (False,))
                    format = Format("vorbis", rate, channels, last, None, 0, "", frozen({"headers": "stream"}))
                    codec = codec_of(format)
                    file = codec.wrapped(source(codec.from_ogg(source(data), format)), format)
                    self.assertEqual(last, round(0.4 * rate))
                    self.assertTrue(last <= file.held < last + long, (rate, channels, level))
        self.assertGreater(len(seen), 12)

    def test_comments_and_laced_setups(self):
        data = source(written(tone(0.2, 22050, 300), 22050))
        packets, last = ogg.packets_of(data)
        first, second, third = packets[:3]
        laced = (
            b"\2"
            + bytes([len(first)])
            + b"\xff" * (len(second) // 255)
            + bytes([len(second) % 255])
            + first
            + second
            + third
        )
        framed = b"".join(len(p).to_bytes(2, "little") + p for p in packets[:3])
        for setup in (laced, framed):
            format = Format("vorbis", 22050, 1, last, None, 0, "", (), setup)
            codec = codec_of(format)
            payload = source(codec._framing(format).framed(packets[3:]))
            self.assertEqual(codec.header_packets(payload, format), packets[:3])
            self.assertEqual(len(codec.decode(payload, format, 0, last)), last)
        comment = vorbis.comments({"title": "Tūī", "empty": ""})
        again = ogg.packets_of(codec.wrapped(payload, format, comment))[0]
        self.assertEqual((again[1], again[2]), (comment, third))


class Reading(WithFolder):
    def test_any_range_of_open_files_is_what_libsndfile_decodes(self):
        """Vorbis of Debian's sound-theme-freedesktop, Opus by opusenc from alsa-utils' voices, at several input rates."""
        places: list[Path] = sorted(THEME.glob("*.oga"))[::4]
        for n, place in enumerate(sorted(OPEN_SOUNDS.glob("*.wav"))[:3]):
            made = self.folder / f"{n}.opus"
            subprocess.run(["opusenc", "--quiet", "--comp", "2", place, made], check=True)
            places.append(made)
        rng = np.random.default_rng(2)
        for place in places:
            pcm, rate = soundfile.read(place, dtype="float32", always_2d=True)
            with soundfile.SoundFile(place) as file:
                variant = f"{file.format}/{file.subtype}"
            format = Format("file", rate, pcm.shape[1], len(pcm), None, 0, variant)
            near = 3e-3 if variant == "OGG/OPUS" else 1e-5  # Opus settles within 80 ms to the last bits
            with FileSource(place) as payload:
                for _ in range(5):
                    start = int(rng.integers(len(pcm)))
                    count = min(int(rng.integers(1, 9000)), len(pcm) - start)
                    part = CODECS["file"].decode(payload, format, start, count)
                    np.testing.assert_allclose(part, pcm[start : start + count], atol=near, err_msg=place.name)
                whole = CODECS["file"].decode(payload, format, 0, len(pcm))
                np.testing.assert_allclose(whole, pcm, atol=near)
                problem_of(self, CODECS["file"].decode, payload, format.with_(frames=len(pcm) + 5000), len(pcm), 4000)

    def test_opus_that_libsndfile_gives_at_a_lower_rate(self):
        pcm = tone(1.5, 24000, 440, 1, 0.4)
        data = written(pcm, 24000, "OPUS")
        truth, rate = soundfile.read(io.BytesIO(data), dtype="float32", always_2d=True)
        format = Format("file", rate, 1, len(truth), None, 0, "OGG/OPUS")
        for start, count in ((0, 3000), (12_000, 5000), (len(truth) - 2000, 1500)):
            part = CODECS["file"].decode(source(data), format, start, count)
            self.assertLess(float(np.abs(part - truth[start : start + count]).max()), 0.02, start)

    def test_packets_over_several_pages_and_streams_beside(self):
        """RFC 3533, 6: a packet of 70,000 bytes goes on on the next page; pages of another stream are passed over."""
        big = bytes(range(256)) * 300
        pages = ogg.header_pages([b"OpusHead\1\1" + bytes(9), big])
        other = bytearray(pages[0])
        other[14:18] = b"\7\7\7\7"
        crc = ogg.crc_of(
            np.frombuffer(bytes(other[:22]) + bytes(4) + bytes(other[26:]), np.uint8), 0, len(other), ogg._CRC
        )
        other[22:26] = int(crc).to_bytes(4, "little")
        data = pages[0] + bytes(other) + b"".join(pages[1:])
        self.assertEqual(ogg.packets_of(source(data))[0][1], big)
        found = OggPages(source(data))
        self.assertEqual(found.headers[1], big)

    def test_broken_files_say_where(self):
        good = written(tone(0.5, 22050, 300), 22050)
        second = good.index(b"OggS", 4)
        self.assertIn("checksum", problem_of(self, ogg.packets_of, source(edited(good, second + 60, "<B", 7))).what)
        self.assertIn("no Ogg page", problem_of(self, ogg.packets_of, source(edited(good, second, "<B", 7))).what)
        problem_of(self, ogg.packets_of, source(good[: second + 10]))
        self.assertIn("no headers", problem_of(self, OggPages, source(good[:second])).what)
        format = Format("file", 22050, 1, 11025, None, 0, "OGG/VORBIS")
        rng = np.random.default_rng(4)
        for _ in range(60):
            spoilt = bytearray(good)
            for _ in range(6):
                spoilt[int(rng.integers(len(spoilt)))] = int(rng.integers(256))
            try:
                CODECS["file"].decode(source(bytes(spoilt)), format, int(rng.integers(11_000)), 20)
            except ZubretError as e:
                self.assertTrue(e.what and e.next)

    def test_what_a_bank_of_packets_refuses(self):
        pcm = noise(3000, 1).astype(np.float32) / 32768
        format = Format("vorbis", 22050, 1, 3000, None, 0, "", frozen({"headers": "stream", "width": 1}))
        self.assertIn("can't be stored", problem_of(self, codec_of(format).encode, pcm, format).what)
        no_vorbis = BytesSource(written(tone(0.1, 48000, 300), 48000, "OPUS"), "o.opus")
        self.assertIn("no Ogg Vorbis", problem_of(self, codec_of(format).from_ogg, no_vorbis, format).what)
        wide = Format("vorbis", 22050, 1, 3000, None, 0, "", frozen({"headers": "stream", "framing": "fixed"}))
        problem_of(self, codec_of(wide).decode, source(bytes(90)), wide, 0, 10)
