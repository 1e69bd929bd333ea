"""Many streams put into a mod at once, as they are, quieter, or as silence; a rebuild of them is proved."""

from pathlib import Path

import numpy as np
import soundfile
from django.conf import settings

from server.jobs.models import Job
from server.jobs.run import cancel, start
from server.mods.many import PrepareMany
from server.mods.models import Swap
from server.shelf.models import Stream
from tests.server.support import ServerTest, wav_bytes
from tests.support import tone
from zubret_core.audio.comments import tag
from zubret_core.base import Loop
from zubret_core.codec import codec_of


class PutIn(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.mod = f"/mods/{self.game['mod_id']}"
        self.every = self.get(f"/games/{self.game['id']}/streams?limit=100")["rows"]

    def put(self, streams: list[dict], source: str, status: int = 200, **more) -> dict:
        return self.send(
            "post", f"{self.mod}/put-in", {"chosen": [s["id"] for s in streams], "source": source, **more}, status
        )

    def swaps(self) -> dict[str, dict]:
        return {s["place"]: s for s in self.get(f"{self.mod}/swaps") if s["chosen"]}

    def heard(self, audio: str, stream: dict) -> np.ndarray:
        data = self.get(f"/audio/{audio}/pcm?start=0&frames={stream['frames']}").content
        return np.frombuffer(data, "<i2").astype(float)

    def test_every_stream_that_can_be_encoded_is_quieter_or_silent_and_the_rebuild_is_proved(self):
        able = [s for s in self.every if not self.obstacle(s)]
        self.assertGreater(len(able), 30)
        banks = sorted({s["bank"] for s in able})  # in one of them two streams share their bytes
        silent = {s["place"] for s in able if s["bank"] in banks[::2]}
        self.put([s for s in able if s["place"] not in silent], "original", gain_db=-6.0)
        self.put([s for s in able if s["place"] in silent], "silence")
        swaps = self.swaps()
        self.assertEqual(
            {s["state"] for s in swaps.values()}, {"ready"}, [s for s in swaps.values() if s["state"] != "ready"]
        )
        for stream in able:
            swap = swaps[stream["place"]]
            self.assertEqual(
                [swap["new"][k] for k in ("rate", "channels", "loop")],
                [stream[k] for k in ("rate", "channels", "loop")],
            )
            old, new = self.heard(stream["audio"], stream), self.heard(swap["new"]["audio"], stream)
            if stream["place"] in silent:
                self.assertLess(np.abs(new).max(initial=0), 40, stream["place"])
            else:
                much = np.abs(old) > 2000
                self.assertAlmostEqual(np.median(new[much] / old[much]), 10 ** (-6 / 20), 1, stream["place"])
        job = self.send("post", f"{self.mod}/rebuild")
        self.assertIsNone(self.get(f"/jobs/{job['id']}")["error"])
        build = self.get(f"{self.mod}/build")
        self.assertEqual((build["state"], build["files"]), ("proved", 5))

    def obstacle(self, stream: dict) -> str:
        format = Stream.objects.get(pk=stream["id"]).format()
        return codec_of(format).obstacle(format)

    def test_where_only_the_loop_moves_the_payload_stays_to_the_bit(self):
        one = self.stream(self.game, "0247")
        self.put([one], "original")
        swap = self.swaps()[one["place"]]
        self.assertEqual(
            (swap["source_name"], swap["new"]["snr_db"], swap["loop"]), ("the original", None, one["loop"])
        )
        block = one["block_frames"]
        start = one["loop"][0] + 3 * block
        swap = self.send(
            "patch", f"/swaps/{swap['id']}", {"loop": "points", "loop_start": start, "loop_end": one["loop"][1]}
        )
        swap = self.get(f"/swaps/{swap['id']}")
        self.assertEqual((swap["state"], swap["new"]["loop"]), ("ready", [start, one["loop"][1]]))
        self.send("post", f"{self.mod}/rebuild")
        build, files, points = self.built(self.mod)
        self.assertEqual((build["state"], all(p["ok"] for p in points)), ("proved", True))
        old = (Path(self.game["folder"]) / "data/sea.crate").read_bytes()
        number = next(n for n, file in enumerate(files) if file["path"] == "data/sea.crate")
        new = b"".join(self.get(f"/builds/{build['id']}/files/{number}").streaming_content)
        span = slice(one["archive_at"], one["archive_at"] + one["stored"])
        self.assertEqual(new[span], old[span])
        self.assertEqual(len(new), len(old))
        self.assertLess(sum(a != b for a, b in zip(new, old, strict=True)), 40)  # the record's loop, and sums

    def test_a_loose_file_whose_loop_moves_keeps_its_audio(self):
        loose, rate = Path(self.game["folder"]) / "loose", 24000
        loose.mkdir()
        for name, kind, subtype in (
            ("a.ogg", "OGG", "VORBIS"),
            ("b.flac", "FLAC", "PCM_24"),
            ("c.opus", "OGG", "OPUS"),
        ):
            soundfile.write(loose / name, tone(1.5, rate, 440), rate, format=kind, subtype=subtype)
            tag(str(loose / name), {}, Loop(6000, 30000))
        self.send("post", f"/games/{self.game['id']}/survey")
        streams = self.get(f"/games/{self.game['id']}/streams?within=loose/")["rows"]
        self.put(streams, "original")
        folder = settings.DATA_DIR / "mods" / str(self.game["mod_id"]) / "prepared"
        stored = {path.read_bytes() for path in folder.glob("*.payload")}
        self.assertEqual(stored, {path.read_bytes() for path in loose.iterdir()})
        for stream in streams:
            swap = self.swaps()[stream["place"]]
            self.send("patch", f"/swaps/{swap['id']}", {"loop": "points", "loop_start": 9000, "loop_end": 33000})
            swap = self.get(f"/swaps/{swap['id']}")
            self.assertEqual((swap["state"], swap["new"]["loop"]), ("ready", [9000, 33000]), stream["place"])
            np.testing.assert_array_equal(self.heard(swap["new"]["audio"], stream), self.heard(stream["audio"], stream))

    def test_one_undo_brings_back_what_stood_there(self):
        one, other = self.every[-1], self.every[-2]
        kept = self.upload(self.game, one, wav_bytes(tone(0.2, 8000, 440), 8000))
        made = self.put([one, other], "silence")
        self.assertEqual((len(made["swaps"]), made["aside"]), (2, [kept["id"]]))
        self.assertEqual((made["skipped"], made["unable"]), (0, 0))
        self.assertEqual({s["source"] for s in self.swaps().values()}, {"silence"})
        self.assertEqual(self.send("post", f"{self.mod}/take-back", made), 2)
        self.assertEqual([s["id"] for s in self.swaps().values()], [kept["id"]])
        gone = self.put([one, other], "none")
        self.assertEqual((gone["aside"], self.swaps()), ([kept["id"]], {}))
        self.send("post", f"{self.mod}/take-back", gone)
        self.assertEqual([s["id"] for s in self.swaps().values()], [kept["id"]])
        unable = [s for s in self.every if self.obstacle(s)]
        self.assertEqual(self.put([one, *unable], "silence")["unable"], len(unable))
        self.assertTrue(unable)
        self.put([], "silence", 409)
        self.put([one], "thunder", 422)
        self.put([one], "original", 422, gain_db=90)

    def test_what_was_not_reached_says_so_and_is_tried_again(self):
        made = self.put([s for s in self.every if s["bank"] == "crew_en.bell"][:3], "silence")["swaps"]
        Swap.objects.filter(pk__in=made[1:]).update(state=Swap.READING, prepared=None)
        Job.objects.all().delete()
        with self.settings(JOBS_AT_ONCE=False):
            job = start(PrepareMany(made), "Preparing", None)
        cancel(job)
        states = list(Swap.objects.filter(pk__in=made).order_by("pk").values_list("state", flat=True))
        self.assertEqual(states, ["ready", "failed", "failed"])
        self.send("patch", f"/swaps/{made[1]}", {})
        self.assertEqual(self.get(f"/swaps/{made[1]}")["state"], "ready")
