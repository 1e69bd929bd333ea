"""What is done to a replacement, against what is worked out by hand and by libraries of their own.

Sources: the media library's filter for EBU R 128 (`by_filter`) and libebur128 (`by_library`); soxr for the true peak at four times the rate (ITU-R BS.1770-5, annex
2); ITU-R BS.775-4, annex 4, table 2, for the mix down.
"""

import numpy as np
import soxr

from tests.core.test_levels import RATE, by_filter, by_library, stream
from tests.support import WithFolder, noise, problem_of, tone, wav_file
from zubret_core.audio import encoded_file, look_through
from zubret_core.audio.mix import mixed
from zubret_core.bank.base import OnePayload, Stream
from zubret_core.base import Format, Loop, ZubretError
from zubret_core.codec import codec_of
from zubret_core.source import FileSource
from zubret_core.swap import FitReport, Prepared, Treatment, fit_report, level_of, prepare, target_of

PLAYED_OUT = {"loop": "points", "loop_start": 3000, "loop_end": 12_345}


def line(seconds: float, channels: int = 1, keeps: tuple[str, ...] = ()) -> Stream:
    """A stream of noise in 16 bits that plays once."""
    original = stream("pcm", noise(round(seconds * RATE), channels, 3000))
    original.keeps = keeps
    return original


class WithFile(WithFolder):
    def made(self, original: Stream, pcm: np.ndarray, rate: int = RATE, **steps) -> tuple[Prepared, dict[str, str]]:
        """A replacement of an original by a file, and what the report says of each point."""
        how = Treatment.from_dict(steps)
        level = level_of([original.decode(0, original.format.frames)], original.format.rate, original.format.channels)
        with FileSource(wav_file(self.folder / "new.wav", pcm, rate, "FLOAT")) as file:
            info = look_through(file)
            self.report: FitReport = fit_report(original, level, info, how)
            made = prepare(original, file, info, how, self.report)
        report = fit_report(original, level, info, how, made.made)
        return made, {p.key: p.action for p in report.points}

    def heard(self, original: Stream, pcm: np.ndarray, **steps) -> np.ndarray:
        """What is heard of it, in [-1, 1)."""
        made, self.said = self.made(original, pcm, **steps)
        return made.heard(0, made.format.frames).astype(np.float64) / 32768


class Heard(WithFile):
    def setUp(self):
        super().setUp()
        self.pcm = noise(20_000, 2, 9000, seed=3).astype(np.float32) / 32768
        self.original = line(1, 2)

    def assert_same(self, heard: np.ndarray, wanted: np.ndarray) -> None:
        """To half a step of 16 bits."""
        self.assertEqual(len(heard), len(wanted))
        self.assertLess(np.abs(heard - wanted).max(), 0.51 / 32768)

    def test_a_loop_that_is_played_out_is_its_passes_behind_one_another(self):
        head, body, rest = self.pcm[:3000], self.pcm[3000:12_345], self.pcm[12_345:]
        for times in (1, 2, 5):
            heard = self.heard(
                self.original, self.pcm, **PLAYED_OUT, extend="times", extend_times=times, extend_end="rest"
            )
            np.testing.assert_array_equal(heard, np.concatenate([head, *[body] * times, rest]))
        self.assertIn("its loop 5 times", self.said["edit"])
        made, _ = self.made(self.original, self.pcm, **PLAYED_OUT, extend="length", extend_seconds=310.0)
        self.assertIsNone(made.format.loop)
        self.assertTrue(0 <= made.format.frames - 310 * RATE < len(body))
        again = made.heard(made.format.frames - len(body), len(body)).astype(np.float32) / 32768
        np.testing.assert_array_equal(again, body)

    def test_it_fades_out_while_the_loop_goes_on(self):
        fade = 12_000  # longer than a pass
        body = self.pcm[3000:12_345]
        whole = np.concatenate([self.pcm[:3000], *[body] * 4]).astype(np.float64)[: 3000 + 2 * len(body) + fade]
        whole[-fade:] *= (np.arange(fade, 0, -1) / fade)[:, None]
        steps = {"extend": "times", "extend_times": 2, "extend_end": "fade", "fade_out": fade / RATE}
        self.assert_same(self.heard(self.original, self.pcm, **PLAYED_OUT, **steps), whole)

    def test_a_part_with_its_fades(self):
        part = self.pcm[1000:9000].astype(np.float64)
        part[:480] *= (np.arange(480) / 480)[:, None]
        part[-960:] *= (np.arange(960, 0, -1) / 960)[:, None]
        steps = {"trim_start": 1000, "trim_end": 9000, "fade_in": 0.01, "fade_out": 0.02, "loop": "none"}
        self.assert_same(self.heard(self.original, self.pcm, **steps), part)

    def test_the_end_of_a_loop_is_blended_into_what_is_before_its_start(self):
        """As much power everywhere: cos² and sin² of a quarter turn."""
        frames = 480
        way = (np.arange(1, frames + 1) / (frames + 1) * np.pi / 2)[:, None]
        wanted = self.pcm.astype(np.float64)
        wanted[12_345 - frames : 12_345] *= np.cos(way)
        wanted[12_345 - frames : 12_345] += self.pcm[3000 - frames : 3000] * np.sin(way)
        looping = stream("pcm", noise(RATE, 2))
        looping.format = looping.format.with_(loop=Loop(0, 1000))
        self.assert_same(self.heard(looping, self.pcm, **PLAYED_OUT, declick_ms=10.0), wanted)
        self.assertIn("blended for 10.0 ms", self.said["loop"])
        self.heard(looping, self.pcm, loop="whole", declick_ms=10.0)
        self.assertIn("nothing is before its start", self.said["loop"])
        played = self.heard(self.original, self.pcm, **PLAYED_OUT, declick_ms=10.0, extend="times", extend_end="rest")
        self.assert_same(played, np.concatenate([wanted[:12_345], self.pcm[3000:]]))

    def test_a_loop_is_taken_over_from_the_original_at_the_same_times(self):
        looping = stream("pcm", noise(RATE, 2))
        looping.format = looping.format.with_(loop=Loop(4800, 9600))
        made, _ = self.made(looping, self.pcm, 24_000, loop="original", resample=True)
        self.assertEqual((made.format.rate, made.format.loop), (RATE, Loop(4800, 9600)))

    def test_a_loop_is_taken_over_at_the_same_beats_and_so_are_further_ones(self):
        first, *more = loops = Loop(4000, 12_000), Loop(1000, 2500), Loop(13_000, 15_000)
        original = line(1, 2)
        original.format = original.format.with_(codec="file", variant="WAV/PCM_16", loop=first, more=tuple(more))
        steps = {"loop": "original", "loop_scale": 0.75, "more_loops": "original"}
        with FileSource(wav_file(self.folder / "new.wav", self.pcm, RATE, "PCM_16")) as file:
            info = look_through(file)
        for start, how in ((0, steps), (500, {**steps, "trim_start": 500})):
            format = target_of(original.format, info, Treatment.from_dict(how)).format
            at = [(round(x.start * 0.75) - start, round(x.length * 0.75)) for x in loops]
            self.assertEqual([(x.start, x.length) for x in (format.loop, *format.more)], at)
        stored = encoded_file(iter([self.pcm]), format)
        self.assertEqual(look_through(stored).more, format.more)
        self.assertEqual(Format.from_dict(format.as_dict()), format)
        told = {
            p.key: p for p in fit_report(original, level_of([self.pcm], RATE, 2), info, Treatment(loop="whole")).points
        }
        self.assertEqual(told["more_loops"].fix, {"more_loops": "original"})

    def test_silence_at_both_ends_is_found_and_cut_at_any_threshold(self):
        pcm = np.zeros((300_000, 2), np.float32)  # longer than what is read at once
        pcm[5000:290_000, 1] = 10 ** (-59.9 / 20)
        pcm[7000:270_001, 0] = 10 ** (-39.9 / 20)
        for threshold, (start, end) in ((-90, (5000, 290_000)), (-60, (5000, 290_000)), (-40, (7000, 270_001))):
            heard = self.heard(self.original, pcm, cut_silence=True, silence_db=threshold, loop="none")
            self.assert_same(heard, pcm[start:end].astype(np.float64))
        self.assertIn("without what is below −40 dBFS".replace("−", "-"), self.said["edit"])
        with self.assertRaises(ZubretError):
            self.heard(self.original, pcm, cut_silence=True, silence_db=-30)
        self.assertIn("Nothing in the part that is used reaches -30 dBFS", self.report.points[0].action)


class Fitted(WithFile):
    def test_the_tempo_changes_and_the_pitch_does_not(self):
        """Test tones: within 3 cents, and to the frame as long as was asked."""
        for channels, tempo in ((1, 0.7), (1, 1.5), (2, 1.25), (6, 0.9)):
            heard = self.heard(line(1, channels), tone(3, RATE, 440, channels), tempo=tempo)
            self.assertEqual(len(heard), round(3 * RATE / tempo))
            middle = heard[RATE // 2 : -RATE // 2, 0]
            bins = np.abs(np.fft.rfft(middle * np.hanning(len(middle)), 1 << 21))
            found = bins.argmax() * RATE / (1 << 21)
            self.assertLess(abs(1200 * np.log2(found / 440)), 3, (channels, tempo))
            self.assertIn(f"played {tempo:.3f} times as fast", self.said["length"])

    def test_a_length_that_must_stay_is_met_by_the_end_or_by_the_tempo(self):
        original = line(2.5, 1, ("length",))
        for seconds, length, behind in ((2, "end", RATE // 2), (3, "end", 0), (3, "tempo", 0), (2, "tempo", 0)):
            heard = self.heard(original, tone(seconds, 44_100, 300), rate=44_100, resample=True, length=length)
            self.assertEqual(len(heard), 2.5 * RATE, (seconds, length))
            self.assertEqual(bool(heard[-behind:].any()), not behind, (seconds, length))
        with FileSource(wav_file(self.folder / "long.wav", tone(4, RATE, 300), RATE)) as file:
            info = look_through(file)
        self.assertIn(
            "1.60 times as fast", problem_of(self, target_of, original.format, info, Treatment(length="tempo")).what
        )
        report = fit_report(original, level_of([], RATE, 1), info, Treatment())
        self.assertEqual(report.fix_all(), {"length": "end"})
        loops = Treatment(loop="whole", tempo=1.1)
        self.assertIn("tempo", problem_of(self, target_of, original.format, info, loops).where)

    def test_channels_go_by_the_usual_matrix_or_by_a_given_one(self):
        pcm = noise(500, 6, 9000, seed=5).astype(np.float32) / 32768
        left, right, centre, _, back_left, back_right = pcm.T
        half = np.sqrt(0.5)
        down = np.stack([left + half * centre + half * back_left, right + half * centre + half * back_right], 1)
        np.testing.assert_allclose(mixed(pcm, 2), down / (1 + 2 * half), atol=1e-6)
        one = half * (left + right) + centre + 0.5 * (back_left + back_right)
        np.testing.assert_allclose(mixed(pcm, 1)[:, 0], one / (2 * half + 2), atol=1e-6)
        up = mixed(pcm[:, :1], 8)
        self.assertTrue((up[:, 2] == left).all() and not np.delete(up, 2, 1).any())
        crossed = self.heard(line(1, 2), pcm[:, :2], mix=True, matrix=((0.0, 1.0), (0.5, 0.0)))
        np.testing.assert_allclose(crossed, pcm[:, 1::-1] * (1, 0.5), atol=0.51 / 32768)
        with self.assertRaises(ZubretError):
            self.made(line(1, 2), pcm, mix=True, matrix=((1.0,), (1.0,)))

    def test_what_can_not_be_meant_is_refused_with_its_name(self):
        for bad in ({"tempo": 2.0}, {"matrix": [[9.0]]}, {"extend": "for ever"}, {"fade_in": float("nan")}):
            self.assertIn(next(iter(bad)), problem_of(self, Treatment.from_dict, bad).where)


class Whole(WithFile):
    def test_a_file_of_more_than_16_bits_keeps_them(self):
        faint = tone(1, RATE, 440, 1, 1e-5)
        for variant, finest in (("WAV/PCM_24", 2**-23), ("FLAC/PCM_24", 2**-23), ("WAV/FLOAT", 1e-9)):
            original = line(1)
            original.format = Format("file", RATE, 1, RATE, variant=variant)
            original.payloads = OnePayload(encoded_file([faint * 2], original.format))
            with FileSource(wav_file(self.folder / "new.wav", faint, RATE, "FLOAT")) as file:
                info, how = look_through(file), Treatment(fade_in=0.25)
                made = prepare(original, file, info, how, fit_report(original, level_of([], RATE, 1), info, how))
            heard = codec_of(made.format).decode(made.payload, made.format, RATE // 2, 4000)
            np.testing.assert_allclose(heard, faint[RATE // 2 :][:4000], atol=finest)


class Limited(WithFile):
    def test_a_limiter_lets_loudness_be_reached_and_keeps_the_peaks_down(self):
        music = tone(6, RATE, 997, 2, 0.5)
        peaky = tone(6, RATE, 440, 2, 0.05) + (noise(6 * RATE, 2, 300, 9) / 32768).astype(np.float32)
        peaky[:: RATE // 5] += 0.6
        for codec in ("pcm", "ima-adpcm"):
            original = stream(codec, (music * 32767).astype(np.int16))
            held, said = self.made(original, peaky, match="number", lufs=-14.0, ceiling_db=-3.0)
            self.assertIn("allows no more", said["loudness"])
            made, said = self.made(original, peaky, match="number", lufs=-14.0, ceiling_db=-3.0, limit=True)
            heard = made.heard(0, made.format.frames)
            for loudness, peak in (by_filter(heard), by_library(heard, RATE)):
                self.assertAlmostEqual(loudness, -14.0, delta=0.1)
                self.assertLess(peak, -3.0 + 0.2)
            self.assertLess(by_filter(held.heard(0, held.format.frames))[0], -18)
            finer = soxr.resample(heard.astype(np.float32) / 32768, RATE, 4 * RATE, "VHQ")
            self.assertLess(20 * np.log10(np.abs(finer).max()), -3.0 + 0.2)
            self.assertIn(f"turned down by {made.limited_db:.1f} dB at most", said["limiter"])
            self.assertGreater(made.limited_db, 5)

    def test_what_is_below_the_ceiling_is_left_as_it_is(self):
        pcm = tone(3, RATE, 440, 1, 0.25)
        pcm[RATE] = 0.99
        heard = self.heard(line(1), pcm, limit=True, ceiling_db=-6.0)
        far = np.abs(np.arange(len(pcm)) - RATE) > RATE // 2
        np.testing.assert_allclose(heard[far], pcm[far], atol=1e-3)
        self.assertLess(np.abs(heard).max(), 10 ** (-5.99 / 20))
