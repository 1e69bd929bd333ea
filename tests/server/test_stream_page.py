"""Lists, neighbours and drawings as the screens ask for them."""

import time
from contextlib import closing
from unittest import mock

import numpy as np
from django.db import connection
from django.test.utils import CaptureQueriesContext

from server.jobs import run
from server.shelf import drawing, query
from standin.formats import PCM, Sound, bell, crate
from tests.server.support import ServerTest, wav_bytes
from tests.support import noise


class StreamPage(ServerTest):
    def setUp(self):
        super().setUp()
        folder = self.root / "library" / "game"
        folder.mkdir()
        self.long = noise(drawing.AT_ONCE + 400_000, 1, 20_000)
        sounds = [Sound(1, self.long, 32000, codec=PCM), Sound(2, self.long[:9000], 32000, (500, 9000), PCM)]
        sounds += [Sound(n, noise(700 + n, 1, seed=n), 32000, codec=PCM) for n in range(3, 9)]
        (folder / "a.crate").write_bytes(crate("x", [("a.bell", bell("a", sounds), False)]))
        self.game = self.send("post", "/games", {"folder": str(folder)})
        self.path = f"/games/{self.game['id']}"
        self.rows = {r["stream_id"]: r for r in self.get(f"{self.path}/streams")["rows"]}

    def test_a_long_waveform_is_sketched_and_then_exact(self):
        address = self.rows["0001"]["audio"]
        first = self.get(f"/audio/{address}/wave?bins=300")
        self.assertEqual((first["rough"], len(first["channels"][0])), (True, 600))
        deadline = time.monotonic() + 20
        while (found := self.get(f"/audio/{address}/wave?bins=300"))["rough"] and time.monotonic() < deadline:
            time.sleep(0.1)
        self.assertFalse(found["rough"])
        low, high = found["channels"][0][0::2], found["channels"][0][1::2]
        self.assertEqual((min(low), max(high)), (self.long.min(), self.long.max()))
        near = self.get(f"/audio/{address}/wave?bins=40&start=100000&frames=40")
        np.testing.assert_array_equal(near["channels"][0][0::2], self.long[100_000:100_040, 0])
        past = self.get(f"/audio/{address}/wave?start=999999999&frames=5")
        self.assertEqual(past["channels"], [[]])
        (self.root / "data/waves").joinpath("old.wave").write_bytes(b"x")
        drawing._tidy(self.root / "data/waves")
        self.assertEqual(len(list((self.root / "data/waves").glob("*.wave"))), 2)

    def test_a_long_stream_is_measured_by_a_job_that_leaves_nothing_behind(self):
        path, jobs = f"/streams/{self.rows['0001']['id']}/figures", len(self.get("/jobs"))
        with CaptureQueriesContext(connection) as asked:
            self.assertIsNone(self.get(path))
        self.assertEqual([q["sql"] for q in asked if not q["sql"].startswith("SELECT")], [])
        with mock.patch.object(run, "_hand_over"):
            job = self.send("post", path)["job"]
            self.assertEqual(self.send("post", path)["job"]["id"], job["id"])  # one for all who ask
        run.begin(job["id"], "")
        figures = self.get(path)
        self.assertEqual((figures["frames"], figures["kind"]), (len(self.long), "music"))
        self.assertEqual((self.send("post", path)["job"], len(self.get("/jobs"))), (None, jobs))

    def test_neighbours_follow_the_list(self):
        def beside(stream: str, **query):
            text = "&".join(f"{k}={v}" for k, v in query.items())
            return self.get(f"{self.path}/neighbours?stream_id={self.rows[stream]['id']}&{text}")

        order = [r["stream_id"] for r in self.get(f"{self.path}/streams?sort=-length")["rows"]]
        found = beside(order[3], sort="-length")
        self.assertEqual((found["place"], found["total"]), (3, 8))
        self.assertEqual((found["previous"], found["next"]), tuple(self.rows[order[n]]["id"] for n in (2, 4)))
        self.assertEqual(beside(order[0], sort="-length")["previous"], 0)
        self.assertEqual(beside("0002", loop="yes"), {"place": 0, "total": 1, "previous": 0, "next": 0})
        self.assertEqual(beside("0001", loop="yes")["place"], -1)

    def test_kinds_loops_and_marks_narrow_every_list(self):
        self.send("patch", f"/streams/{self.rows['0003']['id']}", {"marked": True, "kind": "voice", "name": "ahoy"})
        for text, wanted in (("marked=true", ["0003"]), ("kind=voice", ["0003"]), ("loop=yes", ["0002"]), ("q=ahoy", ["0003"]),
                             ("kind=music", ["0001"])):  # fmt: skip
            page = self.get(f"{self.path}/streams?{text}")
            self.assertEqual([r["stream_id"] for r in page["rows"]], wanted, text)
            self.assertEqual(sum(self.get(f"{self.path}/lengths?{text}")["counts"]), len(wanted), text)
        by_kind = [r["kind"] for r in self.get(f"{self.path}/streams?sort=kind")["rows"]]
        self.assertEqual(by_kind, sorted(by_kind))
        self.assertTrue(self.get(f"/streams/{self.rows['0003']['id']}")["kind_given"])
        self.send("patch", f"/streams/{self.rows['0003']['id']}", {"kind": ""})
        self.assertFalse(self.get(f"/streams/{self.rows['0003']['id']}")["kind_given"])

    def test_a_stream_comes_out_in_every_kind_and_leaves_nothing_behind(self):
        row = self.rows["0002"]
        for kind, mark in (
            ("wav", b"RIFF"),
            ("flac", b"fLaC"),
            ("ogg", b"OggS"),
            ("opus", b"OggS"),
            ("stored", b"RIFF"),
        ):
            answer = self.get(f"/streams/{row['id']}/export?kind={kind}")
            data = answer.getvalue()
            self.assertTrue(data.startswith(mark), kind)
            answer.close()
        self.get(f"/streams/{row['id']}/export?kind=mp3", 422)
        self.assertEqual(list((self.root / "data").rglob("stream.*")), [])

    def test_what_takes_long_to_encode_is_made_by_a_job(self):
        (self.root / "library" / "long").mkdir()
        silence = np.zeros((query.AT_ONCE["opus"] * 2 * 48_000 + 1, 1), np.float32)
        (self.root / "library" / "long" / "quiet.wav").write_bytes(wav_bytes(silence, 48000, "PCM_U8"))
        game = self.send("post", "/games", {"folder": str(self.root / "library" / "long")})["id"]
        (row,) = self.get(f"/games/{game}/streams")["rows"]
        self.assertEqual(row["at_once"], ["wav", "flac", "ogg", "stored"])
        self.assertIn("by a job", self.get(f"/streams/{row['id']}/export?kind=opus", 409)["what"])
        self.send("post", f"/streams/{row['id']}/export?kind=mp3", status=422)
        begun = self.send("post", f"/streams/{row['id']}/export?kind=opus")
        job = self.get(f"/jobs/{begun['id']}")
        self.assertEqual((job["state"], job["result"]["download"]), ("done", "quiet.opus"))
        with closing(self.get(f"/jobs/{job['id']}/file")) as answer:
            self.assertTrue(answer.getvalue().startswith(b"OggS"))
            self.assertIn('filename="quiet.opus"', answer["Content-Disposition"])
        made = self.root / "data" / "exports" / str(job["id"])
        self.assertEqual([p.name for p in made.iterdir()], ["quiet.opus"])
        (made / "quiet.opus").unlink()
        self.get(f"/jobs/{job['id']}/file", 410)
