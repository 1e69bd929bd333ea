"""Codecs against libsndfile, a general-purpose library, and the published tables."""

import io

import numpy as np
import soundfile
from django.test import SimpleTestCase

from standin import adpcm
from tests.support import noise, problem_of, source, tone
from zubret_core.base import Format, ZubretError, to_float, to_int16
from zubret_core.base.pcm import snr_db
from zubret_core.codec import CODECS
from zubret_core.codec.ima_adpcm import INDEX_CHANGE, STEPS
from zubret_core.source import BytesSource

IMA = CODECS["ima-adpcm"]


def ima_wav(pcm: np.ndarray, rate: int) -> tuple[bytes, int]:
    """IMA ADPCM blocks as libsndfile writes them, and their block size (from the `fmt ` chunk)."""
    out = io.BytesIO()
    soundfile.write(out, pcm, rate, format="WAV", subtype="IMA_ADPCM")
    data = out.getvalue()
    fmt = data.index(b"fmt ") + 8
    block = int.from_bytes(data[fmt + 12 : fmt + 14], "little")
    at = data.index(b"data") + 4
    size = int.from_bytes(data[at : at + 4], "little")
    return data[at + 4 : at + 4 + size], block


def libsndfile_decodes(blocks: bytes, rate: int, channels: int, block: int) -> np.ndarray:
    """What libsndfile decodes from blocks of any size, in a WAV file around them (format tag 0x0011)."""
    per_block = (block // channels - 4) * 2 + 1
    frames = len(blocks) // block * per_block
    fmt = b"".join(
        n.to_bytes(w, "little")
        for n, w in [(0x11, 2), (channels, 2), (rate, 4), (rate * block // per_block, 4), (block, 2), (4, 2), (2, 2)]
    ) + per_block.to_bytes(2, "little")
    chunks = b"fmt " + len(fmt).to_bytes(4, "little") + fmt
    chunks += b"fact" + (4).to_bytes(4, "little") + frames.to_bytes(4, "little")
    chunks += b"data" + len(blocks).to_bytes(4, "little") + blocks
    data = b"RIFF" + (4 + len(chunks)).to_bytes(4, "little") + b"WAVE" + chunks
    pcm, _ = soundfile.read(io.BytesIO(data), dtype="int16", always_2d=True)
    return pcm


def music(frames: int, channels: int) -> np.ndarray:
    """Several voices with envelopes: int16 (frames, channels)."""
    t = np.arange(frames) / 44100
    out = np.zeros((frames, channels))
    for n, hz in enumerate((110, 164.8, 220, 277.2, 329.6, 440, 659.3)):
        gate = 0.5 + 0.5 * np.sign(np.sin(2 * np.pi * (0.7 + n * 0.31) * t))
        envelope = np.exp(-3 * ((t * (0.7 + n * 0.31)) % 1))
        out += (np.sin(2 * np.pi * hz * t) * gate * envelope * 0.2)[:, None] * np.linspace(1, 0.6, channels)
    return to_int16((out / np.abs(out).max() * 0.7).astype(np.float32))


def speech() -> np.ndarray:
    """A committed line of speech, mono."""
    from tests.support import ROOT

    pcm, _ = soundfile.read(ROOT / "standin/sources/en_05.ogg", dtype="int16", always_2d=True)
    return pcm


class ImaAdpcm(SimpleTestCase):
    """IMA Recommended Practices rev. 3.00 (1992), section 6; WAVE block layout (Microsoft, 1994)."""

    def test_tables_are_the_published_ones(self):
        """Spot values and shape of the step table as printed in the recommendation, tables 6.1 and 6.2."""
        self.assertEqual(len(STEPS), 89)
        printed = {0: 7, 1: 8, 8: 16, 16: 34, 24: 73, 32: 157, 40: 337, 48: 724, 56: 1552, 64: 3327, 72: 7132}
        printed |= {80: 15289, 86: 27086, 87: 29794, 88: 32767}
        self.assertEqual({n: int(STEPS[n]) for n in printed}, printed)
        self.assertEqual(INDEX_CHANGE.tolist(), [-1, -1, -1, -1, 2, 4, 6, 8])
        self.assertEqual(STEPS.tolist(), adpcm.STEPS)  # typed twice, by two modules that share nothing

    def test_decoding_is_bit_exact_with_libsndfile_on_its_own_files(self):
        for channels in (1, 2):
            for rate in (8000, 22050, 44100):  # libsndfile chooses the block size by the rate
                pcm = music(9000, channels)
                blocks, block = ima_wav(pcm, rate)
                frames = len(blocks) // block * IMA.block_frames(Format("ima-adpcm", rate, channels, 0, None, block))
                format = Format("ima-adpcm", rate, channels, frames, None, block)
                ours = IMA.decode(source(blocks), format, 0, frames)
                np.testing.assert_array_equal(ours, libsndfile_decodes(blocks, rate, channels, block))

    def test_our_blocks_of_many_sizes_decode_alike_in_libsndfile_and_in_the_game(self):
        for channels, block in ((1, 32), (1, 256), (1, 512), (2, 64), (2, 1024), (2, 2048)):
            pcm = np.concatenate([music(5000, channels), noise(3000, channels, 30000)])
            format = Format("ima-adpcm", 44100, channels, len(pcm), None, block)
            payload = IMA.encode(pcm, format)
            ours = IMA.decode(source(payload), format, 0, len(pcm))
            np.testing.assert_array_equal(ours, libsndfile_decodes(payload, 44100, channels, block)[: len(pcm)])
            np.testing.assert_array_equal(ours, adpcm.decode(payload, channels, block, len(pcm)))

    def test_any_range_equals_that_part_of_the_whole(self):
        pcm = music(8000, 2)
        format = Format("ima-adpcm", 44100, 2, 8000, None, 256)
        payload = source(IMA.encode(pcm, format))
        whole = IMA.decode(payload, format, 0, 8000)
        for start, frames in ((0, 0), (0, 1), (248, 2), (249, 249), (1000, 3333), (7999, 1), (8000, 0)):
            np.testing.assert_array_equal(IMA.decode(payload, format, start, frames), whole[start : start + frames])

    def test_a_range_reads_only_its_own_blocks(self):
        class Counting(BytesSource):
            read_bytes = 0

            def _read(self, at, length):
                self.read_bytes += length
                return super()._read(at, length)

        format = Format("ima-adpcm", 48000, 2, 2041 * 500, None, 2048)
        payload = Counting(bytes(2048 * 500))
        IMA.decode(payload, format, 2041 * 400, 100)
        self.assertLessEqual(payload.read_bytes, 2048)

    def test_encoding_is_no_worse_than_libsndfile(self):
        """SNR on music, speech and noise, at the block sizes that libsndfile uses."""
        cases = {"music": music(120_000, 2), "speech": speech(), "noise": noise(60_000, 1, 20000)}
        for name, pcm in cases.items():
            channels = pcm.shape[1]
            blocks, block = ima_wav(pcm, 44100)
            theirs = libsndfile_decodes(blocks, 44100, channels, block)[: len(pcm)]
            format = Format("ima-adpcm", 44100, channels, len(pcm), None, block)
            ours = IMA.decode(source(IMA.encode(pcm, format)), format, 0, len(pcm))
            self.assertGreaterEqual(snr_db(pcm, ours), snr_db(pcm, theirs) - 0.01, name)

    def test_damage_is_named(self):
        format = Format("ima-adpcm", 44100, 1, 100, None, 32)
        payload = bytearray(IMA.encode(noise(100), format))
        payload[34] = 89  # the step index of the second block
        error = problem_of(self, IMA.decode, source(bytes(payload)), format, 0, 100)
        self.assertIn("step index over 88", error.what)
        self.assertIn("byte 32", error.where)
        short = problem_of(self, IMA.decode, source(bytes(payload[:50])), format, 0, 100)
        self.assertIn("100 frames need 64", short.what)
        with self.assertRaises(ZubretError):
            IMA.block_frames(format.with_(block_size=30))
        with self.assertRaises(ZubretError):
            IMA.decode(source(bytes(payload)), format, 90, 11)


class Pcm16(SimpleTestCase):
    def test_round_trip_and_ranges(self):
        pcm = noise(500, 3, 32000)
        format = Format("pcm16", 44100, 3, 500)
        payload = CODECS["pcm16"].encode(pcm, format)
        self.assertEqual(payload[:2], int(pcm[0, 0]).to_bytes(2, "little", signed=True))
        np.testing.assert_array_equal(CODECS["pcm16"].decode(source(payload), format, 120, 7), pcm[120:127])
        problem_of(self, CODECS["pcm16"].decode, source(payload[:-1]), format, 0, 1)

    def test_int16_and_float_are_exact_both_ways(self):
        every = np.arange(-32768, 32768, dtype=np.int16)[:, None]
        np.testing.assert_array_equal(to_int16(to_float(every)), every)
        loud = np.array([[1.5], [-1.5], [1.0]], np.float32)
        self.assertEqual(to_int16(loud).ravel().tolist(), [32767, -32768, 32767])


class AudioFiles(SimpleTestCase):
    def test_files_are_decoded_by_range_as_libsndfile_does(self):
        pcm = to_int16(tone(0.5, 44100, 441, 2))
        for container, subtype in (("WAV", "PCM_16"), ("FLAC", "PCM_16"), ("OGG", "VORBIS")):
            out = io.BytesIO()
            soundfile.write(out, pcm, 44100, format=container, subtype=subtype)
            whole, _ = soundfile.read(io.BytesIO(out.getvalue()), dtype="int16", always_2d=True)
            format = Format("file", 44100, 2, len(whole), variant=f"{container}/{subtype}")
            part = to_int16(CODECS["file"].decode(source(out.getvalue()), format, 5000, 700))
            self.assertLessEqual(int(np.abs(part.astype(int) - whole[5000:5700]).max()), 1, container)

    def test_a_file_that_ends_early_says_so(self):
        out = io.BytesIO()
        soundfile.write(out, noise(100), 44100, format="WAV")
        format = Format("file", 44100, 1, 200, variant="WAV/PCM_16")
        error = problem_of(self, CODECS["file"].decode, source(out.getvalue()), format, 0, 200)
        self.assertIn("100 frames before", error.what)
