"""Encoders that aim at a bit rate, as tools of their own read it.

Sources: Debian's vorbis-tools (ogginfo) and opus-tools (opusinfo), each a code base of its own.
"""

import re
import subprocess

import numpy as np
import soxr

from tests.core.test_treatment import WithFile
from tests.support import bytes_of, noise, source
from zubret_core.audio.difference import Difference
from zubret_core.bank.base import OnePayload, Stream
from zubret_core.base import Format
from zubret_core.base.format import frozen
from zubret_core.base.pcm import snr_db, to_float
from zubret_core.codec import codec_of
from zubret_core.codec.aim import bit_rate_of

READERS = {"OGG/VORBIS": "ogginfo", "OGG/OPUS": "opusinfo"}


def chord(rate: int, seconds: int, channels: int, seed: int) -> np.ndarray:
    """Some tones that drift, and a little noise: float32 (frames, channels)."""
    t, rng = np.arange(rate * seconds) / rate, np.random.default_rng(seed)
    tones = sum(0.15 * np.sin(2 * np.pi * hz * t * (1 + 0.01 * np.sin(t + seed))) for hz in (220, 330, 441, 870))
    return np.stack([tones + 0.02 * rng.standard_normal(len(t)) for _ in range(channels)], 1).astype(np.float32)


class WithStored(WithFile):
    def stored(self, format: Format, seed: int = 1) -> Stream:
        pcm = chord(format.rate, format.frames // format.rate, format.channels, seed)
        payload = codec_of(format).encode(pcm, format)
        return Stream(0, "", "", format, 0, len(payload), "", OnePayload(source(bytes(payload))))


class Aiming(WithStored):
    def read(self, payload, variant: str) -> float:
        """Bits a second, as another program reads them."""
        place = self.folder / "made.ogg"
        place.write_bytes(bytes_of(payload))
        told = subprocess.run([READERS[variant], place], capture_output=True, text=True, check=True).stdout
        return 1000 * float(re.findall(r"Average bitrate: ([\d.]+)", told)[-1])

    def test_files_take_the_bits_of_the_original_or_those_that_are_asked_for(self):
        for variant, rate, channels, asked in (
            ("OGG/VORBIS", 44_100, 2, (72_000, 128_000)),
            ("OGG/OPUS", 48_000, 2, (48_000, 160_000)),
            ("OGG/OPUS", 24_000, 1, (24_000, 30_000)),
        ):
            original = self.stored(Format("file", rate, channels, 14 * rate, variant=variant))
            new = chord(rate, 14, channels, 2)
            own = self.read(original.payload, variant)
            for steps, bits in (({}, own), *(({"bits": "number", "bit_rate": n}, n) for n in asked)):
                made, said = self.made(original, new, rate, **steps)
                self.assertAlmostEqual(self.read(made.payload, variant) / bits, 1, delta=0.1, msg=(variant, steps))
                self.assertEqual("as the original" in said["size"], not steps)

    def test_it_is_made_to_fit_its_place_or_says_by_how_much_it_can_not(self):
        original = self.stored(Format("file", 44_100, 2, 10 * 44_100, variant="OGG/VORBIS"))
        for seconds in (12, 14):
            made, said = self.made(original, chord(44_100, seconds, 2, 3), 44_100, bits="place")
            self.assertLessEqual(made.payload.size, original.slot)
            self.assertGreater(made.payload.size, 0.85 * original.slot)
            self.assertIn("fits its place", said["size"])
        made, said = self.made(original, chord(44_100, 40, 2, 3), 44_100, bits="place")
        self.assertIn("B more than its place holds, in the smallest way there is", said["size"])

    def test_packets_take_them_too(self):
        for codec, rate, how in (("opus", 48_000, {"framing": "counted"}), ("vorbis", 32_000, {"headers": "stream"})):
            format = Format(codec, rate, 2, 12 * rate, None, 0, "", frozen(how))
            original = self.stored(format)
            made, _ = self.made(original, chord(rate, 12, 2, 4), rate, bits="number", bit_rate=80_000)
            self.assertAlmostEqual(bit_rate_of(made.payload, made.format) / 80_000, 1, delta=0.1, msg=codec)
            heard = codec_of(format).decode(made.payload, made.format, 0, made.format.frames)
            self.assertGreater(snr_db(chord(rate, 12, 2, 4), to_float(heard)), 5)


class Honest(WithStored):
    def test_what_a_listener_would_notice_is_told(self):
        """Bands that are cut off by a resampler, as a codec's low-pass does it."""
        meant = noise(4 * 48_000, 2, 8000).astype(np.float32) / 32768
        for rate in (8_000, 22_050):
            less = soxr.resample(soxr.resample(meant, 48_000, rate, "VHQ"), rate, 48_000, "VHQ")[: len(meant)]
            difference = Difference(48_000)
            for at in range(0, len(meant), 50_000):
                difference.add(meant[at : at + 50_000], less[at : at + 50_000])
            self.assertAlmostEqual(difference.lost_above / (rate / 2), 1, delta=0.26)  # a third of an octave
            self.assertGreater(difference.spectrum_db, 6)
        same = Difference(48_000)
        same.add(meant, meant)
        self.assertEqual((same.spectrum_db, same.lost_above, same.full), (0, None, 0))

    def test_the_report_says_it(self):
        original = self.stored(Format("file", 24_000, 1, 4 * 24_000, variant="OGG/OPUS"))
        loud = np.clip(chord(24_000, 4, 1, 2) * 9, -1, 1)
        _, said = self.made(original, loud, 24_000, bits="number", bit_rate=7_000)
        self.assertIn("frames at full scale: it may have been cut off", said["sound"])
        self.assertIn("nothing is left above", said["sound"])
        _, said = self.made(original, chord(24_000, 4, 1, 2), 24_000, bits="number", bit_rate=96_000)
        self.assertEqual(said["sound"], "nothing that stands out")
