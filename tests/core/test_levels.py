"""Loudness that is matched, on what the game will hear, by two other implementations, each a code base of its own.

Sources: the media library's filter for EBU R 128 (loudness and true peak after ITU-R BS.1770), and libebur128 (the same), through
pyebur128.
"""

import av
import numpy as np
import pyebur128

from tests.support import WithFolder, noise, tone, wav_file
from zubret_core.audio import look_through
from zubret_core.bank.base import OnePayload, Stream
from zubret_core.base import Format
from zubret_core.codec import CODECS
from zubret_core.source import BytesSource, FileSource
from zubret_core.swap import Prepared, Treatment, fit_report, level_of, prepare

RATE = 48_000
SWELL = np.linspace(0.2, 1, 8 * RATE)[:, None]


def by_filter(pcm: np.ndarray) -> tuple[float, float]:
    """Integrated loudness in LUFS and true peak in dBTP of int16 (frames, 1 or 2 channels) at 48,000 Hz."""
    layout = "mono" if pcm.shape[1] == 1 else "stereo"
    graph, found = av.filter.Graph(), {}
    chain = (
        graph.add_abuffer(sample_rate=RATE, format="s16", layout=layout),
        graph.add("ebur128", "metadata=1:peak=true"),
    )
    sink = graph.add("abuffersink")
    chain[0].link_to(chain[1])
    chain[1].link_to(sink)
    graph.configure()
    frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(pcm.reshape(1, -1)), format="s16", layout=layout)
    frame.sample_rate = RATE
    chain[0].push(frame)
    chain[0].push(None)
    peak = 0.0
    while True:
        try:
            found = sink.pull().metadata
        except (av.EOFError, av.BlockingIOError):
            return float(found["lavfi.r128.I"]), 20 * np.log10(peak)
        peak = max(peak, float(found["lavfi.r128.true_peak"]))


def by_library(pcm: np.ndarray, rate: int) -> tuple[float, float]:
    """The same by libebur128, at any rate."""
    modes = pyebur128.MeasurementMode
    state = pyebur128.R128State(pcm.shape[1], rate, modes.MODE_I | modes.MODE_TRUE_PEAK)
    state.add_frames(np.ascontiguousarray(pcm.reshape(-1)), len(pcm))
    peak = max(pyebur128.get_true_peak(state, channel) for channel in range(pcm.shape[1]))
    return pyebur128.get_loudness_global(state), 20 * np.log10(peak)


def stream(codec: str, pcm: np.ndarray) -> Stream:
    """A stream of a bank, stored by a codec."""
    format = Format(codec, RATE, pcm.shape[1], len(pcm), None, 2048 if codec == "ima-adpcm" else 0)
    payload = CODECS[codec].encode(pcm, format)
    return Stream(0, "", "", format, 0, len(payload), "", OnePayload(BytesSource(payload)))


class Matched(WithFolder):
    def swapped(self, original: Stream, pcm: np.ndarray, **steps) -> tuple[Prepared, str]:
        """A replacement of an original, and what the report says of its loudness."""
        format, how = original.format, Treatment(**steps)
        level = level_of([original.decode(0, format.frames)], RATE, format.channels)
        with FileSource(wav_file(self.folder / "new.wav", pcm, RATE, "FLOAT")) as file:
            info = look_through(file)
            made = prepare(original, file, info, how, fit_report(original, level, info, how))
        report = fit_report(original, level, info, how, made.made)
        return made, next(p.action for p in report.points if p.key == "loudness")

    def test_it_is_as_loud_as_the_original_or_as_a_number(self):
        music = (noise(8 * RATE, 2, 3000) * SWELL).astype(np.int16)
        for codec in ("pcm", "ima-adpcm"):
            original = stream(codec, music)
            theirs, _ = by_filter(original.decode(0, len(music)))
            for steps, wanted in (({"match": "original"}, theirs), ({"match": "number", "lufs": -30.0}, -30.0)):
                made, said = self.swapped(original, tone(8, RATE, 440, 2, 0.7) * SWELL[::-1], **steps)
                heard = made.heard(0, made.format.frames)
                for loudness, _ in (by_filter(heard), by_library(heard, RATE)):
                    self.assertAlmostEqual(loudness, wanted, delta=0.1, msg=(codec, steps))
                self.assertIn(f"matched by −{-made.gain_db:.1f} dB", said)

    def test_the_ceiling_holds_in_what_is_heard(self):
        original = stream("ima-adpcm", tone(4, RATE, 997, 1, 0.9).astype(np.float32))
        clicks = np.zeros((4 * RATE, 1), np.float32)
        clicks[:: RATE // 40] = 0.5  # a high peak for so little loudness
        for ceiling in (-1.0, -6.0):
            made, said = self.swapped(original, clicks, match="original", ceiling_db=ceiling)
            heard = made.heard(0, made.format.frames)
            for _, peak in (by_filter(heard), by_library(heard, RATE)):
                self.assertLess(peak, ceiling + 0.2)
            self.assertGreater(made.level.true_peak, ceiling - 1)
            self.assertIn("allows no more", said)

    def test_a_short_line_is_compared_without_gates(self):
        pause = np.zeros((RATE, 1), np.float32)
        original = stream("pcm", (tone(1, RATE, 300, 1, 0.2) * 32767).astype(np.int16))
        made, said = self.swapped(original, np.concatenate([tone(1, RATE, 300, 1, 0.4), pause]), match="original")
        self.assertIn("without gates", said)
        # Half of it is silent, so that what sounds is twice as strong for the same mean: 10 lg 2 dB.
        heard = made.heard(0, RATE).astype(float)
        ratio = np.sqrt((heard**2).mean() / (original.decode(0, RATE).astype(float) ** 2).mean())
        self.assertAlmostEqual(20 * np.log10(ratio), 10 * np.log10(2), delta=0.05)

    def test_silence_is_left_alone_and_the_original_by_itself_keeps_its_bytes(self):
        original = stream("ima-adpcm", (tone(4, RATE, 997, 1, 0.5) * 32767).astype(np.int16))
        made, said = self.swapped(original, np.zeros((4 * RATE, 1), np.float32), match="original")
        self.assertEqual((made.gain_db, said), (0.0, "nothing to be measured"))
        quiet, said = self.swapped(original, tone(4, RATE, 997, 1, 0.1))
        self.assertIn("LU quieter: match the original's", said)
        self.assertEqual(quiet.gain_db, 0)
        level = level_of([original.decode(0, original.format.frames)], RATE, 1)
        how = Treatment(match="original")
        info = look_through(FileSource(wav_file(self.folder / "own.wav", original.decode(0, 4 * RATE), RATE)))
        own = prepare(original, None, info, how, fit_report(original, level, info, how))
        self.assertIs(own.payload, original.payload)

    def test_what_is_shorter_than_any_block_has_a_loudness(self):
        for frames in (1, 400, RATE // 10 + 7):
            pcm = np.full((frames, 1), 0.25, np.float32)
            pcm[1::2] *= -1  # half the sampling rate: the shelf's gain, and nothing of the high-pass
            self.assertGreater(level_of([pcm], RATE, 1).ungated, -70)
        self.assertIsNone(level_of([], RATE, 1).ungated)
