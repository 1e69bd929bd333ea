"""Audio files with loops, resampling, mixing, peaks: against standards and independent readers."""

import io
import random
import re
import struct
import subprocess

import mutagen
import numpy as np
import soundfile
import soxr
from django.test import SimpleTestCase

from tests.support import WithFolder, bytes_of, files_end_at, noise, problem_of, source, tone, wav_file
from zubret_core.audio import (
    Style,
    can_mix,
    carried,
    encoded_file,
    look_through,
    mixed,
    peaks,
    pieces_between,
    resampled,
    write_sound,
)
from zubret_core.audio.files import file_format, wav_source
from zubret_core.audio.riff import info_chunk, plain_format, smpl_chunk, wav_header
from zubret_core.base import Format, Loop, ZubretError, to_int16
from zubret_core.base.pcm import decibels
from zubret_core.codec import codec_of
from zubret_core.locate import kind_of
from zubret_core.source import BytesSource, FileSource


class Failing(BytesSource):
    """Bytes on a drive that gives up behind some of them."""

    def _read(self, at: int, length: int) -> bytes:
        if at + length > 100_000:
            raise ZubretError("The drive gave it up.", file=self.name, next="Copy the file elsewhere.")
        return super()._read(at, length)


class OpenFiles(WithFolder):
    """RIFF/WAVE (1991) with `smpl` (1994); Vorbis comments (Vorbis I, section 5)."""

    def setUp(self):
        super().setUp()
        self.pcm = noise(5000, 2)
        self.format = Format("pcm16", 44100, 2, 5000, Loop(1000, 4000))

    def decode(self, start, frames):
        return self.pcm[start : start + frames]

    def test_wav_loop_is_read_by_libsndfile_s_own_program(self):
        """sndfile-info prints the chunk's dwStart and dwEnd: the end is inclusive there."""
        place = self.folder / "loop.wav"
        write_sound(place, self.decode, self.format, Style())
        told = subprocess.run(["sndfile-info", place], capture_output=True, text=True, check=True).stdout
        match = re.search(r"Start :\s*(\d+)\s+End :\s*(\d+)", told)
        self.assertEqual((match[1], match[2]), ("1000", "3999"))
        back, rate = soundfile.read(place, dtype="int16")
        self.assertEqual(rate, 44100)
        np.testing.assert_array_equal(back, self.pcm)
        with FileSource(place) as file:
            self.assertEqual(file_format(file).loop, Loop(1000, 4000))

    def test_wav_bytes_are_there_at_any_place_without_the_whole(self):
        whole = wav_source(self.decode, self.format, "x.wav")
        data = whole.read(0, whole.size)
        self.assertEqual(data[: len(wav_header(self.format))], wav_header(self.format))
        for at, length in ((0, 1), (41, 9), (len(data) - 3, 3), (1001, 77)):
            self.assertEqual(whole.read(at, length), data[at : at + length])
        problem_of(self, whole.read, len(data) - 1, 2)

    def test_ogg_comments_are_read_by_mutagen_and_by_us(self):
        place = self.folder / "loop.ogg"
        write_sound(place, self.decode, self.format, Style("ogg"))
        tags = mutagen.File(place).tags
        self.assertEqual((tags["LOOPSTART"], tags["LOOPLENGTH"]), (["1000"], ["3000"]))
        with FileSource(place) as file:
            format = file_format(file)
        self.assertEqual((format.frames, format.loop), (5000, Loop(1000, 4000)))
        checked = subprocess.run(["ogginfo", place], capture_output=True, text=True)
        self.assertEqual(checked.returncode, 0, checked.stdout)
        self.assertNotIn("WARNING", checked.stdout)

    def test_loopend_is_read_too_and_nonsense_is_no_loop(self):
        for comments, loop in (
            ({"LOOPSTART": "10", "LOOPEND": "200"}, Loop(10, 200)),
            ({"LOOPSTART": "10"}, Loop(10, 300)),
            ({"LOOPSTART": "ten", "LOOPEND": "200"}, None),
            ({"LOOPSTART": "10", "LOOPLENGTH": "9000"}, None),
        ):
            place = self.folder / "x.flac"
            soundfile.write(place, self.pcm[:300], 44100)
            tags = mutagen.File(place)
            tags.update(comments)
            tags.save()
            with FileSource(place) as file:
                self.assertEqual(look_through(file).loop, loop)

    def test_every_kind_of_replacement_is_read(self):
        sound = tone(0.3, 44100, 441, 2)
        for name, options in (
            ("x.wav", {"subtype": "PCM_24"}),
            ("y.wav", {"subtype": "FLOAT"}),
            ("x.flac", {}),
            ("x.ogg", {"format": "OGG", "subtype": "VORBIS"}),
            ("x.mp3", {"format": "MP3", "subtype": "MPEG_LAYER_III"}),
        ):
            place = self.folder / name
            soundfile.write(place, sound, 44100, **options)
            with FileSource(place) as file:
                info = look_through(file)
                whole = np.concatenate(list(pieces_between(file, 0, info.frames)))
                part = np.concatenate(list(pieces_between(file, 3000, 9000)))
            self.assertEqual((info.rate, info.channels), (44100, 2), name)
            self.assertAlmostEqual(info.frames / 44100, 0.3, delta=0.06, msg=name)  # MP3 pads
            self.assertAlmostEqual(info.peak_db, -6.02, delta=1, msg=name)
            self.assertEqual(len(whole), info.frames)
            np.testing.assert_array_equal(part, whole[3000:9000])

    def test_replacements_that_are_none(self):
        broken = tone(0.1, 44100, 441)
        broken[100:103] = np.nan
        files = {
            "text.wav": b"this is only text, and not audio at all",
            "empty.wav": b"",
            "nan.wav": wav_file(self.folder / "a.wav", broken, 44100, "FLOAT").read_bytes(),
            "zero.wav": wav_file(self.folder / "b.wav", np.zeros((0, 2), np.int16), 44100).read_bytes(),
        }
        words = {"text.wav": "not an audio file", "empty.wav": "empty", "nan.wav": "Frame 100 is not a number"}
        words["zero.wav"] = "0 frames"
        for name, data in files.items():
            error = problem_of(self, look_through, source(data, name))
            self.assertIn(words[name], error.what)
            self.assertEqual(error.where, name)

    def test_what_ends_reading_is_told_as_it_is(self):
        """Through libsndfile, too: a drive that fails is no file that is cut short."""
        data = io.BytesIO()
        soundfile.write(data, noise(200_000, 2), 44100, format="FLAC")
        failing = Failing(data.getvalue())
        format = file_format(source(failing.data))
        for read in (
            lambda: look_through(failing),
            lambda: list(pieces_between(failing, 0, 200_000)),
            lambda: codec_of(format).decode(failing, format, 150_000, 100),
        ):
            self.assertEqual(problem_of(self, read).what, "The drive gave it up.")

    def test_encoded_files_carry_their_loop(self):
        for variant in (
            "WAV/PCM_16",
            "WAV/PCM_24",
            "OGG/VORBIS",
            "OGG/OPUS",
            "FLAC/PCM_16",
            "AIFF/PCM_16",
            "AIFF/PCM_24",
        ):
            format = Format("file", 48000, 2, 5000, Loop(7, 4990), variant=variant)
            data = bytes_of(encoded_file([self.pcm[:3000], self.pcm[3000:]], format))
            found = file_format(source(data))
            self.assertEqual((found.frames, found.loop, found.variant), (5000, Loop(7, 4990), variant))
            self.assertEqual(kind_of(source(data)).name, "audio")
            if variant in ("OGG/OPUS", "FLAC/PCM_16"):
                self.assertEqual(mutagen.File(io.BytesIO(data))["LOOPLENGTH"], ["4983"])
            for limit in (len(data) // 2, len(data) - 1):
                with self.assertRaises(OSError, msg=(variant, limit)), files_end_at(limit):
                    encoded_file([self.pcm[:3000], self.pcm[3000:]], format)
        with self.assertRaises(ZubretError):
            encoded_file([self.pcm], Format("file", 44100, 2, 5000, Loop(7, 4990), variant="AU/PCM_16"))

    def test_plain_wav_files_are_read_as_libsndfile_reads_them(self):
        """Files as it writes them and with other chunks, then with flipped bits, cut or longer: what is read without it has
        the format that it finds."""
        words = struct.pack("<HHIIHH", 1, 1, 8000, 16000, 2, 16)
        seeds, rng, quick = [], random.Random(5), 0
        for subtype in ("PCM_U8", "PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE"):
            for channels, frames in ((1, 0), (2, 7), (6, 40)):
                soundfile.write(out := io.BytesIO(), np.zeros((frames, channels)), 44100, subtype, format="WAV")
                seeds.append(out.getvalue())
        for end in (50, 200):
            loop = smpl_chunk(Format("x", 8000, 1, 100, Loop(3, end)))
            for before, behind in (
                (b"", loop),
                (loop, b""),
                (b"JUNK\3\0\0\0abc\0", info_chunk({"title": "x"})),
                (b"abcd\0\0\0\0", b""),
            ):
                body = b"WAVEfmt \x10\0\0\0" + words + before + b"data\xc8\0\0\0" + bytes(200) + behind
                seeds.append(b"RIFF" + struct.pack("<I", len(body)) + body)

        def told(data: bytes) -> Format | None:
            return plain_format(data[:64], len(data), lambda: source(data))

        for trial in range(3000):
            data = bytearray(seeds[trial % len(seeds)])
            for _ in range(0 if trial < len(seeds) else rng.randint(1, 2)):
                data[rng.randrange(min(len(data), 80))] ^= 1 << rng.randrange(8)
            if trial % 3 == 1:
                data = data[: rng.randrange(12, len(data))] + bytes(rng.randrange(8))
                data[4:8] = struct.pack("<I", len(data) - 8)
            plain = told(bytes(data))
            if plain is not None:
                quick += 1
                with soundfile.SoundFile(io.BytesIO(data)) as file:
                    found = file.samplerate, file.channels, file.frames, f"{file.format}/{file.subtype}"
                self.assertEqual((plain.rate, plain.channels, plain.frames, plain.variant), found, data[:60])
                self.assertTrue(plain.possible)
        self.assertGreater(quick, 400)
        self.assertEqual([told(s).loop for s in seeds[-8:-5]], [Loop(3, 50)] * 2 + [None])

    def test_loops_of_aiff_files_are_those_of_the_specification(self):
        """Apple, AIFF 1.3 (1989): bytes written by hand, with an odd name, a second marker order and a release loop."""
        marks = b"\0\3" + b"\0\7\0\0\0\xc8\2ab\0" + b"\0\2\0\0\0\x0a\1a" + b"\0\3\0\0\0\xff\0\0"
        for mode, ends, loop in ((1, (2, 7), Loop(10, 200)), (0, (2, 7), None), (2, (2, 7), None), (1, (2, 9), None),
                                 (1, (7, 2), None), (1, (2, 3), Loop(10, 255))):  # fmt: skip
            out = io.BytesIO()
            soundfile.write(out, self.pcm[:300], 44100, format="AIFF", subtype="PCM_16")
            data = out.getvalue() + b"MARK" + struct.pack(">I", len(marks)) + marks
            data += b"INST" + struct.pack(">I6bh6h", 20, 60, 0, 0, 127, 1, 127, 0, mode, *ends, 1, 7, 3)
            data = data[:4] + struct.pack(">I", len(data) - 8) + data[8:]
            self.assertEqual(file_format(source(data)).loop, loop, (mode, ends))
            self.assertIsNone(file_format(source(data[:-30])).loop)


def at_rate(pcm, have: int, want: int, loop: Loop | None = None, step: int = 1000):
    """Samples at another rate, given and taken in pieces."""

    def between(start: int, end: int):
        return (pcm[at : min(at + step, end)] for at in range(start, end, step))

    return np.concatenate(list(resampled(between, len(pcm), have, want, loop)))


class Resampling(SimpleTestCase):
    def test_pieces_give_what_the_reference_gives_for_all_at_once(self):
        """soxr (by python-soxr) resamples the whole array; ours comes in pieces of any length."""
        pcm = noise(30_000, 2).astype(np.float32) / 32768
        for have, want in ((44100, 48000), (48000, 22050), (8000, 44100)):
            theirs = soxr.resample(pcm, have, want, quality="VHQ")
            for step in (777, 30_000):
                ours = at_rate(pcm, have, want, step=step)
                np.testing.assert_allclose(ours[: len(theirs)], theirs[: len(ours)], atol=2e-6)

    def test_length_and_loop_are_rounded_as_documented(self):
        for frames in (1, 7, 147, 44100, 100_001):
            out = at_rate(noise(frames).astype(np.float32) / 32768, 44100, 48000)
            self.assertEqual(len(out), (frames * 48000 * 2 + 44100) // 88200)
        self.assertEqual(carried(Loop(147, 294), 44100, 48000), Loop(160, 320))
        self.assertEqual(carried(Loop(1, 2), 48000, 8000), Loop(0, 1))

    def test_an_impulse_stays_at_its_time(self):
        pcm = np.zeros((44100, 1), np.float32)
        pcm[22050] = 1
        for loop in (None, Loop(10_000, 44_100)):
            out = at_rate(pcm, 44100, 48000, loop)
            self.assertLessEqual(abs(int(np.argmax(np.abs(out))) - 24000), 1)

    def test_a_looped_tone_of_whole_periods_has_no_step_at_the_seam(self):
        """441 Hz at 44.1 kHz: periods of 100 frames, which become 108.84 frames at 48 kHz."""
        pcm = tone(2, 44100, 441)
        for start in (0, 4_410):
            loop = Loop(start, start + 44_100)
            out, new = at_rate(pcm[: loop.end], 44100, 48000, loop), carried(loop, 44100, 48000)
            self.assertEqual(new.length, 48_000)
            twice = np.concatenate([out[: new.end], out[new.start : new.end]])[:, 0]
            steps = np.abs(np.diff(twice))
            near = steps[new.end - 20 : new.end + 20].max()
            self.assertLessEqual(near, 0.5 * 2 * np.pi * 441 / 48000 * 1.001)
            # The seam's second difference is that of the tone itself: no corner either.
            bend = np.abs(np.diff(twice, 2))
            self.assertLessEqual(bend[new.end - 20 : new.end + 20].max(), bend[1000:2000].max() * 1.01)

    def test_what_follows_the_loop_is_kept(self):
        pcm = tone(1, 44100, 441)
        loop = Loop(4410, 22_050)
        out, new, plain = at_rate(pcm, 44100, 48000, loop), carried(loop, 44100, 48000), at_rate(pcm, 44100, 48000)
        self.assertEqual(len(out), len(plain))
        np.testing.assert_allclose(out[new.end + 200 :], plain[new.end + 200 :], atol=1e-6)


class MixAndPeaks(SimpleTestCase):
    def test_mixes_that_are_defined(self):
        stereo = tone(0.01, 8000, 100, 2)
        self.assertTrue((mixed(stereo, 1)[:, 0] == stereo[:, 0]).all())
        self.assertEqual(mixed(stereo[:, :1], 6).shape, (80, 6))
        self.assertEqual([can_mix(*c) for c in ((1, 3), (2, 1), (2, 6), (7, 2), (3, 2))], [True] * 3 + [False] * 2)

    def test_peaks_find_the_one_loud_frame_in_its_bin(self):
        for frames, bins in ((1_000_000, 960), (500, 960), (262_144 * 2, 7)):
            pcm = np.zeros((frames, 2), np.int16)
            spot = frames * 2 // 3
            pcm[spot, 1] = -16384
            found = peaks(lambda s, n, pcm=pcm: pcm[s : s + n], frames, bins)
            self.assertEqual(
                np.flatnonzero(found).tolist(),
                [int(np.searchsorted(np.linspace(0, frames, bins + 1).astype(np.int64), spot, "right")) - 1],
            )
            self.assertEqual(found.max(), 128)

    def test_a_tone_of_half_scale_peaks_at_minus_six_decibels(self):
        self.assertAlmostEqual(decibels(float(np.abs(tone(0.1, 48000, 1000)).max())), -6.02, places=2)

    def test_soundfile_reads_what_we_call_16_bit(self):
        out = io.BytesIO()
        pcm = to_int16(tone(0.01, 8000, 100))
        soundfile.write(out, pcm, 8000, format="WAV", subtype="PCM_16")
        out.seek(0)
        np.testing.assert_array_equal(soundfile.read(out, dtype="int16", always_2d=True)[0], pcm)
