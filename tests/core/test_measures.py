"""Loudness, figures, drawings, and what is written into sound files."""

import shutil
import subprocess
from dataclasses import replace
from math import radians
from unittest import mock

import mutagen
import numpy as np
import soundfile
import soxr
from django.test import SimpleTestCase

from standin.make import SOURCES
from tests.support import WithFolder, noise, problem_of, source, tone
from zubret_core.audio import Style, measure, write_sound, written_format
from zubret_core.audio.alike import beginning, same_audio
from zubret_core.audio.loudness import Loudness
from zubret_core.audio.measure import likely_kind
from zubret_core.audio.riff import notes_of
from zubret_core.audio.spectrum import frequencies, spectrogram
from zubret_core.audio.waveform import FINEST, drawn, read_waveform, sketched, write_waveform
from zubret_core.bank import Stream
from zubret_core.bank.base import OnePayload
from zubret_core.base import Cancelled, Format, Loop, ZubretError
from zubret_core.codec import codec_of
from zubret_core.extract import SoundItem, checked_template, export_sounds, named
from zubret_core.source import FileSource


def sines(*parts, rate=48000, channels=2, hz=1000.0):
    """A sine of 1 kHz, its levels in dBFS (of its peak) and seconds given one after the other."""
    return np.concatenate([tone(seconds, rate, hz, channels, 10 ** (level / 20)) for level, seconds in parts])


def metered(pcm, rate=48000, piece=50_001):
    meter = Loudness(rate, pcm.shape[1])
    for at in range(0, len(pcm), piece):
        meter.add(pcm[at : at + piece], last=at + piece >= len(pcm))
    return meter


class EbuTechTests(SimpleTestCase):
    """EBU Tech 3341 (2023), table 1, and Tech 3342, section 4: the signals synthesised as they specify."""

    def test_integrated_loudness_within_a_tenth(self):
        cases = [
            (-23, sines((-23, 20))),
            (-33, sines((-33, 20))),
            (-23, sines((-36, 10), (-23, 60), (-36, 10))),
            (-23, sines((-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10))),
            (-23, sines((-26, 20), (-20, 20.1), (-26, 20))),
            (-23, np.hstack([sines((-28, 20)), sines((-24, 20), channels=1), np.zeros((960_000, 1), np.float32),
                             sines((-30, 20))])),
        ]  # fmt: skip
        for number, (wanted, pcm) in enumerate(cases, 1):
            self.assertAlmostEqual(metered(pcm).integrated, wanted, delta=0.1, msg=f"test signal {number}")
        for rate in (8000, 22050, 44100, 96000):
            self.assertAlmostEqual(metered(sines((-23, 20), rate=rate), rate).integrated, -23, delta=0.1, msg=rate)

    def test_loudness_range_within_one(self):
        for wanted, levels in ((10, (-20, -30)), (5, (-20, -15)), (20, (-40, -20)), (15, (-50, -35, -20, -35, -50))):
            self.assertAlmostEqual(metered(sines(*((level, 20) for level in levels))).range, wanted, delta=1)

    def test_true_peak_within_two_and_four_tenths(self):
        """Test signals 15 to 19: sines at a quarter, a sixth and an eighth of the rate, which no sample meets at its top."""
        t = np.arange(48_000)
        ramp = np.minimum(1, np.minimum(t, t[::-1]) / 2400)
        for level, divided, phase in ((-6, 4, 0), (-6, 4, 45), (-6, 6, 60), (-6, 8, 67.5), (3, 4, 45)):
            amplitude = 0.5 if level == -6 else 1.41
            wave = amplitude * np.sin(2 * np.pi * t / divided + radians(phase)) * ramp
            peak = metered(np.repeat(wave[:, None], 2, axis=1).astype(np.float32)).true_peak
            self.assertTrue(level - 0.4 <= peak <= level + 0.2, (level, divided, peak))

    def test_silence_and_the_shortest(self):
        self.assertIsNone(metered(np.zeros((48_000, 1), np.float32)).integrated)
        self.assertIsNone(metered(sines((-20, 0.3))).integrated)
        self.assertIsNone(metered(sines((-20, 2))).range)


class Figures(SimpleTestCase):
    def test_head_tail_offset_and_peak(self):
        pcm = np.concatenate([np.zeros((500, 1)), tone(1, 8000, 200) + 0.25, np.zeros((900, 1))]).astype(np.float32)
        format = Format("pcm", 8000, 1, len(pcm))
        found = measure(lambda at, n: pcm[at : at + n], format)
        self.assertEqual((found.head, found.tail, found.frames), (500, 900, 9400))
        self.assertAlmostEqual(found.peak, 20 * np.log10(0.75), places=2)
        self.assertAlmostEqual(found.dc, 0.25 * 8000 / 9400, places=3)

    def test_kinds_are_guessed_with_reasons(self):
        """Spoken lines, music and effects of the demo's own making."""
        for kind, make, rate, loop, language in (
            ("voice", lambda: soundfile.read(SOURCES / "de_05.ogg", dtype="int16", always_2d=True)[0], 24000, None, ""),
            ("voice", lambda: noise(9000), 24000, None, "German"),
            ("music", lambda: noise(48000 * 50, 2), 48000, Loop(5, 48000 * 50), ""),
            (
                "effect",
                lambda: (tone(1, 24000, 900) * np.exp(-np.arange(24000) / 2400)[:, None]).astype("f4"),
                24000,
                None,
                "",
            ),
        ):
            pcm = make()
            format = Format("pcm16", rate, pcm.shape[1], len(pcm), loop)
            found = measure(lambda at, n, pcm=pcm: pcm[at : at + n], format, language)
            self.assertEqual(found.kind, kind, found.reasons)
            self.assertTrue(found.reasons)
        short = Format("pcm16", 24000, 1, 24000)
        for path, kind in (
            ("data/sea.crate/deck/deck.bell", "effect"),
            ("VO/deck/call_01.wav", "voice"),
            ("voice/SFX_door.wav", "effect"),
            ("Data/MusicStems/a.wav", "music"),
        ):
            self.assertEqual(likely_kind(short, path=path), kind, path)  # the word nearest to the sound counts

    def test_the_same_audio_is_known_at_another_rate_level_and_codec(self):
        pcm = soundfile.read(SOURCES / "en_05.ogg", dtype="float32", always_2d=True)[0]
        other = soundfile.read(SOURCES / "en_06.ogg", dtype="float32", always_2d=True)[0]
        slower = soxr.resample(pcm, 24000, 16000) * np.float32(0.3)
        coded = Format("ima-adpcm", 16000, 1, len(slower), None, 256)
        payload = source(codec_of(coded).encode(slower, coded))

        def begin(samples, rate):
            return beginning(lambda at, n: samples[at : at + n], Format("pcm", rate, 1, len(samples)))

        def there(at, n):
            return codec_of(coded).decode(payload, coded, at, n)

        self.assertTrue(same_audio(begin(pcm, 24000), 24000, there, coded))
        self.assertFalse(same_audio(begin(other, 24000), 24000, there, coded))
        self.assertFalse(same_audio(begin(pcm * 0, 24000), 24000, there, coded))

    def test_waveforms_from_every_level_are_those_of_the_samples(self):
        place = WithFolder
        pcm = noise(400_003, 2)
        format = Format("pcm16", 8000, 2, len(pcm))

        def decode(at, n):
            return pcm[at : at + n]

        case = place()
        case.setUp()
        self.addCleanup(case.doCleanups)
        file = case.folder / "a.wave"
        write_waveform(file, decode, format)
        for start, frames, bins in (
            (0, 400_003, 50),
            (0, 400_003, 390),
            (FINEST * 8, FINEST * 160, 160),
            (0, 399_360, 97),
        ):
            kept = read_waveform(file, format, start, frames, bins)
            edges = np.linspace(start, start + frames, bins + 1)
            for n in (0, bins // 2, bins - 1):
                inside = pcm[int(edges[n]) : int(np.ceil(edges[n + 1]))]
                self.assertTrue(
                    (kept[n, :, 0] <= inside.min(axis=0)).all() and (kept[n, :, 1] >= inside.max(axis=0)).all()
                )
                wide = pcm[max(0, int(edges[n]) - 16384) : int(edges[n + 1]) + 16384]
                self.assertTrue((kept[n, :, 0] >= wide.min(axis=0)).all() and (kept[n, :, 1] <= wide.max(axis=0)).all())
        self.assertIsNone(read_waveform(file, format, 0, 1000, 100))
        near = drawn(decode, format, 77, 50, 50)
        np.testing.assert_array_equal(near[:, 0, 0], pcm[77:127, 0])
        self.assertEqual(sketched(decode, format, 0, 400_003, 500).shape, (500, 2, 2))

    def test_a_sine_stands_at_its_row_of_the_spectrogram(self):
        pcm = tone(2, 48000, 1000, 1, 1.0)
        format = Format("pcm", 48000, 1, len(pcm))
        levels = spectrogram(lambda at, n: pcm[at : at + n], format, 0, len(pcm), 20)
        row = int(np.argmax(levels[10]))
        self.assertAlmostEqual(frequencies(48000, levels.shape[1])[row], 1000, delta=60)
        self.assertGreater(levels[10, row], 250)
        far = spectrogram(lambda at, n: pcm[at : at + n], format, 0, len(pcm), 2)
        self.assertEqual(int(np.argmax(far[1])), row)


class SoundFiles(WithFolder):
    def setUp(self):
        super().setUp()
        self.pcm = noise(30_000, 2, 9000)
        self.format = Format("pcm16", 44100, 2, 30_000, Loop(10_000, 30_000))

    def write(self, kind, name, **how):
        place = self.folder / name
        write_sound(place, lambda at, n: self.pcm[at : at + n], self.format, Style(kind, **how), {"title": "Tūī"})
        return place

    def test_loops_cues_and_texts_are_read_by_others_and_by_us(self):
        """RIFF (1991), `LIST` of INFO, `cue `; read by sox, mutagen and libsndfile."""
        place = self.write("wav", "a.wav", tags=(("album", "A ferry"), ("track", "7")))
        told = subprocess.run(["sndfile-info", place], capture_output=True, text=True, check=True).stdout
        self.assertIn("A ferry", told)
        self.assertIn("29999", told)
        self.assertEqual(subprocess.run(["soxi", "-s", place], capture_output=True, text=True).stdout.strip(), "30000")
        with FileSource(place) as file:
            notes = notes_of(file)
        self.assertEqual(notes.loop, Loop(10_000, 30_000))
        self.assertEqual(notes.cues, [(10_000, "loop start"), (30_000, "loop end")])
        self.assertEqual(notes.info, {"title": "Tūī", "album": "A ferry", "track": "7"})
        for kind in ("ogg", "flac", "opus"):
            tags = mutagen.File(self.write(kind, f"a.{kind}"))
            scale = 48000 / 44100 if kind == "opus" else 1
            self.assertEqual(tags["title"], ["Tūī"])
            self.assertAlmostEqual(int(tags["LOOPSTART"][0]), 10_000 * scale, delta=1)
            self.assertAlmostEqual(int(tags["LOOPLENGTH"][0]), 20_000 * scale, delta=1)

    def test_several_loops_and_damaged_chunks(self):
        words = (0, 0, 0, 60, 0, 0, 0, 3, 0) + (1, 1, 5, 9, 0, 0) + (2, 0, 100, 199, 0, 0) + (3, 2, 7, 8, 0, 0)
        smpl = b"smpl" + (4 * len(words)).to_bytes(4, "little") + np.array(words, "<u4").tobytes()
        notes = notes_of(source(b"RIFF\0\0\0\0WAVE" + smpl))
        self.assertEqual([way for _, way in notes.loops], ["forward and back", "forward", "backward"])
        self.assertEqual(notes.loop, Loop(100, 200))
        for cut in range(12, 12 + len(smpl), 7):
            notes_of(source((b"RIFF\0\0\0\0WAVE" + smpl)[:cut]))

    def test_a_loop_played_out_and_a_level(self):
        style = Style("wav", plays=3, fade=0.25)
        want = written_format(self.format, style)
        back, _ = soundfile.read(self.write("wav", "b.wav", plays=3, fade=0.25), dtype="int16", always_2d=True)
        self.assertEqual(len(back), want.frames)
        np.testing.assert_array_equal(back[30_000:50_000], self.pcm[10_000:])
        np.testing.assert_array_equal(back[50_000:70_000], self.pcm[10_000:])
        self.assertLess(np.abs(back[-200:]).max(), 200)
        loud, _ = soundfile.read(self.write("flac", "c.flac", loudness=-8.0), always_2d=True)
        meter = metered(loud.astype(np.float32), 44100)
        self.assertLessEqual(meter.true_peak, -0.9)
        self.assertGreater(np.abs(loud).max(), np.abs(self.pcm).max() / 32768)
        for how in ({"kind": "mp3"}, {"plays": 200}, {"loudness": 5.0}, {"kind": "stored", "plays": 1}):
            problem_of(self, Style, **how)

    def test_what_is_stored_keeps_its_bytes(self):
        for format in (Format("ima-adpcm", 22050, 2, 4000, None, 512), Format("ms-adpcm", 22050, 1, 4000, None, 256),
                       Format("g711-mu", 8000, 1, 4001), Format("pcm16", 8000, 2, 4000, Loop(10, 900))):  # fmt: skip
            pcm = self.pcm[:4001, : format.channels][: format.frames]
            payload = source(codec_of(format).encode(pcm, format))
            place = self.folder / "stored.wav"
            write_sound(place, None, format, Style("stored"), {}, payload)
            with soundfile.SoundFile(place) as file:
                theirs = file.read(format.frames, dtype="int16", always_2d=True)
            ours = codec_of(format).decode(payload, format, 0, format.frames)
            np.testing.assert_array_equal(theirs[: len(ours)], ours, err_msg=format.codec)

    def test_a_cancelled_or_killed_export_goes_on(self):
        """What is whole is kept, what is not is gone, and going on writes only what is missing."""
        items = [SoundItem(n, f"s {n}", self.format, f"{n}.flac") for n in range(40)]
        payload = source(self.pcm.tobytes())
        stream = Stream(0, "0", "", self.format, 0, payload.size, "", OnePayload(payload))

        def stop(done, total, note):
            if done > 8 * self.format.frames:
                raise Cancelled

        with self.assertRaises(Cancelled):
            export_sounds(items, self.folder, lambda item: stream, Style("flac"), progress=stop)
        self.assertEqual(list(self.folder.glob("*part")), [])
        there = {p.name for p in self.folder.glob("*.flac")}
        self.assertTrue(4 < len(there) < 40)
        report = export_sounds(items, self.folder, lambda item: stream, Style("flac"), playlist=True)
        self.assertEqual((report.files + report.skipped, report.failed), (40, []))
        self.assertGreaterEqual(report.skipped, 5)
        self.assertEqual(
            (self.folder / "playlist.m3u8").read_text().splitlines()[:3], ["#EXTM3U", "#EXTINF:1,0", "0.flac"]
        )
        # Another style is another file: all are written again, and nothing else is touched.
        other = export_sounds(items[:3], self.folder, lambda item: stream, Style("flac", loudness=-20.0))
        self.assertEqual((other.files, other.skipped), (3, 0))
        # One that takes long tells how far it is.
        long = SoundItem(
            99, "s 99", replace(self.format, rate=48000, channels=1, frames=48000 * 80, loop=None), "99.opus"
        )
        quiet = source(bytes(2 * long.format.frames))
        stream = Stream(0, "0", "", long.format, 0, quiet.size, "", OnePayload(quiet))
        told: list[float] = []
        export_sounds([long], self.folder, lambda item: stream, Style("opus", loudness=-20.0),
                      progress=lambda done, total, note: told.append(done / total))  # fmt: skip
        self.assertTrue(any(0 < share < 1 for share in told), told)
        self.assertEqual(told, sorted(told))
        little = mock.patch("shutil.disk_usage", return_value=shutil.disk_usage("/")._replace(free=10))
        with self.assertRaises(ZubretError), little:
            export_sounds(items, self.folder / "elsewhere", lambda item: stream, Style())
        self.assertFalse((self.folder / "elsewhere").exists())

    def test_names_by_template(self):
        facts = {"bank": "a/b", "id": "7", "name": "", "number": 3, "entry": "x/y"}
        for template, wanted in (("{bank}/{id} {name}", "a_b/7"), ("{number:4} - {name}", "0003"), ("{entry}_{id}", "x/y_7"),
                                 ("{name}", "7"), ("{name}/{name}/{id}", "7")):  # fmt: skip
            self.assertEqual(named(checked_template(template), facts), wanted)
        for wrong in ("", "{nothing}", "{bank", "}{", "{bank.__class__}", "x" * 400):
            problem_of(self, checked_template, wrong)
