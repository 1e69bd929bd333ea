"""Streams of frames that say themselves how long they are: MPEG audio and AAC, and files that are one stream.

Sources: ISO/IEC 11172-3, 2.4.2.3 (tables, and the length of a frame in 2.4.3.1), 13818-3, 2.4.2.3; ISO/IEC 13818-7, 6.2; decoders
with code bases of their own: Debian's mpg123 (MPEG audio) and faad (AAC); the media library's reader of MP3 files.
"""

import io
import random
import subprocess
import tempfile
import wave
import zipfile
from pathlib import Path

import av
import numpy as np
from django.test import SimpleTestCase

from tests.core.test_swap import fitted
from tests.support import bytes_of, noise, problem_of, source, tone, wav_file
from zubret_core.audio import look_through
from zubret_core.bank.trial import check
from zubret_core.base import Format, to_float
from zubret_core.codec import codec_named, codec_of
from zubret_core.codec.frames import ADTS, MPEG, chain, header, walk
from zubret_core.container import GameFolder
from zubret_core.layout import load_layout
from zubret_core.locate import Known, Locator, Spot, kind_of
from zubret_core.locate.draft_texts import draft
from zubret_core.locate.unknown import rank
from zubret_core.rebuild import StreamSwap, plan_rebuild, prove_in_new_process, write_plan
from zubret_core.rebuild.expected import expectation
from zubret_core.source import FileSource
from zubret_core.swap import Treatment, prepare

SPEECH = """
zubret: 1
id: speech
describes: stream
inside: [zip]
paths: ["voices/*"]
whole: true
given: {stream.codec: mpeg}
"""


def sweep(frames: int, rate: int, channels: int = 1) -> np.ndarray:
    """A tone that rises from 200 Hz to a sixth of the rate: float32 (frames, channels)."""
    t = np.arange(frames) / rate
    wide = [0.3 * np.sin(2 * np.pi * (200 + (rate / 6 - 200) * t / t[-1] / 2) * t + c) for c in range(channels)]
    return np.stack(wide, axis=1).astype(np.float32)


def made(
    variant: str, rate: int, channels: int = 1, frames: int = 30_000, codec: str = "mpeg", **how
) -> tuple[Format, bytes]:
    """A stream of a sweep, and what its frames say of it."""
    format = Format(codec, rate, channels, frames, variant=variant, parameters=tuple(sorted(how.items())))
    payload = bytes(codec_of(format).encode(sweep(frames, rate, channels), format))
    return codec_of(format).told(source(payload), format), payload


def decoded_by(program: list[str], payload: bytes, ending: str) -> np.ndarray:
    """What another decoder makes of a stream: int16 (frames, channels)."""
    with tempfile.TemporaryDirectory() as folder:
        there, out = Path(folder, f"a.{ending}"), Path(folder, "a.wav")
        there.write_bytes(payload)
        subprocess.run([w.format(out=out, file=there) for w in program], check=True, capture_output=True)
        with wave.open(str(out)) as file:
            data = np.frombuffer(file.readframes(file.getnframes()), "<i2")
            return data.reshape(-1, file.getnchannels())


def zipped(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return out.getvalue()


MPG123 = ["mpg123", "-q", "-w", "{out}", "{file}"]
PLAIN = ["mpg123", "-q", "--no-gapless", "-w", "{out}", "{file}"]


class Headers(SimpleTestCase):
    def facts(self, text: str, kind: int = MPEG) -> list[int] | None:
        out = np.zeros(6, np.int64)
        data = np.frombuffer(bytes.fromhex(text).ljust(8, b"\0"), np.uint8)
        return out.tolist() if header(data, 0, kind, out) else None

    def test_tables_of_the_standard(self):
        """Bytes of a frame: 12 * rate of bits / rate, in words of four bytes, in layer 1; 144 of them in layers 2 and 3."""
        self.assertEqual(self.facts("fffb9064"), [417, 44100, 2, 1152, 3, 128])
        self.assertEqual(self.facts("fffb92c4"), [418, 44100, 1, 1152, 3, 128])  # padded, one channel
        self.assertEqual(self.facts("fffdd404"), [144 * 320 // 48, 48000, 2, 1152, 2, 320])
        self.assertEqual(self.facts("ffff9804"), [12 * 288 // 32 * 4, 32000, 2, 384, 1, 288])
        self.assertEqual(self.facts("fff380c4"), [72 * 64000 // 22050, 22050, 1, 576, 3, 64])
        self.assertEqual(self.facts("ffe388c4"), [72 * 64000 // 8000, 8000, 1, 576, 3, 64])
        self.assertEqual(self.facts("fff1508043ffdc", ADTS)[1:5], [44100, 2, 1024, 4])
        for wrong in ("fffbf064", "fffb0064", "fffb9c64", "fff99064", "ffeb9064", "fefb9064"):
            self.assertIsNone(self.facts(wrong), wrong)

    def test_frames_are_those_of_the_media_library(self):
        for variant, rate, channels in (
            ("3 128", 44100, 2),
            ("3 32", 16000, 1),
            ("2 192", 48000, 2),
            ("2 64", 24000, 1),
        ):
            _, payload = made(variant, rate, channels)
            with av.open(io.BytesIO(payload), format="mp3") as file:
                theirs = [packet.size for packet in file.demux() if packet.size]
            found = walk(source(payload), MPEG)
            self.assertEqual(found.length.tolist(), theirs)
            self.assertEqual((found.rate, found.channels), (rate, channels))


class Sound(SimpleTestCase):
    def test_mpg123_hears_the_same(self):
        for variant, rate, channels in (
            ("3 128", 44100, 2),
            ("3 64", 22050, 1),
            ("2 192", 44100, 2),
            ("3 160 tag", 44100, 2),
        ):
            with self.subTest(variant, rate=rate):
                format, payload = made(variant, rate, channels)
                theirs = to_float(decoded_by(MPG123 if "tag" in variant else PLAIN, payload, "mp3"))
                codec = codec_of(format)
                ours = codec.decode(source(payload), format, 0, format.frames)
                self.assertEqual(len(ours), len(theirs))
                self.assertLess(np.abs(ours - theirs).max(), 3 / 32768)
                late = codec.late(format)
                meant = sweep(30_000, rate, channels)
                heard = ours[late : late + 30_000]
                self.assertLess(np.abs(heard - meant)[2000:-2000].std(), 0.04)
                if "tag" in variant:
                    self.assertEqual((format.frames, late), (30_000, 0))
                part = codec.decode(source(payload), format, 20_001, 3000)
                self.assertTrue((part == ours[20_001:23_001]).all())

    def test_faad_hears_the_same(self):
        format, payload = made("4 96", 32000, 2, codec="adts")
        self.assertEqual((format.rate, format.channels, codec_of(format).late(format)), (32000, 2, 1024))
        theirs = to_float(decoded_by(["faad", "-q", "-o", "{out}", "{file}"], payload, "aac"))
        ours = codec_of(format).decode(source(payload), format, 0, format.frames)
        self.assertEqual(
            len(ours) - len(theirs), 1024
        )  # faad leaves the first frame out, so it begins with another past
        self.assertLess(np.abs(ours[1024:] - theirs)[2048:-2048].max(), 1e-3)

    def test_turns_and_zeros_between(self):
        format, payload = made("3 64", 22050, 2, align=32, turns=2)
        apart = [made("3 64", 22050, 1)[1]]
        found = walk(source(payload), MPEG, 32)
        self.assertTrue((found.at % 32 == 0).all())
        first = b"".join(payload[a : a + n] for a, n in zip(found.at[::2], found.length[::2], strict=True))
        self.assertEqual(first, apart[0])
        alone, _ = made("3 64", 22050, 1)
        one = codec_of(alone).decode(source(first), alone, 0, alone.frames)
        both = codec_of(format).decode(source(payload), format, 0, format.frames)
        self.assertEqual(both.shape, (alone.frames, 2))
        self.assertTrue((both[:, :1] == one).all())
        loose = codec_named("mpeg", (("align", 0),))
        padded = b"".join(
            payload[a : a + n] + bytes(int(n) % 7) for a, n in zip(found.at[::2], found.length[::2], strict=True)
        )
        self.assertEqual(len(walk(source(padded), MPEG, 0).at), len(found.at) // 2)
        self.assertEqual(loose.told(source(padded), alone).frames, alone.frames)
        problem_of(self, walk, source(padded), MPEG)

    def test_damage_is_an_error_or_sound(self):
        _, payload = made("3 64", 22050)
        chance = random.Random(2)
        for _ in range(200):
            bad = bytearray(payload)
            bad[chance.randrange(len(bad))] ^= 1 << chance.randrange(8)
            cut = bytes(bad[: chance.randrange(8, len(bad))])
            try:
                found = codec_named("mpeg").told(source(cut), Format("mpeg", 1, 1, -1))
                codec_named("mpeg").decode(source(cut), found, 0, found.frames)
            except Exception as e:
                self.assertEqual(type(e).__name__, "ZubretError", e)
        for data in (b"", b"\xff", bytes(1000), noise(4000).tobytes(), b"RIFF" * 500, payload[:100]):
            for kind in (MPEG, ADTS):
                problem_of(self, walk, source(data), kind)


class OneStream(SimpleTestCase):
    def known(self, *texts: str) -> Known:
        return Known([load_layout(text) for text in texts])

    def test_speech_in_an_archive_is_found_by_where_it_stands_and_by_being_sound(self):
        _, voice = made("3 64", 22050)
        _, tagged = made("3 64 tag", 22050, frames=5000)
        files = {
            "voices/a.dat": voice,
            "voices/b.dat": tagged,
            "voices/note.txt": b"no sound" * 99,
            "music/c.dat": voice,
        }
        spot = Spot("x.zip", source(zipped(files), "x.zip"), None, self.known(SPEECH))
        kinds = [kind_of(spot.entry(n).source, spot.known) for n in range(4)]
        self.assertEqual([bool(k) for k in kinds], [True, True, False, False])
        self.assertIn("all of it can be read so", kinds[0].evidence)
        streams = [spot.entry(n).bank.streams[0] for n in range(2)]
        self.assertEqual([s.format.frames for s in streams], [31_680, 5000])
        self.assertEqual(streams[0].format.rate, 22050)

    def test_it_is_changed_there_and_back(self):
        for variant in ("3 64", "2 64", "3 64 tag"):
            layout = load_layout(SPEECH.replace("whole: true\n", "").replace("inside: [zip]\n", ""))
            found = check(layout, source(made(variant, 24000)[1], "voices/a"))
            self.assertTrue(found.ok and found.tried == 3, found)

    def test_of_several_that_fit_the_one_with_most_evidence_is_taken(self):
        loose = "zubret: 1\nid: loose\ndescribes: stream\nrecognise: [{at: 0, bytes: 'ff'}]\ngiven: {stream.codec: pcm16, stream.rate: 8000}\n"
        big = loose.replace("loose", "big").replace("recognise", "sizes: {least: 99999999}\nrecognise")
        place = loose.replace("loose", "place").replace("{at: 0", "{at: {type: u8, at: 1, base: -243}")  # f3 is 243
        _, voice = made("3 64", 22050)
        for texts, name, wanted in (
            ((loose, SPEECH.replace("inside: [zip]\n", "")), "voices/a", "speech"),
            ((loose, SPEECH), "voices/a", "loose"),
            ((loose, big), "a", "loose"),
            ((place, loose), "a", "place"),
        ):
            self.assertEqual(kind_of(source(voice, name), self.known(*texts)).layout.id, wanted)
        problem = problem_of(self, load_layout, loose.replace("recognise: [{at: 0, bytes: 'ff'}]\n", ""))
        self.assertIn("names", problem.what)

    def test_a_game_of_bare_speech_is_swapped_rebuilt_proved_and_heard_elsewhere(self):
        with tempfile.TemporaryDirectory() as folder:
            root = Path(folder, "game")
            root.mkdir()
            names = ["voices/a.dat", "voices/b.dat", "voices/c.dat"]
            voices = [made("3 64", 22050)[1], made("3 48 tag", 22050, frames=9000)[1], made("2 96", 24000, 2)[1]]
            Path(root, "speech.zip").write_bytes(zipped(dict(zip(names, voices, strict=True))))
            place = wav_file(Path(folder, "new.wav"), tone(1, 44100, 500, 1), 44100)
            game, known, swaps = GameFolder(root), self.known(SPEECH), []
            with FileSource(place) as file:
                for n, name in enumerate(names):
                    locator = Locator("speech.zip", ((name, n),), "", 0)
                    stream, info = locator.stream(game, known), look_through(file)
                    how, report = fitted(stream, info, Treatment())
                    made_of = prepare(stream, file, info, how, report)
                    self.assertGreater(made_of.snr_db, 20)
                    payload = Path(folder, f"{n}.payload")
                    payload.write_bytes(bytes_of(made_of.payload))
                    swaps.append(StreamSwap(locator, payload, made_of.format, made_of.snr_db))
            plans = plan_rebuild(game, swaps, known=known)
            out = Path(folder, "out")
            write_plan(plans, out)
            points = prove_in_new_process(expectation(game, out, plans, [SPEECH]))
            self.assertEqual([p for p in points if not p.ok], [])
            with zipfile.ZipFile(out / "speech.zip") as archive:
                for name, swap in zip(names, swaps, strict=True):
                    heard = decoded_by(MPG123, archive.read(name), "mp3")
                    self.assertEqual((len(heard), heard.shape[1]), (swap.format.frames, swap.format.channels))
                    self.assertEqual(swap.format.frames == swap.format.rate, name == names[1])


class Unknown(SimpleTestCase):
    """Chains of frames in bytes that nothing describes."""

    def test_a_chain_is_found_heard_and_drafted(self):
        for variant, codec, rate in (("3 64", "mpeg", 22050), ("2 96", "mpeg", 24000), ("4 64", "adts", 22050)):
            format, voice = made(variant, rate, codec=codec)
            for ahead, behind in ((b"", b""), (b"SPCH" + bytes(range(40)), noise(500).tobytes())):
                part = source(ahead + voice + behind, "a.spk")
                best = rank(part, 0, part.size).candidates[0]
                self.assertEqual((best.codec, best.channels, best.skip), (codec, 1, len(ahead)))
                payload, found = best.read(part, 0, part.size, 8000)
                self.assertEqual((payload.size, found.frames, found.rate), (len(voice), format.frames, rate))
                text = draft("a.spk", part.read(0, 64), best, 8000, 0, None)
                if not behind:
                    result = check(load_layout(text), part)
                    self.assertTrue(result.ok and result.explained == 1, text)
        self.assertIn("whole: true", text)

    def test_what_is_no_sound_has_no_chain(self):
        chance = random.Random(5)
        for data in (
            chance.randbytes(1 << 20),
            b"\xff" * 9999,
            Path(subprocess.__file__).read_bytes(),
            bytes(range(256)) * 99,
        ):
            for kind in (MPEG, ADTS):
                for align in (1, 0):
                    self.assertIsNone(chain(source(data), kind, align))
