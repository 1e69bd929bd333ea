"""Two-tap ADPCM whose filters stand in each stream's record, and whose steps are numbers.

Sources: the media library's decoder of the kind with eight pairs in 1/2048 for each channel (bit-exact); plain decoders below,
written from `FilterAdpcm`'s docstring; every pair of coefficients tried on a short sound.
"""

import av
import numpy as np
from django.test import SimpleTestCase

from tests.support import noise, problem_of, source
from zubret_core.base import Format, Loop
from zubret_core.base.format import frozen
from zubret_core.codec import codec_named, codec_of
from zubret_core.codec.filter_frames import encode_frames

EIGHT = {
    "frame": 8,
    "unit": 2048,
    "grows": True,
    "nibbles": "high",
    "rounding": "floor",
    "interleave": -1,
    "order": "big",
}
RECORD = {**EIGHT, "record": ["filters", "zero", "head", "history", "loop_head", "loop_history", "zero"], "pairs": 8}


def voices(frames: int, channels: int) -> np.ndarray:
    """Something with vowels in it: pulses through moving resonances; int16 (frames, channels)."""
    chance, out = np.random.default_rng(7), np.zeros((frames, channels))
    for c in range(channels):
        pulses = (np.arange(frames) % (190 + 7 * c) == 0) * 3000.0 + chance.standard_normal(frames) * 40
        y1 = y2 = 0.0
        for n in range(frames):
            angle = 0.15 + 0.12 * np.sin(n / 2500 + c)
            y = pulses[n] + 2 * 0.97 * np.cos(angle) * y1 - 0.97**2 * y2
            out[n, c], y1, y2 = y, y, y1
    return np.clip(out, -32768, 32767).astype(np.int16)


def made(pcm: np.ndarray, how: dict, loop: Loop | None = None) -> tuple[Format, bytes]:
    """Samples encoded as a replacement is: filters found, encoded, the record filled."""
    format = Format("filter-adpcm", 32000, pcm.shape[1], len(pcm), loop, parameters=frozen(how))
    codec = codec_of(format)
    format = codec.fitted(pcm, format)
    payload = bytes(codec.encode(pcm, format))
    return codec.told(source(payload), format), payload


def heard(format: Format, payload: bytes, start: int = 0, frames: int | None = None) -> np.ndarray:
    frames = format.frames - start if frames is None else frames
    return codec_of(format).decode(source(payload), format, start, frames)


def snr(pcm: np.ndarray, out: np.ndarray) -> float:
    error = pcm.astype(float) - out
    return float(10 * np.log10((pcm.astype(float) ** 2).sum() / (error**2).sum()))


class InRecords(SimpleTestCase):
    def test_bit_exact_with_the_media_library(self):
        for channels in (1, 2):
            pcm = voices(14 * 900, channels)
            format, payload = made(pcm, RECORD)
            reader = av.CodecContext.create("adpcm_thp", "r")
            reader.sample_rate, reader.layout = 32000, "mono" if channels == 1 else "stereo"
            size = len(format.setup) // channels
            reader.extradata = b"".join(format.setup[c * size : c * size + 32] for c in range(channels))
            theirs = np.concatenate([f.to_ndarray().T for f in reader.decode(av.Packet(payload))])
            ours = heard(format, payload)
            np.testing.assert_array_equal(ours, theirs.reshape(-1, channels)[: len(ours)])
            self.assertGreater(snr(pcm, ours), 30)
            fixed = made(pcm, {**EIGHT, "filters": [(0, 0), (1920, 0), (3680, -1664), (3136, -1760)]})
            self.assertGreater(snr(pcm, ours), snr(pcm, heard(*fixed)) + 1)

    def test_what_a_record_says_of_starts_and_loops(self):
        pcm = voices(14 * 200, 2)
        format, payload = made(pcm, {**RECORD, "interleave": 0}, Loop(14 * 50 + 3, 14 * 190))
        rows = np.frombuffer(format.setup, ">i2").reshape(2, -1)
        ours = heard(format, payload)
        for c in range(2):
            pairs, head, loop_head = rows[c, :16], int(rows[c, 17]), int(rows[c, 20])
            self.assertTrue(pairs.any())
            self.assertEqual((head, loop_head), (payload[8 * c], payload[(50 * 2 + c) * 8]))
            self.assertEqual(rows[c, 18:20].tolist(), [0, 0])
            self.assertEqual(rows[c, 21:23].tolist(), ours[14 * 50 + 3 - 2 : 14 * 50 + 3, c][::-1].tolist())
        # One that begins elsewhere than in silence is heard from there.
        moved = bytearray(format.setup)
        moved[36:40] = (500).to_bytes(2, "big") + (400).to_bytes(2, "big")
        other = heard(format.with_(setup=bytes(moved)), payload, 0, 14)
        self.assertFalse((other[:, 0] == ours[:14, 0]).all())
        self.assertTrue((other[:, 1] == ours[:14, 1]).all())
        self.assertIn("setup has 3 bytes", problem_of(self, heard, format.with_(setup=b"abc"), payload).what)

    def test_found_filters_are_as_good_as_all_that_can_be_tried(self):
        how = frozen({**EIGHT, "unit": 64, "record": ["filters"], "pairs": 1, "word": "filter-shift"})
        codec, pcm = codec_named("filter-adpcm", how), voices(14 * 24, 1)
        format = codec.fitted(pcm, Format("filter-adpcm", 32000, 1, len(pcm), parameters=how))
        own = snr(pcm, heard(format, bytes(codec.encode(pcm, format))))
        channel, places, shape = pcm.reshape(-1, 14).copy(), np.arange(24) * 8, codec._shape()
        best, out = 0.0, np.zeros(24 * 8, np.uint8)
        for one in range(-126, 127, 2):
            for two in range(-64, 65, 2):
                out[:] = 0
                encode_frames(channel, places, shape, np.array([[one, two]]), 1, np.zeros(2, np.int64), out)
                filters = (one & 0xFFFF).to_bytes(2, "big") + (two & 0xFFFF).to_bytes(2, "big")
                best = max(best, snr(pcm, heard(format.with_(setup=filters), out.tobytes())))
        self.assertGreater(own, best - 0.5)

    def test_silence_noise_and_what_blows_up(self):
        for pcm in (np.zeros((500, 1), np.int16), noise(500, 1, 32000), np.full((500, 1), -32768, np.int16)):
            format, payload = made(pcm, RECORD)
            self.assertEqual(heard(format, payload).shape, (500, 1))
        wild = b"\x7f\xff\x80\x00" * 8 + bytes(16)
        out = heard(format.with_(setup=wild), bytes(n & 0x7F for n in range(1024)), 0, 400)
        self.assertTrue((np.abs(out.astype(int)) <= 32768).all())


class Steps(SimpleTestCase):
    def plain(self, payload: bytes, how: dict, count: int) -> list[int]:
        """One channel of frames of 18 bytes that begin with a step."""
        out, last, before, at = [], 0, 0, 0
        while len(out) < count:
            number = int.from_bytes(payload[at : at + 2], how.get("order", "little"))
            which = number >> 13 if how["word"] == "step-filter" else 0
            step = (number & 0x1FFF if how["word"] == "step-filter" else number) + how.get("plus", 0)
            one, two = how["filters"][which]
            for byte in payload[at + 2 : at + 18]:
                for nibble in (byte >> 4, byte & 15):
                    total = one * last + two * before
                    guess = total // how["unit"] if how["rounding"] == "floor" else int(total / how["unit"])
                    sample = max(-32768, min(32767, guess + ((nibble ^ 8) - 8) * step))
                    last, before = sample, last
                    out.append(sample)
            at += 18
        return out[:count]

    def test_steps_of_every_kind_against_a_plain_decoder(self):
        pcm = voices(32 * 60, 1)
        usual = {"frame": 18, "nibbles": "high", "order": "big", "unit": 4096}
        for more in (
            {"word": "step", "filters": [(7334, -3350)], "rounding": "floor", "ends": True},
            {"word": "step", "filters": [(6500, -2900)], "rounding": "truncate", "plus": 1},
            {
                "word": "step-filter",
                "filters": [(0, 0), (3840, 0), (7360, -3328), (6272, -3520)],
                "rounding": "floor",
                "plus": 1,
            },
        ):
            how = {**usual, **more}
            format, payload = made(pcm, how)
            ours = heard(format, payload)
            self.assertEqual(ours[:, 0].tolist(), self.plain(payload, how, len(pcm)))
            self.assertGreater(snr(pcm, ours), 24, more)
            np.testing.assert_array_equal(heard(format, payload, 700, 99), ours[700:799])
        stopped = bytearray(made(pcm, {**usual, "word": "step", "filters": [(7334, -3350)], "ends": True})[1])
        stopped[18 * 10] |= 0x80
        format = format.with_(parameters=frozen({**usual, "word": "step", "filters": [(7334, -3350)], "ends": True}))
        out = heard(format, bytes(stopped))
        self.assertFalse(out[320:352].any())
