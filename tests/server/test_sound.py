"""Sound by address: chunks, ranges, waveforms, files."""

import io
import subprocess
from pathlib import Path
from unittest import mock

import mutagen
import numpy as np
import soundfile

from server.shelf import drawing, opening, sound
from server.shelf.models import Stream
from tests.server.support import ServerTest
from tests.support import demo_game
from zubret_core.base import Format, Kept
from zubret_core.container import GameFolder
from zubret_core.locate import recognise, spot


class Sound(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.one = self.stream(self.game, "0247")
        core = Stream.objects.get(pk=self.one["id"]).where().stream(GameFolder(demo_game()))
        self.truth = core.decode(0, core.format.frames)

    def test_pcm_chunks_are_exactly_those_frames(self):
        for start, frames in ((0, 100), (123_457, 5000), (len(self.truth) - 10, 500), (len(self.truth), 5)):
            answer = self.get(f"/audio/{self.one['audio']}/pcm?start={start}&frames={frames}")
            got = np.frombuffer(answer.content, "<i2").reshape(-1, 2)
            np.testing.assert_array_equal(got, self.truth[start : start + frames])
            self.assertIn("immutable", answer["Cache-Control"])
        self.get(f"/audio/{self.one['audio']}/pcm?start={len(self.truth) + 1}", 416)
        self.get(f"/audio/{self.one['audio']}/pcm?start=-1", 416)
        self.get(f"/audio/{self.one['audio']}/pcm?frames=many", 422)

    def test_an_archive_is_opened_once_for_all_that_is_heard_in_it(self):
        opening._spots, sound._banks, sound._open = Kept(1 << 30), Kept(100), Kept(100)
        rows = self.get(f"/games/{self.game['id']}/streams?limit=100")["rows"]
        with mock.patch.object(recognise, "open_archive", wraps=recognise.open_archive) as opens:
            spot.open_archive = opens
            self.addCleanup(setattr, spot, "open_archive", recognise.open_archive)
            for row in rows:
                self.get(f"/audio/{row['audio']}/pcm?frames=16")
        self.assertEqual(opens.call_count, len({row["archive"] for row in rows}))

    def test_the_wav_answers_range_requests(self):
        """RFC 9110, sections 14.2 (Range), 14.4 (Content-Range), 13.1.5 (If-Range), 15.5.17 (416)."""
        path = f"/audio/{self.one['audio']}/wav"
        whole = self.get(path)
        data = b"".join(whole.streaming_content)
        pcm, rate = soundfile.read(io.BytesIO(data), dtype="int16")
        self.assertEqual(rate, 48000)
        np.testing.assert_array_equal(pcm, self.truth)
        size, tag = len(data), whole["ETag"]
        for span, (start, end) in {
            "bytes=0-99": (0, 100),
            "bytes=1000-": (1000, size),
            "bytes=-77": (size - 77, size),
            f"bytes={size - 5}-{size + 500}": (size - 5, size),
            "bytes=5000001-5000003": (5_000_001, 5_000_004),
        }.items():
            answer = self.get(path, 206, Range=span)
            self.assertEqual(b"".join(answer.streaming_content), data[start:end], span)
            self.assertEqual(answer["Content-Range"], f"bytes {start}-{end - 1}/{size}")
            self.assertEqual(int(answer["Content-Length"]), end - start)
        for bad in (f"bytes={size}-", "bytes=9-3", "bytes=-0", "frames=0-9", "bytes=a-b", "bytes=0-1,5-9"):
            answer = self.client.get(f"/api{path}", headers={"Range": bad})
            self.assertEqual((answer.status_code, answer["Content-Range"]), (416, f"bytes */{size}"), bad)
        same = self.get(path, 206, Range="bytes=0-9", **{"If-Range": tag})
        self.assertEqual(len(b"".join(same.streaming_content)), 10)
        other = self.get(path, 200, Range="bytes=0-9", **{"If-Range": '"another"'})
        self.assertEqual(sum(map(len, other.streaming_content)), size)
        head = self.client.head(f"/api{path}")
        self.assertEqual((head.status_code, int(head["Content-Length"]), head.content), (200, size, b""))

    def test_peaks_follow_the_sound(self):
        for bins in (1, 40, 960):
            found = self.get(f"/audio/{self.one['audio']}/peaks?bins={bins}")
            self.assertEqual(len(found), bins)
            loudest = np.abs(self.truth.astype(int)).max() / 32768 * 255
            self.assertAlmostEqual(max(found), loudest, delta=1.01)

    def test_the_small_drawing_of_a_long_sound_is_sketched_from_a_few_places(self):
        decoded, frames = [], 100_000_000

        def decode(start: int, count: int) -> np.ndarray:
            decoded.append(count)
            return np.full((count, 1), 1000 + start * 20_000 // frames, np.int16)

        long = sound.Sound("long", Format("pcm", 48000, 1, frames), decode, f"long{self.id()}")
        drawn, rough = drawing.peaks_of(long, 100)
        self.assertTrue(rough)
        self.assertLess(sum(decoded), frames // 50)
        np.testing.assert_allclose(drawn, [(1000 + n * 200) * 255 / 32768 for n in range(100)], atol=3)

    def test_an_old_address_never_gives_new_sound(self):
        kind, _, digest = self.one["audio"].partition(".")
        self.get(f"/audio/{kind}.{'0' * len(digest)}/pcm", 410)
        self.get("/audio/nonsense/pcm", 404)
        self.get("/audio/o999.x/pcm", 410)
        other = self.stream(self.game, "0251")
        self.get(f"/audio/{other['audio']}/pcm")
        place = Path(self.game["folder"]) / "data/sea.crate"
        place.write_bytes(place.read_bytes() + b"more")
        problem = self.get(f"/audio/{other['audio']}/pcm", 409)
        self.assertIn("changed since it was surveyed", problem["what"])

    def test_wav_and_ogg_come_out_with_their_loop(self):
        wav = b"".join(self.get(f"/streams/{self.one['id']}/export?kind=wav").streaming_content)
        place = self.root / "x.wav"
        place.write_bytes(wav)
        told = subprocess.run(["sndfile-info", place], capture_output=True, text=True, check=True).stdout
        start, end = self.one["loop"]
        self.assertRegex(told, rf"Start :\s*{start}\s+End :\s*{end - 1}")
        self.assertEqual(soundfile.info(place).frames, self.one["frames"])
        ogg = self.get(f"/streams/{self.one['id']}/export?kind=ogg").getvalue()
        tags = mutagen.File(io.BytesIO(ogg)).tags
        self.assertEqual((tags["LOOPSTART"], tags["LOOPLENGTH"]), ([str(start)], [str(end - start)]))
        self.assertEqual(soundfile.info(io.BytesIO(ogg)).frames, self.one["frames"])
        self.get(f"/streams/{self.one['id']}/export?kind=mp3", 422)
