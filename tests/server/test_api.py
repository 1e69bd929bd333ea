"""The API as its users meet it: surveys, lists, sound by range, swaps, rebuilds, and what it refuses."""

import io
import json
import os
import shutil
import subprocess
import tempfile
import zipfile
from datetime import timedelta
from pathlib import Path

import mutagen
import numpy as np
import soundfile
from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test import Client, SimpleTestCase, TransactionTestCase, override_settings
from django.utils import timezone

from server.bulk import bulk_insert
from server.games.management.commands.openapi import document
from server.games.models import Game
from server.jobs.beat import QUEUES
from server.jobs.models import Job
from server.mods.models import Build, Swap
from server.shelf.models import Archive, Entry, Stream
from tests.support import ROOT, copy_of_demo, demo_game, edited, small_crate, tone
from zubret_core.container import GameFolder
from zubret_core.locate import open_stream


class ServerTest(TransactionTestCase):
    """A server with a data folder and a library root of its own; jobs run within the request."""

    def setUp(self):
        self.root = Path(tempfile.mkdtemp()).resolve()
        self.addCleanup(shutil.rmtree, self.root, ignore_errors=True)
        own = override_settings(DATA_DIR=self.root / "data", LIBRARY_ROOTS=[self.root / "library"])
        own.enable()
        self.addCleanup(own.disable)
        (self.root / "data").mkdir()
        (self.root / "library").mkdir()
        self.client = Client(HTTP_HOST="127.0.0.1")

    def get(self, path: str, status: int = 200, **headers):
        answer = self.client.get(f"/api{path}", headers=headers or None)
        self.assertEqual(answer.status_code, status, answer.content[:500] if not answer.streaming else path)
        return answer.json() if answer["Content-Type"].startswith("application/json") else answer

    def send(self, method: str, path: str, body=None, status: int = 200):
        call = getattr(self.client, method)
        answer = call(f"/api{path}", json.dumps(body or {}), content_type="application/json")
        self.assertEqual(answer.status_code, status, answer.content[:500])
        if status >= 400:
            self.assertEqual(set(answer.json()), {"what", "where", "next"})
            self.assertNotIn("Traceback", answer.content.decode())
        return answer.json() if answer.content else None

    def add_game(self, small: bool = False) -> dict:
        """The demo game, or one that is only the small archive and a text."""
        folder = self.root / "library" / "game"
        if small:
            folder.mkdir()
            (folder / "small.crate").write_bytes(small_crate())
            (folder / "notes.txt").write_text("nothing to hear")
        else:
            copy_of_demo(folder)
        return self.send("post", "/games", {"folder": str(folder)})

    def upload(self, game: dict, stream: dict, data: bytes, name: str = "tone.wav", status: int = 200):
        file = SimpleUploadedFile(name, data)
        answer = self.client.post(f"/api/mods/{game['mod_id']}/swaps", {"stream_id": stream["id"], "file": file})
        self.assertEqual(answer.status_code, status, answer.content[:500])
        return answer.json()

    def stream(self, game: dict, q: str) -> dict:
        return self.get(f"/games/{game['id']}/streams?q={q}")["rows"][0]


def wav_bytes(pcm: np.ndarray, rate: int, subtype: str = "PCM_16") -> bytes:
    out = io.BytesIO()
    soundfile.write(out, pcm, rate, format="WAV", subtype=subtype)
    return out.getvalue()


class Games(ServerTest):
    def test_only_the_allowed_roots_can_be_seen(self):
        (self.root / "library" / "a game").mkdir()
        (self.root / "elsewhere").mkdir()
        (self.root / "library" / "way out").symlink_to(self.root / "elsewhere")
        top = self.get("/folders")
        self.assertEqual([f["path"] for f in top["folders"]], [str(self.root / "library")])
        inside = self.get(f"/folders?path={self.root}/library")
        self.assertEqual([f["name"] for f in inside["folders"]], ["a game", "way out"])
        self.assertEqual(inside["parent"], "")
        for path in (
            "/",
            "/etc",
            f"{self.root}/library/..",
            f"{self.root}/library/way out",
            f"{self.root}/library/../elsewhere",
        ):
            problem = self.get(f"/folders?path={path}", 403)
            self.assertIn("outside the folders", problem["what"])
            self.send("post", "/games", {"folder": path}, 403)
        self.get(f"/folders?path={self.root}/library/missing", 404)
        self.assertEqual(Game.objects.count(), 0)

    def test_a_survey_tells_what_every_file_is(self):
        game = self.add_game()
        survey = self.get(f"/games/{game['id']}/survey")
        rows = {r["path"]: r for r in survey["rows"]}
        self.assertEqual(
            {p: (r["what"], r["entries"], r["streams"]) for p, r in rows.items()},
            {
                "data/sea.crate": ("archive", 9, 34),
                "data/deck.zip": ("archive", 6, 5),
                "data/order.txt": ("other", 0, 0),
                "ferry.ini": ("other", 0, 0),
                "read me.txt": ("other", 0, 0),
            },
        )
        self.assertEqual(rows["data/sea.crate"]["layout"], "saltglass-crate")
        self.assertGreater(rows["data/deck.zip"]["unpacked"], rows["data/deck.zip"]["size"])
        route = {s["key"]: (s["dot"], s["text"]) for s in self.get(f"/games/{game['id']}/route")}
        self.assertEqual(route["survey"], ("full", "2 archives"))
        self.assertEqual(route["locate"], ("full", "39 streams"))
        self.assertEqual(route["rebuild"], ("empty", "not rebuilt"))

    def test_an_unchanged_archive_is_stored_once_and_a_changed_one_anew(self):
        game = self.add_game(small=True)
        self.assertEqual((Archive.objects.count(), Stream.objects.count()), (1, 8))
        self.send("post", f"/games/{game['id']}/survey")
        self.assertEqual((Archive.objects.count(), Stream.objects.count()), (1, 8))
        place = Path(game["folder"]) / "small.crate"
        os.utime(place, (1, 1))
        self.send("post", f"/games/{game['id']}/survey")
        self.assertEqual(Archive.objects.count(), 2)
        self.assertEqual(self.get(f"/games/{game['id']}/streams")["total"], 8)

    def test_a_damaged_archive_is_listed_with_its_error(self):
        game = self.add_game(small=True)
        place = Path(game["folder"]) / "small.crate"
        place.write_bytes(edited(small_crate(), 8, "<I", 9_999_999))
        self.send("post", f"/games/{game['id']}/survey")
        row = next(r for r in self.get(f"/games/{game['id']}/survey")["rows"] if r["path"] == "small.crate")
        self.assertEqual(row["what"], "unreadable")
        self.assertIn("promises 9,999,999 records", row["error"]["what"])
        self.assertIn("small.crate, byte", row["error"]["where"])
        self.assertTrue(row["error"]["next"])

    def test_a_path_with_dots_in_an_archive_is_only_a_name(self):
        from standin.formats import crate
        from tests.support import small_bell

        game = self.add_game(small=True)
        place = Path(game["folder"]) / "small.crate"
        place.write_bytes(crate("x", [("../../../evil.bell", small_bell(), False)]))
        self.send("post", f"/games/{game['id']}/survey")
        stream = self.get(f"/games/{game['id']}/streams")["rows"][0]
        self.assertEqual(stream["entry"], "../../../evil.bell")
        answer = self.get(f"/streams/{stream['id']}/export?kind=wav")
        self.assertIn('filename="evil_0001.wav"', answer["Content-Disposition"])
        b"".join(answer.streaming_content)
        self.assertEqual(list(self.root.parent.glob("evil*")), [])

    def test_forgetting_a_game_leaves_its_folder_alone(self):
        game = self.add_game(small=True)
        self.send("delete", f"/games/{game['id']}", status=204)
        self.assertEqual(Game.objects.count(), 0)
        self.assertTrue((Path(game["folder"]) / "small.crate").exists())
        self.get(f"/games/{game['id']}/survey", 404)


class Lists(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.path = f"/games/{self.game['id']}"

    def test_streams_are_searched_sorted_and_paged(self):
        longest = self.get(f"{self.path}/streams?sort=-length&limit=3")
        self.assertEqual([r["stream_id"] for r in longest["rows"]], ["0266", "0247", "0246"])
        self.assertEqual(longest["total"], 39)
        self.assertAlmostEqual(longest["seconds"], sum(s.seconds for s in Stream.objects.all()), places=3)
        second = self.get(f"{self.path}/streams?sort=-length&limit=3&offset=3")
        self.assertLess(second["rows"][0]["seconds"], longest["rows"][-1]["seconds"])
        self.assertEqual(self.get(f"{self.path}/streams?q=crew_fr 1003")["total"], 1)
        self.assertEqual(self.get(f"{self.path}/streams?q=nowhere")["rows"], [])
        self.assertEqual(self.get(f"{self.path}/streams?language=German")["total"], 8)
        self.assertEqual(self.get(f"{self.path}/languages"), ["English", "French", "German"])
        music = self.get(f"{self.path}/streams?shortest=20&longest=60")
        self.assertTrue(all(20 <= r["seconds"] <= 60 for r in music["rows"]))
        self.assertEqual(music["total"], 2)
        sizes = [r["stored"] for r in self.get(f"{self.path}/streams?sort=size&limit=50")["rows"]]
        self.assertEqual(sizes, sorted(sizes))
        shared = self.stream(self.game, "2212")
        self.assertEqual(shared["shared"], 1)

    def test_the_length_brush_counts_every_stream_once(self):
        brush = self.get(f"{self.path}/lengths")
        self.assertEqual(sum(brush["counts"]), 39)
        self.assertEqual(sum(self.get(f"{self.path}/lengths?q=music.bell")["counts"][18:]), 5)

    def test_entries_and_the_ribbon(self):
        archive = next(a for a in Archive.objects.all() if a.path == "data/sea.crate")
        page = self.get(f"{self.path}/entries?archive={archive.pk}&sort=-size&limit=2")
        self.assertEqual((page["total"], page["rows"][0]["path"]), (9, "music/music.bell"))
        self.assertEqual(self.get(f"{self.path}/entries?q=lamp")["rows"][0]["method"], "zlib")
        ribbon = self.get(f"/archives/{archive.pk}/ribbon")
        self.assertEqual((ribbon["explained"], sum(s["length"] for s in ribbon["segments"])), (1.0, archive.size))
        stream = self.stream(self.game, "0247")
        raw = (Path(self.game["folder"]) / "data/sea.crate").read_bytes()
        inside = open_stream(GameFolder(Path(self.game["folder"])), Stream.objects.get(pk=stream["id"]).where())
        self.assertEqual(raw[stream["archive_at"] :][:64], inside.payload.read(0, 64))

    def test_names_and_marks_belong_to_the_game_and_survive_surveys(self):
        stream = self.stream(self.game, "0247")
        self.send("patch", f"/streams/{stream['id']}", {"name": "  Open water "})
        self.send("patch", f"/streams/{stream['id']}", {"marked": True})
        os.utime(Path(self.game["folder"]) / "data/sea.crate", (5, 5))
        self.send("post", f"{self.path}/survey")
        again = self.stream(self.game, "open water")
        self.assertEqual((again["name"], again["marked"], again["stream_id"]), ("Open water", True, "0247"))
        self.assertNotEqual(again["id"], stream["id"])
        self.get(f"/streams/{stream['id']}", 410)


class Sound(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.one = self.stream(self.game, "0247")
        core = open_stream(GameFolder(demo_game()), Stream.objects.get(pk=self.one["id"]).where())
        self.truth = core.decode(0, core.format.frames)

    def test_pcm_chunks_are_exactly_those_frames(self):
        for start, frames in ((0, 100), (123_457, 5000), (len(self.truth) - 10, 500), (len(self.truth), 5)):
            answer = self.get(f"/audio/{self.one['audio']}/pcm?start={start}&frames={frames}")
            got = np.frombuffer(answer.content, "<i2").reshape(-1, 2)
            np.testing.assert_array_equal(got, self.truth[start : start + frames])
            self.assertIn("immutable", answer["Cache-Control"])
        self.get(f"/audio/{self.one['audio']}/pcm?start={len(self.truth) + 1}", 416)
        self.get(f"/audio/{self.one['audio']}/pcm?start=-1", 416)

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
        ogg = self.get(f"/streams/{self.one['id']}/export?kind=ogg").content
        tags = mutagen.File(io.BytesIO(ogg)).tags
        self.assertEqual((tags["LOOPSTART"], tags["LOOPLENGTH"]), ([str(start)], [str(end - start)]))
        self.assertEqual(soundfile.info(io.BytesIO(ogg)).frames, self.one["frames"])
        self.get(f"/streams/{self.one['id']}/export?kind=mp3", 422)


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
        self.assertTrue(all(p["verdict"] == "fits" for p in done["points"]))
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

    def test_a_swap_is_replaced_removed_and_brought_back(self):
        first = self.ready()
        second = self.upload(self.game, self.one, self.tone, "other.wav")
        self.assertEqual([s["id"] for s in self.get(f"{self.mod}/swaps")], [second["id"]])
        self.send("delete", f"/swaps/{second['id']}", status=204)
        self.assertEqual(self.get(f"{self.mod}/swaps"), [])
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
        self.send("patch", "/swaps/4444", {"gain_db": 1}, 404)

    def test_rebuild_proof_trial_and_download(self):
        before = {p: p.read_bytes() for p in Path(self.game["folder"]).rglob("*") if p.is_file()}
        self.assertIn("no swaps yet", self.send("post", f"{self.mod}/rebuild", status=409)["what"])
        swap = self.ready()
        plan = self.get(f"{self.mod}/plan")[0]
        self.assertEqual((plan["path"], plan["in_place"], plan["moved"]), ("data/sea.crate", True, 0))
        self.assertIn("new", {s["kind"] for s in plan["after"]["segments"]})
        job = self.send("post", f"{self.mod}/rebuild")
        self.assertEqual(self.get(f"/jobs/{job['id']}")["state"], "done")
        build = self.get(f"{self.mod}/build")
        self.assertEqual((build["state"], build["fresh"]), ("proved", True))
        self.assertTrue(all(p["ok"] for p in build["proof"]))
        rebuilt = self.get(f"/audio/{build['results'][0]['audio']}/pcm?start=1000&frames=900").content
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
        self.assertIn("8 entries, but the game has 9", trial["why"])

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
        build = self.get(f"{self.mod}/build")
        self.assertEqual((build["state"], [f["path"] for f in build["files"]]), ("proved", ["extra.zip"]))
        data = b"".join(self.get(f"/builds/{build['id']}/files/0").streaming_content)
        with zipfile.ZipFile(io.BytesIO(data)) as pack:
            info = soundfile.info(io.BytesIO(pack.read("a.wav")))
            self.assertEqual((info.samplerate, info.channels, info.frames), (22050, 1, 44100))
            self.assertEqual(pack.read("b.txt"), b"text")


class Guards(ServerTest):
    def test_a_changing_request_needs_the_page_s_token(self):
        strict = Client(enforce_csrf_checks=True, HTTP_HOST="127.0.0.1")
        body = {"folder": str(self.root / "library")}
        for call in (strict.post, strict.patch, strict.delete):
            answer = call("/api/games", json.dumps(body), content_type="application/json")
            self.assertEqual(answer.status_code, 403)
            self.assertIn("no valid token", answer.json()["what"])
        self.assertEqual(Game.objects.count(), 0)
        strict.get("/")
        token = strict.cookies["csrftoken"].value
        answer = strict.post(
            "/api/games", json.dumps(body), content_type="application/json", headers={"X-CSRFToken": token}
        )
        self.assertEqual(answer.status_code, 200)

    def test_a_foreign_host_is_refused(self):
        for host in ("evil.example", "127.0.0.1.evil.example", "10.0.0.1"):
            for path in ("/", "/api/games"):
                answer = Client(HTTP_HOST=host).get(path)
                self.assertEqual(answer.status_code, 400, host)
                self.assertIn("not Zubret's own", answer.json()["what"])
        self.assertEqual(Client(HTTP_HOST="localhost:8377").get("/api/games").status_code, 200)

    def test_health_needs_both_workers(self):
        self.assertEqual(self.get("/health", 503)["workers"], {"long": False, "quick": False})
        for queue in QUEUES:
            (settings.DATA_DIR / f"worker-{queue}.beat").touch()
        self.assertEqual(self.get("/health")["ok"], True)
        os.utime(settings.DATA_DIR / "worker-long.beat", (1, 1))
        self.assertEqual(self.get("/health", 503)["workers"], {"long": False, "quick": True})

    def test_a_job_whose_lease_ran_out_is_cut_off_and_cleaned_up(self):
        scratch = settings.DATA_DIR / "builds" / "1"
        scratch.mkdir(parents=True)
        (scratch / "sea.crate.part").write_bytes(b"half")
        game = Game.objects.create(name="g", folder="/nowhere")
        ago = timezone.now() - timedelta(seconds=1)
        dead = Job.objects.create(
            kind="rebuild", title="x", state=Job.RUNNING, lease_until=ago, scratch=str(scratch), game=game
        )
        alive = Job.objects.create(kind="rebuild", title="y", state=Job.RUNNING, lease_until=Job.new_lease())
        states = {j["id"]: j for j in self.get("/jobs")}
        self.assertEqual((states[dead.pk]["state"], states[alive.pk]["state"]), ("cut off", "running"))
        self.assertIn("cut off", states[dead.pk]["error"]["what"])
        self.assertFalse(scratch.exists())

    def test_jobs_are_cancelled(self):
        waiting = Job.objects.create(kind="survey", title="x")
        self.assertEqual(self.send("post", f"/jobs/{waiting.pk}/cancel")["state"], "cancelled")
        running = Job.objects.create(kind="survey", title="y", state=Job.RUNNING, lease_until=Job.new_lease())
        self.send("post", f"/jobs/{running.pk}/cancel")
        from server.jobs.run import _Reporter
        from zubret_core.base import Cancelled

        with self.assertRaises(Cancelled):
            _Reporter(running.pk)(1, 2, "working")

    def test_what_is_not_there_is_a_problem_and_no_page(self):
        for path in ("/games/9/streams", "/streams/9", "/swaps/9", "/mods/9/plan", "/archives/9/ribbon", "/jobs/9"):
            problem = self.get(path, 404)
            self.assertTrue(problem["what"] and problem["next"], path)
        self.assertIn("can't be understood", self.get("/games/1/streams?limit=many", 422)["what"])

    def test_the_page_is_served_with_assets_that_last(self):
        page = self.client.get("/")
        self.assertEqual((page.status_code, page["Cache-Control"]), (200, "no-cache"))
        asset = page.content.decode().split('src="')[1].split('"')[0]
        answer = self.client.get(asset)
        self.assertEqual(answer.status_code, 200)
        self.assertIn("immutable", answer["Cache-Control"])
        self.assertNotIn("http://", page.content.decode().replace("http://www.w3.org", ""))


class Bulk(ServerTest):
    def test_bulk_rows_are_those_of_the_orm(self):
        game = Game.objects.create(name="g", folder="/x")
        archive = Archive.objects.create(game=game, path="a", size=1, mtime_ns=1, kind="zip")
        rows = [(archive.pk, n, f"e{n}", None, n, 1 << 40, 2, "plain", None) for n in range(25_000)]
        self.assertEqual(list(bulk_insert(Entry, Entry.BULK, rows)), [10_000, 20_000, 25_000])
        last = Entry.objects.get(archive=archive, ordinal=24_999)
        self.assertEqual((last.path, last.stored, last.path_raw, last.crc32), ("e24999", 1 << 40, None, None))

    def test_foreign_keys_and_wal_are_on(self):
        with connection.cursor() as cursor:
            self.assertEqual(cursor.execute("PRAGMA foreign_keys").fetchone()[0], 1)
            self.assertEqual(cursor.execute("PRAGMA journal_mode").fetchone()[0], "wal")


class Generated(SimpleTestCase):
    """Files that are made from the code are those that are committed."""

    def test_openapi_and_types_are_fresh(self):
        self.assertEqual((ROOT / "web/openapi.json").read_text("utf-8"), document(), "run: manage.py openapi")
        with tempfile.TemporaryDirectory() as folder:
            out = Path(folder) / "schema.d.ts"
            tool = ROOT / "web/node_modules/.bin/openapi-typescript"
            subprocess.run([tool, ROOT / "web/openapi.json", "-o", out], check=True, capture_output=True)
            self.assertEqual((ROOT / "web/src/lib/schema.d.ts").read_text("utf-8"), out.read_text("utf-8"))

    def test_migrations_are_complete(self):
        from django.core.management import call_command

        call_command("makemigrations", "--check", "--dry-run", verbosity=0)

    databases = {"default"}
