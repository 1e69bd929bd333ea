"""Channels in turns, and lengths that count in bytes, blocks and time."""

import struct
from itertools import product

import numpy as np
from django.test import SimpleTestCase

from tests.support import noise, problem_of, source
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.base import Format
from zubret_core.base.format import frozen
from zubret_core.codec import codec_of
from zubret_core.layout import load_layout


class LengthsInBytes(SimpleTestCase):
    LAYOUT = """
zubret: 1
id: by-bytes
describes: bank
recognise: [{{at: 0, bytes: "42 42"}}]
codecs: {{own: {codec}}}
given: {{stream.codec: own, stream.rate: 8000, stream.channels: {channels}}}
regions:
  - name: head
    at: 0
    fields: [{{name: mark, type: bytes, length: 2}}, {{name: count, type: u8, means: streams.count}}]
  - name: table
    after: head
    repeat: head.count
    fields:
      - {{name: at, type: u8, means: stream.at}}
      - {{name: stored, type: u16, means: stream.stored}}
      - {{name: length, type: u16, means: stream.frames, unit: {unit}}}
"""

    def test_parts_of_a_byte_turns_and_sound_groups_count(self):
        """A byte of some codecs holds two samples, and a block of others stands in pieces, so one frame has no bytes of its own."""
        for codec, channels, how in (
            ("table-adpcm", 1, {}), ("step-adpcm", 1, {"header": "none"}), ("packed-pcm", 1, {}), ("delta-pcm", 1, {"table": tuple(range(-8, 8))}),
            ("filter-adpcm", 2, {"frame": 8, "interleave": 32}), ("xa-adpcm", 2, {}), ("xa-adpcm", 1, {"sector": 2336, "lead": 8}),
        ):  # fmt: skip
            with self.subTest(codec, channels=channels):
                bare = Format(codec, 8000, channels, 0, parameters=frozen(how))
                frames = (
                    2
                    * codec_of(bare.with_(frames=1)).turn_frames(bare)
                    * (1 if channels == 2 or codec == "xa-adpcm" else 60)
                )
                pcm = noise(frames, channels)
                payload = bytes(codec_of(bare).encode(pcm, bare.with_(frames=frames)))
                text = {
                    "codec": f"{{codec: {codec}"
                    + "".join(f", {k}: {v if not isinstance(v, tuple) else list(v)}" for k, v in how.items())
                    + "}"
                }
                block = codec_of(bare).block_frames(bare)
                for unit, stored in (("bytes", len(payload)), ("blocks", frames // block)):
                    layout = load_layout(self.LAYOUT.format(**text, channels=channels, unit=unit))
                    data = b"BB\1" + struct.pack("<BHH", 8, len(payload), stored) + payload
                    stream = DescribedBank(layout, source(data)).streams[0]
                    self.assertEqual(stream.format.frames, frames, unit)
                    one_less = stream.told(stream.format.with_(frames=frames - 1)).frames
                    self.assertEqual(one_less, frames - 1 if block == 1 and unit == "blocks" else frames, unit)

    def test_a_length_that_the_record_can_not_tell_becomes_the_next_that_it_can(self):
        for rate, unit, length, more, told in ((8000, "milliseconds", 100, 803, 808), (22050, "milliseconds", 100, 2206, 2227),
                                               (8000, "seconds", 1, 8001, 16000), (8000, "5", 160, 801, 805)):  # fmt: skip
            layout = load_layout(
                self.LAYOUT.replace("8000", str(rate)).format(codec="{codec: pcm16}", channels=1, unit=unit)
            )
            pcm = noise(8000)
            bank = DescribedBank(layout, source(b"BB\1" + struct.pack("<BHH", 8, 16000, length) + pcm.tobytes()))
            stream = bank.streams[0]
            format = stream.told(stream.format.with_(frames=more))
            self.assertEqual(format.frames, told, unit)
            built = bank.rebuild({0: NewStream(source(np.resize(pcm, told).tobytes()), format)})
            self.assertEqual(DescribedBank(layout, built.source).streams[0].format.frames, told)


class Turns(SimpleTestCase):
    def test_channels_in_turns_are_read_and_written_as_plain_rows_say(self):
        pcm, bare = (
            noise(1000, 2),
            {"filter-adpcm": {"frame": 8, "interleave": -1}, "pcm": {"sample": "u8", "interleave": -1}},
        )
        for (codec, how), (turn, more, length) in product(bare.items(), (
            (128, {"last_turn": "filled"}, 128), (128, {"last_turn": "short"}, 0), (128, {"last_turn": "short", "last_align": 32}, 32),
            (2048, {"last_turn": "short", "last_align": 4096}, 2048), (2048, {"last_turn": "filled"}, 2048),
        )):  # fmt: skip
            format = Format(codec, 8000, 2, 1000, parameters=frozen(how))
            apart = np.frombuffer(codec_of(format).encode(pcm, format), np.uint8).reshape(2, -1)
            silence = b"\x80" if codec == "pcm" else b"\0"
            rows = [bytes(row) for at in range(0, apart.shape[1], turn) for row in apart[:, at : at + turn]]
            data = b"".join(row.ljust(-(-len(row) // (length or 1)) * (length or 1), silence) for row in rows)
            for interleave, block in ((turn, 0), ("block", 2 * turn)):
                with self.subTest(codec, interleave=interleave, **more):
                    own = format.with_(parameters=frozen({**how, "interleave": interleave, **more}), block_size=block)
                    self.assertEqual(bytes(codec_of(own).encode(pcm, own)), data)
                    self.assertEqual(codec_of(own).stored_size(own), len(data))
                    for start, frames in ((0, 1000), (890, 110), (500, 1)):
                        heard = codec_of(own).decode(source(data), own, start, frames)
                        wanted = codec_of(format).decode(source(apart.tobytes()), format, start, frames)
                        self.assertTrue((heard == wanted).all())

    def test_a_last_turn_that_is_evidently_filled_up_is_told(self):
        pcm, plain = noise(1000, 2), Format("pcm", 8000, 2, 1000, parameters=(("interleave", 256),))
        filled = plain.with_(parameters=(("interleave", 256), ("last_turn", "filled")))
        data = bytes(codec_of(filled).encode(pcm, filled))
        error = problem_of(self, codec_of(plain).decode, source(data), plain, 0, 1000)
        self.assertIn("last_turn: filled", error.next)
        short = bytes(codec_of(plain).encode(pcm, plain))  # in a sector that is as long as the filled turns
        for fill in (b"\0", b"\xcd"):
            heard = codec_of(plain).decode(source(short.ljust(len(data), fill)), plain, 0, 1000)
            self.assertTrue((heard == pcm).all())
        block = plain.with_(parameters=(("interleave", "block"),), block_size=6)
        self.assertEqual(problem_of(self, codec_of(block).decode, source(data), block, 0, 1000).field, "block_size")
