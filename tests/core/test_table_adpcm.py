"""ADPCM with tables of a format's own, against the media library's decoders and against IMA's tables in another shape.

Sources: IMA Recommended Practices, rev. 3.00 (1992), section 6; two decoders of the media library (FFmpeg's, through PyAV), which are
other programs than ours. Tables of 2 and 3 bits are made up.
"""

import numpy as np
from django.test import SimpleTestCase

from tests.support import noise, problem_of, source, tone
from zubret_core.base import Format, to_int16
from zubret_core.base.format import frozen
from zubret_core.codec import codec_named, codec_of

SCALED = {
    "scale": (230, 230, 230, 230, 307, 409, 512, 614), "least": 127, "most": 24_576, "begin": 127, "rule": "product",
}  # fmt: skip
"""How steps grow in the ADPCM of a maker of sound chips, as the media library has it."""
NARROW = {"bits": 2, "moves": (-1, 2), "steps": tuple(int(7 * 1.1**n) for n in range(88))}
THREE = {"bits": 3, "moves": (-1, -1, 1, 2), "steps": tuple(int(7 * 1.1**n) for n in range(88)), "nibbles": "high"}
FIVE = {"bits": 5, "moves": tuple([-1] * 8 + [1, 2, 4, 6, 8, 10, 13, 16])}


def sound(channels: int = 1) -> np.ndarray:
    one = to_int16(tone(1.0, 22_050, 330, channels)).reshape(-1, channels)
    return one


class Tables(SimpleTestCase):
    def format(self, pcm: np.ndarray, **how) -> Format:
        return Format("table-adpcm", 22_050, pcm.shape[1], len(pcm), parameters=frozen(how))

    def test_ima_s_tables_are_those_of_step_adpcm(self):
        for channels in (1, 2):
            for nibbles in ("low", "high"):
                for rule in ("shifts", "product"):
                    pcm = noise(5001, channels, 7)
                    theirs = Format("step-adpcm", 22_050, channels, 5001, parameters=frozen(
                        {"header": "none", "group": 0, "nibbles": nibbles, "rule": rule}))  # fmt: skip
                    data = bytes(codec_of(theirs).encode(pcm, theirs))
                    ours = self.format(pcm, nibbles=nibbles, rule=rule)
                    expected = codec_of(theirs).decode(source(data), theirs, 0, 5001)
                    np.testing.assert_array_equal(codec_of(ours).decode(source(data), ours, 0, 5001), expected)

    def test_scaled_steps_as_the_media_library_has_them(self):
        for channels in (1, 2):
            pcm = sound(channels)[:16_384]
            ours = self.format(pcm, **SCALED)
            data = bytes(codec_of(ours).encode(pcm, ours))
            library = Format("library", 22_050, channels, len(pcm), parameters=frozen(
                {"decoder": "adpcm_yamaha", "packet": 512 * channels}))  # fmt: skip
            theirs = codec_of(library).decode(source(data), library, 0, len(pcm))
            mine = codec_of(ours).decode(source(data), ours, 0, len(pcm))
            np.testing.assert_array_equal(mine[:1024], theirs[:1024])
            self.assertGreater(
                10 * np.log10((pcm.astype(float) ** 2).mean() / ((mine - pcm.astype(float)) ** 2).mean()), 25
            )

    def test_scaled_steps_at_the_ends_of_what_may_be_asked_for(self):
        """What a step becomes and by how much a sample moves are one product: neither may reach the other. By plain arithmetic."""
        for bits, by, most in ((5, 65_536, 1 << 20), (2, -65_536, 1 << 20), (3, 200, 20), (5, 255, 32_767)):
            half, rows = 1 << bits - 1, noise(400, 3, bits).view(np.uint16) % (1 << bits)
            how = {
                "bits": bits,
                "scale": (by,) * half,
                "most": most,
                "begin": most,
                "rule": "product",
                "nibbles": "high",
            }
            expected, steps, samples = [], [most] * 3, [0] * 3
            for row in rows.tolist():
                for c, code in enumerate(row):
                    move = steps[c] * (2 * (code % half) + 1) >> bits - 1
                    samples[c] = min(max(samples[c] + (-move if code >= half else move), -32_768), 32_767)
                    steps[c] = min(max(steps[c] * by >> 8, 1), most)
                expected.append(list(samples))
            data = np.packbits(np.unpackbits(rows.astype(np.uint8).reshape(-1, 1), axis=1)[:, 8 - bits :]).tobytes()
            format = self.format(np.array(expected), **how)
            np.testing.assert_array_equal(codec_of(format).decode(source(data), format, 0, 400), expected)

    def test_any_width_there_and_back_and_from_the_middle(self):
        for least, how in ((8, NARROW), (14, THREE), (25, {}), (28, FIVE), (25, {"stereo": "sum"}), (25, SCALED)):
            for channels in (1, 2):
                pcm = sound(channels)
                format = self.format(pcm, **how)
                codec = codec_of(format)
                data = source(bytes(codec.encode(pcm, format)))
                self.assertEqual(data.size, codec.stored_size(format))
                whole = codec.decode(data, format, 0, len(pcm))
                noise_power = ((whole.astype(float) - pcm) ** 2).mean()
                self.assertGreater(10 * np.log10((pcm.astype(float) ** 2).mean() / noise_power), least, how)
                for at in (1, 777, 9_999, len(pcm) - 5):
                    np.testing.assert_array_equal(codec.decode(data, format, at, 5), whole[at : at + 5])
                again = bytes(codec.encode(whole, format))
                np.testing.assert_array_equal(codec.decode(source(again), format, 0, len(pcm)).shape, whole.shape)

    def test_what_can_not_be(self):
        for how, word in (
            ({"bits": 6}, "bits"), ({"bits": 3}, "moves"), ({"scale": (1, 2)}, "scale"), ({"steps": ()}, "steps"), ({"rule": "x"}, "rule"),
            ({"stereo": "odd"}, "stereo"), ({"first": 1 << 20}, "first"), ({"begin": 99}, "begin"), ({"least": 9, "most": 3}, "least"),
        ):  # fmt: skip
            self.assertIn(word, problem_of(self, codec_named, "table-adpcm", frozen(how)).what)
