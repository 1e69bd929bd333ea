"""Codecs against libsndfile, a general-purpose library, and the published tables."""

import io
import json
from itertools import product

import av
import numpy as np
import soundfile
from django.test import SimpleTestCase

from standin import adpcm, plain
from tests.support import noise, problem_of, source, tone
from zubret_core.base import Format, Loop, ZubretError, to_float, to_int16
from zubret_core.base.format import frozen
from zubret_core.base.pcm import snr_db
from zubret_core.codec import CODECS, codec_named, codec_of
from zubret_core.codec.filter_adpcm import XA_FILTERS
from zubret_core.codec.pcm import WIDTHS
from zubret_core.codec.step_adpcm import CHANGES, INDEX_CHANGE, STEPS
from zubret_core.layout import layout_named
from zubret_core.source import BytesSource

IMA, MS = CODECS["ima-adpcm"], CODECS["ms-adpcm"]


class Counting(BytesSource):
    """Bytes that are counted when they are read."""

    read_bytes = 0

    def _read(self, at, length):
        self.read_bytes += length
        return super()._read(at, length)


def ima_wav(pcm: np.ndarray, rate: int) -> tuple[bytes, int]:
    """IMA ADPCM blocks as libsndfile writes them, and their block size (from the `fmt ` chunk)."""
    out = io.BytesIO()
    soundfile.write(out, pcm, rate, format="WAV", subtype="IMA_ADPCM")
    return wav_blocks(out.getvalue())


def wav_blocks(data: bytes) -> tuple[bytes, int]:
    """The samples of a WAV file as they are stored, and its block size."""
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


def sweep(frames: int) -> np.ndarray:
    """A sine that rises from 20 Hz to 20 kHz, an octave in equal times: int16 (frames, 1)."""
    t, seconds = np.linspace(0, 1, frames), frames / 44100
    phase = 2 * np.pi * 20 * seconds * (1000**t - 1) / np.log(1000)
    return to_int16((0.6 * np.sin(phase))[:, None].astype(np.float32))


def signals(frames: int) -> list[tuple[str, np.ndarray]]:
    """What encoders are compared on."""
    voices = ("music", music(frames, 2)), ("speech", speech()[:frames])
    return [*voices, ("noise", noise(frames, 1, 20000)), ("sweep", sweep(frames))]


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
        format = Format("ima-adpcm", 48000, 2, 2041 * 500, None, 2048)
        payload = Counting(bytes(2048 * 500))
        IMA.decode(payload, format, 2041 * 400, 100)
        self.assertLessEqual(payload.read_bytes, 2048)

    def test_encoding_is_no_worse_than_libsndfile(self):
        """At the block sizes that libsndfile uses."""
        for name, pcm in signals(120_000):
            channels = pcm.shape[1]
            blocks, block = ima_wav(pcm, 44100)
            theirs = libsndfile_decodes(blocks, 44100, channels, block)[: len(pcm)]
            format = Format("ima-adpcm", 44100, channels, len(pcm), None, block)
            ours = IMA.decode(source(IMA.encode(pcm, format)), format, 0, len(pcm))
            self.assertGreaterEqual(snr_db(pcm, ours), snr_db(pcm, theirs), name)

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


class MsAdpcm(SimpleTestCase):
    """Microsoft, "New Multimedia Data Types and Data Techniques" (1994); libsndfile as the reference."""

    def test_decoding_is_bit_exact_and_encoding_no_worse(self):
        for name, pcm in signals(60_000):
            channels = pcm.shape[1]
            out = io.BytesIO()
            soundfile.write(out, pcm, 44100, format="WAV", subtype="MS_ADPCM")
            blocks, block = wav_blocks(out.getvalue())
            theirs, _ = soundfile.read(io.BytesIO(out.getvalue()), dtype="int16", always_2d=True)
            format = Format("ms-adpcm", 44100, channels, len(theirs), None, block)
            np.testing.assert_array_equal(MS.decode(source(blocks), format, 0, len(theirs)), theirs, name)
            format = format.with_(frames=len(pcm))
            ours = MS.decode(source(MS.encode(pcm, format)), format, 0, len(pcm))
            self.assertGreaterEqual(snr_db(pcm, ours), snr_db(pcm, theirs[: len(pcm)]), name)

    def test_damage_is_named(self):
        format = Format("ms-adpcm", 8000, 1, 100, None, 32)
        payload = bytearray(MS.encode(noise(100), format))
        payload[32] = 7
        error = problem_of(self, MS.decode, source(bytes(payload)), format, 0, 100)
        self.assertIn("Block 1 names a predictor over 6", error.what)
        with self.assertRaises(ZubretError):
            MS.block_frames(format.with_(block_size=7))


class Dvi4(SimpleTestCase):
    """RFC 3551, section 4.5.1: the header's sample is only the predictor; the high nibble comes first."""

    def test_packets_are_decoded_by_the_rules_of_the_rfc(self):
        codec, pcm = CODECS["dvi4"], speech()[:4000]
        format = Format("dvi4", 8000, 1, len(pcm), None, 84)
        payload = codec.encode(pcm, format)
        ours = codec.decode(source(payload), format, 0, len(pcm))
        self.assertEqual(codec.block_frames(format), 160)  # 20 ms at 8 kHz
        expected = []
        for at in range(0, len(payload), 84):
            sample, index, reserved = (
                int.from_bytes(payload[at : at + 2], "big", signed=True),
                *payload[at + 2 : at + 4],
            )
            self.assertEqual(reserved, 0)
            for byte in payload[at + 4 : at + 84]:
                for nibble in (byte >> 4, byte & 15):
                    step = adpcm.STEPS[index]
                    change = (step >> 3) + sum(step >> 2 - bit for bit in range(3) if nibble >> bit & 1)
                    sample = max(-32768, min(32767, sample - change if nibble & 8 else sample + change))
                    index = max(0, min(88, index + adpcm.MOVES[nibble & 7]))
                    expected.append(sample)
        self.assertEqual(ours.ravel().tolist(), expected[: len(pcm)])
        self.assertGreater(snr_db(pcm, ours), 20)

    def test_encoding_is_within_half_a_decibel_of_looking_at_all_nibbles_three_samples_ahead(self):
        paths = np.stack(np.meshgrid(*[np.arange(16)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
        for name, pcm in signals(3000):
            wanted = pcm[-1500:, 0].astype(int)
            format = Format("step-adpcm", 44100, 1, len(wanted), parameters=frozen({"header": "none"}))
            codec = codec_of(format)
            sample, index, theirs = 0, 0, []
            for n in range(len(wanted)):
                here, at, error = np.full(len(paths), sample), np.full(len(paths), index), np.zeros(len(paths))
                for depth in range(min(3, len(wanted) - n)):
                    here = np.clip(here + CHANGES["shifts"][at, paths[:, depth]], -32768, 32767)
                    at = np.clip(at + INDEX_CHANGE[paths[:, depth] & 7], 0, 88)
                    error += (wanted[n + depth] - here) ** 2
                best = int(paths[error.argmin(), 0])
                sample = int(np.clip(sample + CHANGES["shifts"][index, best], -32768, 32767))
                index = int(np.clip(index + INDEX_CHANGE[best & 7], 0, 88))
                theirs.append(sample)
            pcm = pcm[-1500:, :1]
            ours = codec.decode(source(codec.encode(pcm, format)), format, 0, len(pcm))
            self.assertGreater(snr_db(pcm, ours), snr_db(pcm, np.array(theirs, np.int16)[:, None]) - 0.5, name)

    def test_nibbles_without_headers_in_every_order(self):
        """One run of nibbles; one nibble of each channel in turn is what many players of cards and chips had."""
        pcm = music(5001, 2)
        for nibbles in ("low", "high"):
            for group in (0, 1, 4, 64):
                for rule in ("shifts", "product"):
                    parameters = frozen({"header": "none", "nibbles": nibbles, "group": group, "rule": rule})
                    format = Format("step-adpcm", 22050, 2, len(pcm), parameters=parameters)
                    codec = codec_of(format)
                    payload = source(codec.encode(pcm, format))
                    whole = codec.decode(payload, format, 0, len(pcm))
                    self.assertGreater(snr_db(pcm, whole), 25, parameters)
                    np.testing.assert_array_equal(codec.decode(payload, format, 4000, 333), whole[4000:4333])
        self.assertNotEqual(CHANGES["shifts"].tolist(), CHANGES["product"].tolist())


class FilterAdpcm(SimpleTestCase):
    """Frames of two-tap filters against the media library's decoder of the five-filter kind, and against all choices."""

    FIVE = frozen({"filters": [*XA_FILTERS, (122, -60)], "flags": [0, 6, 3, 1], "rounding": "truncate"})

    def test_decoding_is_bit_exact_with_the_media_library(self):
        for channels in (1, 2):
            pcm = music(28 * 300, channels)
            format = Format("filter-adpcm", 44100, channels, len(pcm), parameters=self.FIVE)
            payload = codec_of(format).encode(pcm, format)
            ours = codec_of(format).decode(source(payload), format, 0, len(pcm))
            reader = av.CodecContext.create("adpcm_psx", "r")
            reader.sample_rate, reader.layout = 44100, "mono" if channels == 1 else "stereo"
            step = 16 * channels
            packets = [av.Packet(payload[at : at + step]) for at in range(0, len(payload), step)]
            theirs = [f.to_ndarray() for p in packets for f in reader.decode(p)]
            np.testing.assert_array_equal(ours, np.concatenate(theirs, axis=1).T)

    def test_xa_groups_and_sectors_are_read_as_the_media_library_reads_them(self):
        for channels in (1, 2):
            pcm = music(224 * 40, channels)
            format = Format("xa-adpcm", 37800, channels, len(pcm))
            payload = CODECS["xa-adpcm"].encode(pcm, format)
            ours = CODECS["xa-adpcm"].decode(source(payload), format, 0, len(pcm))
            self.assertGreater(snr_db(pcm, ours), 40)
            reader = av.CodecContext.create("adpcm_xa", "r")
            reader.sample_rate, reader.layout = 37800, "mono" if channels == 1 else "stereo"
            packets = [av.Packet(payload[at : at + 128]) for at in range(0, len(payload), 128)]
            theirs = np.concatenate([f.to_ndarray() for p in packets for f in reader.decode(p)], axis=1)
            np.testing.assert_array_equal(ours, theirs.T)
            raw = codec_named("xa-adpcm", frozen({"sector": 2352, "lead": 24}))
            sectors = bytes(raw.encode(pcm, format))
            self.assertEqual(sectors[24 : 24 + 18 * 128] + sectors[2352 + 24 :][: 18 * 128], payload[: 36 * 128])
            np.testing.assert_array_equal(raw.decode(source(sectors), format, 500, 9), ours[500:509])

    def test_encoding_is_within_half_a_decibel_of_every_choice_of_shift(self):
        for name, pcm in signals(9000):
            format = Format("filter-adpcm", 44100, pcm.shape[1], len(pcm), parameters=self.FIVE)
            codec = codec_of(format)
            quick, all_of_them = (
                snr_db(pcm, codec.decode(source(codec.encode(pcm, format, reach)), format, 0, len(pcm)))
                for reach in (1, 12)
            )
            self.assertGreater(quick, all_of_them - 0.5, name)

    def test_flags_mark_the_loop_and_the_end(self):
        format = Format("filter-adpcm", 44100, 1, 280, Loop(56, 280), parameters=self.FIVE)
        codec = codec_of(format)
        self.assertEqual(codec.encode(noise(280), format)[1::16], bytes([0, 0, 6, 0, 0, 0, 0, 0, 0, 3]))
        self.assertEqual(codec.encode(noise(280), format.with_(loop=None))[1::16], bytes([0] * 9 + [1]))

    def test_damage_is_named(self):
        format = Format("filter-adpcm", 44100, 1, 90)
        payload = bytearray(CODECS["filter-adpcm"].encode(noise(90), format))
        payload[16] = 0x4D
        error = problem_of(self, CODECS["filter-adpcm"].decode, source(bytes(payload)), format, 0, 90)
        self.assertIn("Frame 1 of channel 0 names a filter or a shift", error.what)


class LibraryDecoders(SimpleTestCase):
    """What a layout names by the media library's identifiers: read like our own, and written where it names an encoder."""

    def test_blocks_are_decoded_by_range_as_our_own_codec_does(self):
        pcm = music(9000, 2)
        for ours, decoder, block in (
            ("ima-adpcm", "adpcm_ima_wav", 1024),
            ("pcm16", "pcm_s16le", 400),
            ("g711-a", "pcm_alaw", 6),
        ):
            format = Format(ours, 22050, 2, len(pcm), None, block)
            payload = source(codec_of(format).encode(pcm, format)[: 8998 * 4])
            theirs = format.with_(codec="library", parameters=frozen({"decoder": decoder, "bits": 4}), frames=8990)
            counted = Counting(payload.data)  # piece by piece it is decoded once
            parts = [codec_of(theirs).decode(counted, theirs, at, min(700, 8990 - at)) for at in range(0, 8990, 700)]
            np.testing.assert_array_equal(np.concatenate(parts), codec_of(theirs).decode(payload, theirs, 0, 8990))
            self.assertLessEqual(counted.read_bytes, counted.size)
            for start, frames in ((0, 8990), (4000, 333), (100, 333), (0, 0)):
                found = to_int16(codec_of(theirs).decode(payload, theirs, start, frames))
                wanted = codec_of(format).decode(payload, format.with_(frames=8990), start, frames)
                self.assertLessEqual(int(np.abs(found.astype(int) - wanted).max(initial=0)), 1, decoder)

    def directly(self, encoder: str, pcm: np.ndarray, rate: int, kbits: int) -> tuple[bytes, bytes]:
        """The packets of the library's own encoder, and what it says for decoders."""
        writer = av.CodecContext.create(encoder, "w")
        writer.sample_rate, writer.layout = rate, "mono" if pcm.shape[1] == 1 else "stereo"
        writer.format = "fltp" if encoder in ("ac3", "aac") else "s16"
        if kbits:
            writer.bit_rate = 1000 * kbits
        writer.open()
        out, size = b"", writer.frame_size or 1152
        for at in range(0, len(pcm), size):
            part = pcm[at : at + size]
            planes = (part.astype(np.float32) / 32768).T if writer.format.name == "fltp" else part.reshape(1, -1)
            frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(planes), writer.format.name, writer.layout.name)
            frame.sample_rate, frame.pts = rate, at
            out += b"".join(bytes(p) for p in writer.encode(frame))
        return out + b"".join(bytes(p) for p in writer.encode(None)), bytes(writer.extradata or b"")

    def test_what_a_layout_names_is_encoded_as_the_library_itself_does(self):
        for encoder, kbits, rate, channels, size in (
            ("ac3", 192, 48000, 2, 768),
            ("g722", 0, 16000, 1, 0),
            ("aac", 96, 44100, 2, 0),
        ):
            with self.subTest(encoder):
                pcm = music(30_000, channels)
                wanted, extra = self.directly(encoder, pcm, rate, kbits)
                how = {"decoder": encoder, "encoder": encoder, "kbits": kbits}
                framing = {"packet": size} if size else {"framing": "counted"} if extra else {}
                format = Format("library", rate, channels, len(pcm), setup=b"?" * len(extra))
                format = format.with_(parameters=frozen({**how, **framing}))
                codec = codec_of(format)
                self.assertEqual(codec.obstacle(format), "")
                format = codec.fitted(pcm, format)
                payload = bytes(codec.encode(pcm, format))
                self.assertEqual(format.setup, extra)
                bare = payload if not extra else b"".join(bytes(p) for p in codec._packets(source(payload), 0))
                self.assertEqual(bare, wanted)
                late = codec.late(format)
                exact = codec_named("library", frozen({**how, **framing, "skip": late}))
                self.assertEqual(exact.late(format), 0)
                longer = source(exact.encode(pcm, format))
                heard = to_int16(exact.decode(longer, format, 0, len(pcm))).astype(float)
                self.assertGreater(10 * np.log10((pcm.astype(float) ** 2).sum() / ((heard - pcm) ** 2).sum()), 8)
        odd = Format("library", 48000, 2, 9000, parameters=frozen({"decoder": "ac3", "encoder": "ac3", "packet": 700}))
        self.assertIn("packets of", problem_of(self, codec_of(odd).encode, music(9000, 2), odd).what)

    def test_what_can_not_be_is_said(self):
        for parameters in (
            {"decoder": "h264"},
            {"decoder": "no such thing"},
            {"extradata": "xyz"},
            {"packet": -1},
            {"encoder": "none"},
        ):
            problem_of(self, codec_named, "library", frozen(parameters))
        codec = codec_named("library", frozen({"decoder": "adpcm_ms", "packet": 64}))
        format = Format("library", 8000, 2, 900)
        self.assertIn("its bank gives 900", problem_of(self, codec.decode, source(bytes(64)), format, 0, 900).what)
        problem_of(self, codec.decode, source(bytes(64)), format.with_(channels=9), 0, 900)
        self.assertIn("not written", codec.obstacle(format))
        with self.assertRaises(ZubretError):
            codec.encode(noise(9), format)
        rng = np.random.default_rng(5)
        for _ in range(60):
            try:
                codec.decode(source(rng.bytes(640)), format, 0, 500)
            except ZubretError as e:
                self.assertTrue(e.next)


class AllCodecs(SimpleTestCase):
    """What holds for each of them, with many parameters."""

    KINDS = [
        *(Format("pcm", 8000, 3, 1000, parameters=frozen({"sample": s, "order": o, "interleave": i * w}))
          for s, w in WIDTHS.items() for o in ("little", "big") for i in (0, 7)),
        Format("pcm", 8000, 2, 1000, parameters=frozen({"interleave": -1})),
        *(Format("delta-pcm", 8000, 2, 1000, parameters=frozen(p)) for p in (
            {}, {"wraps": True}, {"first": -900, "nibbles": "high",
                 "table": [0, 40, 160, 400, 900, 1800, 3600, 8000, -20, -80, -240, -600, -1300, -2600, -5200, -9000]})),
        *(Format("packed-pcm", 8000, 3, 1000, parameters=frozen({"bits": bits, "nibbles": nibbles}))
          for bits in (9, 12, 15) for nibbles in ("low", "high")),
        Format("xa-adpcm", 37800, 2, 1000),
        Format("xa-adpcm", 37800, 1, 1000, parameters=frozen({"sector": 2336, "lead": 8})),
        Format("ima-adpcm", 8000, 2, 1000, None, 128),
        Format("dvi4", 8000, 2, 1000, None, 168),
        Format("ms-adpcm", 8000, 2, 1000, None, 128),
        *(Format("filter-adpcm", 8000, 2, 1000, parameters=frozen(p)) for p in (
            {}, {"interleave": -1}, {"interleave": 64, "frame": 32, "nibbles": "high", "word": "shift-filter"},
            {"rounding": "floor", "filters": [(64, -32)]})),
    ]  # fmt: skip

    def test_any_range_is_that_part_of_the_whole_and_sizes_are_told_before(self):
        for format in self.KINDS:
            pcm = music(1000, format.channels)
            codec = codec_of(format)
            data = codec.encode(pcm, format)
            self.assertEqual(len(data), codec.stored_size(format), format)
            whole = codec.decode(source(data), format, 0, 1000)
            self.assertGreater(snr_db(pcm, whole), 20, format)
            for start, frames in ((0, 0), (0, 1), (1, 5), (333, 500), (999, 1), (1000, 0)):
                part = codec.decode(source(data), format, start, frames)
                np.testing.assert_array_equal(part, whole[start : start + frames], str(format))
            problem_of(self, codec.decode, source(data[:-1]), format, 0, 1000)
            problem_of(self, codec.decode, source(data), format, 990, 11)
            self.assertEqual(Format.from_dict(json.loads(json.dumps(format.as_dict()))), format)
            empty = codec.decode(source(b""), format.with_(frames=0), 0, 0)
            self.assertEqual((empty.shape, codec.encode(pcm[:0], format.with_(frames=0))), ((0, format.channels), b""))

    def test_random_bytes_give_sound_or_a_clear_error(self):
        rng = np.random.default_rng(3)
        for format in self.KINDS:
            codec = codec_of(format)
            for _ in range(20):
                data = source(rng.bytes(codec.stored_size(format)))
                try:
                    out = codec.decode(data, format, 0, 1000)
                    self.assertEqual(out.shape, (1000, format.channels))
                except ZubretError as e:
                    self.assertTrue(e.next)

    def test_parameters_that_can_not_be_are_refused(self):
        for name, parameters in (
            ("pcm", {"sample": "s12"}), ("pcm", {"interleave": 3}), ("pcm", {"nibbles": "low"}), ("nothing", {}),
            ("step-adpcm", {"header": "long"}), ("step-adpcm", {"group": -1}), ("filter-adpcm", {"filters": []}),
            ("delta-pcm", {"table": [1, 2]}), ("delta-pcm", {"first": 40000}), ("xa-adpcm", {"lead": 8}), ("packed-pcm", {"bits": 16}),
            ("xa-adpcm", {"sector": 2048}), ("filter-adpcm", {"flags": [1]}), ("filter-adpcm", {"frame": 1}), ("filter-adpcm", {"interleave": 24}),
        ):  # fmt: skip
            problem_of(self, codec_named, name, frozen(parameters))

    def test_packed_samples_are_those_bits(self):
        """As numpy's packbits has them, which ones of a byte first, too; half of the last bit away at most."""
        pcm = noise(301, 2, 32000)
        for bits, (nibbles, order) in product(range(9, 16), (("low", "little"), ("high", "big"))):
            format = Format("packed-pcm", 8000, 2, 301, parameters=frozen({"bits": bits, "nibbles": nibbles}))
            codec = codec_of(format)
            made = codec.encode(pcm, format)
            heard = codec.decode(source(made), format, 0, 301)
            self.assertLessEqual(
                np.abs(heard.astype(int) - pcm)[pcm < 32767 - (1 << 16 - bits)].max(), 1 << (15 - bits)
            )
            rows = (heard.reshape(-1, 1).astype(int) >> (16 - bits)) >> np.arange(bits) & 1
            stored = np.packbits(
                (rows if order == "little" else rows[:, ::-1]).astype(np.uint8).ravel(), bitorder=order
            )
            self.assertEqual(stored.tobytes(), bytes(made))

    def test_differences_are_added_up_as_the_table_says(self):
        table = [0, 9, 99, 9999, -9, -99, -9999, 1, *[5] * 8]
        format = Format("delta-pcm", 8000, 1, 5)
        for wraps, last in ((False, 32767), (True, 39996 - 65536)):
            codec = codec_named("delta-pcm", frozen({"table": table, "wraps": wraps, "nibbles": "high"}))
            found = codec.decode(source(b"\x13\x33\x30"), format, 0, 5).ravel().tolist()
            self.assertEqual(found, [9, 10008, 20007, 30006, last + 9 if wraps else last])
        codec = CODECS["delta-pcm"]
        self.assertEqual(
            codec.decode(source(b"\x03\xff\x80"), format.with_(frames=3), 0, 3).ravel().tolist(), [18, 16, -32752]
        )

    def test_the_game_s_own_decoders_say_the_same(self):
        pcm = music(3000, 2)
        for codec, write, read in (
            ("g711-mu", plain.as_voice, plain.voice),
            ("lanes", plain.as_lanes, plain.lanes),
            ("tide", plain.as_tide, lambda data, channels: plain.tide(data, channels, 3000)),
        ):
            spec = layout_named("saltglass-bell").codecs.get(codec)
            format = Format(spec.codec if spec else codec, 8000, 2, 3000, parameters=spec.parameters if spec else ())
            for data in (write(pcm), codec_of(format).encode(pcm, format)):
                np.testing.assert_array_equal(codec_of(format).decode(source(data), format, 0, 3000), read(data, 2))


class Pcm(SimpleTestCase):
    """libsndfile's RAW files as the reference."""

    SUBTYPES = {"u8": "PCM_U8", "s8": "PCM_S8", "s16": "PCM_16", "s24": "PCM_24", "s32": "PCM_32", "f32": "FLOAT",
                "f64": "DOUBLE"}  # fmt: skip

    def test_every_kind_in_both_orders(self):
        pcm = np.concatenate([noise(500, 2, 32000), np.array([[-32768, 32767]], np.int16)])
        for sample, subtype in self.SUBTYPES.items():
            for order in ("little", "big"):
                out = io.BytesIO()
                exact = to_float(pcm) if sample[0] == "f" or WIDTHS[sample] > 2 else pcm
                soundfile.write(out, exact, 8000, format="RAW", subtype=subtype, endian=order.upper())
                codec = codec_named("pcm", frozen({"sample": sample, "order": order}))
                format = Format("pcm", 8000, 2, len(pcm))
                found = codec.decode(source(out.getvalue()), format, 0, len(pcm))
                if WIDTHS[sample] == 1:
                    np.testing.assert_array_equal(found, pcm & -256)
                    self.assertLessEqual(
                        int(
                            np.abs(
                                codec.decode(source(codec.encode(pcm, format)), format, 0, len(pcm)).astype(int) - pcm
                            ).max()
                        ),
                        255,
                    )
                else:
                    np.testing.assert_array_equal(to_int16(found), pcm, (sample, order))
                    self.assertEqual(codec.encode(exact, format), out.getvalue(), (sample, order))

    def test_g711_is_the_table_of_the_recommendation(self):
        """ITU-T G.711, tables 1a and 2a, as libsndfile has them; a sample on a decision value may go either way."""
        every = np.arange(-32768, 32768, dtype=np.int16)
        format = Format("pcm", 8000, 1, 256)
        for name, subtype, edges in (("g711-a", "ALAW", 127), ("g711-mu", "ULAW", 127)):
            codes = bytes(range(256))
            theirs, _ = soundfile.read(io.BytesIO(codes), dtype="int16", format="RAW", subtype=subtype,
                                       samplerate=8000, channels=1)  # fmt: skip
            np.testing.assert_array_equal(CODECS[name].decode(source(codes), format, 0, 256).ravel(), theirs)
            out = io.BytesIO()
            soundfile.write(out, every, 8000, format="RAW", subtype=subtype)
            ours = np.frombuffer(CODECS[name].encode(every[:, None], format), np.uint8)
            different = np.flatnonzero(ours != np.frombuffer(out.getvalue(), np.uint8))
            self.assertEqual((len(different), bool((every[different] < 0).all())), (edges, True))
            places = np.argsort(np.argsort(theirs.ravel(), kind="stable"))
            pairs = [places[np.frombuffer(o, np.uint8)[different]] for o in (ours.tobytes(), out.getvalue())]
            self.assertLessEqual(int(np.abs(pairs[0] - pairs[1]).max()), 2)  # neighbours; mu-law has two zeros

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
