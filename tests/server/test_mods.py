"""From an upload to a proven rebuild."""

import io
import zipfile
from pathlib import Path

import numpy as np
import soundfile
from django.conf import settings

from server.mods.models import Build, Swap
from tests.server.support import ServerTest, wav_bytes
from tests.support import edited, tone


class Swapping(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.one = self.stream(self.game, "0247")
        self.mod = f"/mods/{self.game['mod_id']}"
        self.tone = wav_bytes(tone(6, 44100, 441, 2), 44100)

    def ready(self) -> dict:
        made = self.upload(self.game, self.one, self.tone)
        return self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"}) and self.get(f"/swaps/{made['id']}")

    def test_a_swap_from_upload_to_encoded_result(self):
        made = self.get(f"/swaps/{self.upload(self.game, self.one, self.tone)['id']}")
        self.assertEqual((made["state"], made["verdict"]), ("open", "can be fitted"))
        self.assertIsNone(made["new"])
        half = self.send("post", f"/swaps/{made['id']}/fit", {"point": "rate"})
        self.assertEqual(next(p for p in half["points"] if p["key"] == "rate")["verdict"], "fits")
        self.assertEqual(half["state"], "open")
        self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"})
        done = self.get(f"/swaps/{made['id']}")
        self.assertEqual((done["state"], done["new"]["rate"]), ("ready", 48000))
        self.assertGreater(done["new"]["snr_db"], 25)
        self.assertEqual({p["key"] for p in done["points"] if p["verdict"] != "fits"}, {"loudness"})
        self.send("post", f"/swaps/{made['id']}/fit", {"point": "loudness"})  # it can only be told once it is encoded
        done = self.get(f"/swaps/{made['id']}")
        self.assertEqual((done["treatment"]["match"], done["state"]), ("original", "ready"))
        self.assertTrue(all(p["verdict"] == "fits" for p in done["points"]))
        loudness = next(p for p in done["points"] if p["key"] == "loudness")
        self.assertEqual(loudness["original"], loudness["new"])
        first = done["new"]["audio"]
        heard = np.frombuffer(self.get(f"/audio/{first}/pcm?start=4800&frames=48000").content, "<i2")[::2]
        spectrum = np.abs(np.fft.rfft(heard * np.hanning(len(heard))))
        self.assertAlmostEqual(float(np.argmax(spectrum)), 441, delta=1)  # one bin is 1 Hz
        self.send("patch", f"/swaps/{made['id']}", {"loop": "points", "loop_start": 44_100, "loop_end": 88_200})
        moved = self.get(f"/swaps/{made['id']}")
        self.assertNotEqual(moved["new"]["audio"], first)
        self.assertEqual(moved["new"]["loop"][0] % 2041, 0)
        self.assertEqual(moved["new"]["loop"][1] - moved["new"]["loop"][0], 48_000)
        same = np.frombuffer(self.get(f"/audio/{first}/pcm?start=4800&frames=48000").content, "<i2")[::2]
        np.testing.assert_array_equal(same, heard)  # an address keeps its sound
        # A loop that is moved in the encoded stream's own frames: the file's are a rate and a pad apart.
        self.assertEqual(moved["loop"], [44_100, 88_200])
        start, end = moved["new"]["loop"]
        again = self.send("patch", f"/swaps/{made['id']}", {"new_loop": [start + 2400, end]})
        self.assertEqual(again["loop"], [44_100 + 2205, 88_200])
        self.send("patch", f"/swaps/{made['id']}", {"new_loop": [1]}, 422)

    def test_files_that_are_no_replacement(self):
        words = {b"just text": "not an audio file", b"": "empty"}
        words[wav_bytes(np.zeros((0, 1), np.int16), 44100)] = "0 frames"
        for data, word in words.items():
            problem = self.upload(self.game, self.one, data, "bad.wav", 422)
            self.assertIn(word, problem["what"])
            self.assertEqual(problem["where"], "bad.wav")
        self.assertEqual(Swap.objects.count(), 0)
        broken = tone(0.5, 44100, 441, 2)
        broken[7] = np.nan
        made = self.get(f"/swaps/{self.upload(self.game, self.one, wav_bytes(broken, 44100, 'FLOAT'))['id']}")
        self.assertEqual(made["state"], "failed")
        self.assertIn("Frame 7 is not a number", made["error"]["what"])
        seven = self.upload(self.game, self.one, wav_bytes(tone(0.5, 44100, 441, 7), 44100))
        self.assertEqual(self.get(f"/swaps/{seven['id']}")["verdict"], "blocks")
        self.get(f"{self.mod}/plan", 409)

    def test_a_swap_is_removed_and_brought_back(self):
        first = self.ready()
        self.send("delete", f"/swaps/{first['id']}", status=204)
        self.assertEqual(self.get(f"{self.mod}/swaps"), [])
        told = self.send("patch", f"/swaps/{first['id']}", {"gain_db": -3}, 409)  # from another window
        self.assertIn("was removed", told["what"])
        back = self.send("post", f"/swaps/{first['id']}/restore")
        self.assertEqual((back["state"], back["new"]["audio"]), ("ready", first["new"]["audio"]))
        self.assertEqual(len(self.get(f"{self.mod}/swaps")), 1)

    def test_steps_that_can_not_be(self):
        made = self.upload(self.game, self.one, self.tone)
        for steps in ({"gain_db": 900}, {"loop": "sideways"}, {"align": "x"}):
            self.send("patch", f"/swaps/{made['id']}", steps, 422)
        self.send("patch", f"/swaps/{made['id']}", {"gain_db": "loud"}, 422)
        changed = self.send("patch", f"/swaps/{made['id']}", {"loop": "points", "loop_start": 9, "loop_end": 3})
        self.assertEqual(changed["verdict"], "blocks")
        self.assertIn("empty or leaves", changed["points"][0]["action"])
        self.assertEqual(changed["loop"], [9, 3])  # as it was typed
        self.send("patch", f"/swaps/{made['id']}", {"new_loop": [1, 2]}, 409)
        self.send("patch", "/swaps/4444", {"gain_db": 1}, 404)

    def test_rebuild_proof_trial_and_download(self):
        before = {p: p.read_bytes() for p in Path(self.game["folder"]).rglob("*") if p.is_file()}
        self.assertIn("changes nothing yet", self.send("post", f"{self.mod}/rebuild", status=409)["what"])
        swap = self.ready()
        plan = self.planned(self.mod)[0]
        self.assertEqual((plan["path"], plan["in_place"], plan["moved"]), ("data/sea.crate", True, 0))
        self.assertIn("new", {s["kind"] for s in plan["after"]["segments"]})
        job = self.send("post", f"{self.mod}/rebuild")
        self.assertEqual(self.get(f"/jobs/{job['id']}")["state"], "done")
        build, files, points = self.built(self.mod)
        self.assertEqual((build["state"], build["fresh"]), ("proved", True))
        self.assertTrue(points and all(p["ok"] for p in points))
        first = self.get(f"/builds/{build['id']}/proof?file={files[0]['path']}&offset=1&limit=2")
        self.assertEqual((first["rows"], first["total"]), (points[1:3], files[0]["points"]))
        (result,) = self.get(f"/builds/{build['id']}/results")["rows"]
        rebuilt = self.get(f"/audio/{result['audio']}/pcm?start=1000&frames=900").content
        self.assertEqual(rebuilt, self.get(f"/audio/{swap['new']['audio']}/pcm?start=1000&frames=900").content)
        self.send("post", f"/builds/{build['id']}/trials", {"swap_id": swap["id"], "loops": 0}, 422)
        started = self.send("post", f"/builds/{build['id']}/trials", {"swap_id": swap["id"], "loops": 3})
        trial = self.get(f"/trials/{started['trial']['id']}")
        start, end = swap["new"]["loop"]
        self.assertEqual((trial["played"], trial["frames"]), (True, start + 3 * (end - start)))
        self.assertTrue(any("looped" in line for line in trial["log"]))
        self.get(f"/audio/{trial['audio']}/wav")
        file = b"".join(self.get(f"/builds/{build['id']}/files/0").streaming_content)
        self.assertEqual(file[:4], b"SFCR")
        self.get(f"/builds/{build['id']}/files/7", 404)
        self.send("patch", f"/swaps/{swap['id']}", {"gain_db": -12.0})
        self.assertFalse(self.get(f"{self.mod}/build")["fresh"])
        route = {s["key"]: s["text"] for s in self.get(f"/games/{self.game['id']}/route")}
        self.assertEqual(route["rebuild"], "out of date")
        self.assertEqual({p: p.read_bytes() for p in before}, before)

    def test_a_trial_run_that_is_refused_says_why(self):
        swap = self.ready()
        self.send("post", f"{self.mod}/rebuild")
        build = Build.objects.get()
        place = settings.DATA_DIR / "builds" / str(build.pk) / "data/sea.crate"
        place.write_bytes(edited(place.read_bytes(), 8, "<I", 8))
        started = self.send("post", f"/builds/{build.pk}/trials", {"swap_id": swap["id"]})
        trial = self.get(f"/trials/{started['trial']['id']}")
        self.assertEqual((trial["played"], trial["audio"]), (False, ""))
        self.assertIn("sea.crate: the sum is not the one in data/sums.txt", trial["why"])

    def test_a_rebuild_that_fails_leaves_nothing(self):
        self.ready()
        for file in (settings.DATA_DIR / "mods").rglob("*.payload"):
            file.unlink()
        job = self.send("post", f"{self.mod}/rebuild")
        failed = self.get(f"/jobs/{job['id']}")
        self.assertEqual(failed["state"], "failed")
        self.assertTrue(failed["error"]["what"] and failed["error"]["next"])
        self.assertEqual(Build.objects.count(), 0)
        self.assertFalse(
            any((settings.DATA_DIR / "builds").rglob("*")) if (settings.DATA_DIR / "builds").exists() else False
        )

    def test_a_zip_built_elsewhere_takes_a_swap(self):
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as pack:
            pack.writestr("a.wav", wav_bytes(tone(1, 22050, 441), 22050))
            pack.writestr("b.txt", "text")
        (Path(self.game["folder"]) / "extra.zip").write_bytes(out.getvalue())
        self.send("post", f"/games/{self.game['id']}/survey")
        stream = self.stream(self.game, "extra.zip")
        made = self.upload(self.game, stream, wav_bytes(tone(2, 44100, 882, 2), 44100))
        self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"})
        self.send("post", f"{self.mod}/rebuild")
        build, files, _ = self.built(self.mod)
        self.assertEqual((build["state"], [f["path"] for f in files]), ("proved", ["extra.zip"]))
        data = b"".join(self.get(f"/builds/{build['id']}/files/0").streaming_content)
        with zipfile.ZipFile(io.BytesIO(data)) as pack:
            info = soundfile.info(io.BytesIO(pack.read("a.wav")))
            self.assertEqual((info.samplerate, info.channels, info.frames), (22050, 1, 44100))
            self.assertEqual(pack.read("b.txt"), b"text")
