"""Sounds taken out as files: every kind, read back by other programs; names, tags, going on, and the stream page."""

import csv
import io
import json
import subprocess
import zipfile
from pathlib import Path

import av
import mutagen
import numpy as np
import soundfile

from standin.chart import KEYS
from standin.player import Ferry
from tests.server.support import ServerTest, wav_bytes
from zubret_core.audio.riff import cue_chunks
from zubret_core.base import to_int16


def sox_frames(place) -> int:
    return int(subprocess.run(["soxi", "-s", place], capture_output=True, text=True, check=True).stdout)


def media_frames(place) -> int:
    """Frames that FFmpeg's libraries decode."""
    with av.open(str(place)) as file:
        return sum(frame.samples for frame in file.decode(audio=0))


class SoundsOut(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.path = f"/games/{self.game['id']}"
        self.out = self.root / "library" / "out"

    def unlock(self):
        self.send("post", f"{self.path}/keys", {"label": "p", "text": KEYS["1.0"].hex()})
        self.send("post", f"{self.path}/keys/try")
        names = (Path(self.game["folder"]) / "data/hold names.txt").read_text()
        self.send("post", f"{self.path}/names", {"path": "data/hold.chart", "text": names})

    def take(self, how, folder="", **what):
        body = {"how": {"template": "{bank}/{id} {name}", **how}, "folder": str(folder), **what}
        job = self.get(f"/jobs/{self.send('post', f'{self.path}/sounds', body)['id']}")
        self.assertEqual(job["state"], "done", job["error"])
        return job["result"]

    def lines(self, folder):
        return [json.loads(line) for line in (folder / "zubret manifest.jsonl").read_text().splitlines()]

    def test_every_stream_as_wav_and_each_sort_in_every_kind_is_whole_elsewhere(self):
        """Debian's sox and FFmpeg's libraries (through PyAV) find the length; libsndfile's loop or the comments agree."""
        self.unlock()
        rows = {r["place"]: r for r in self.get(f"{self.path}/streams?limit=500")["rows"]}
        self.assertEqual(len(rows), 53)
        shortest = sorted(rows.values(), key=lambda row: -row["seconds"])
        sorts = {(row["codec"], row["rate"], row["channels"], bool(row["loop"])): row["id"] for row in shortest}
        self.assertGreater(len(sorts), 15)
        for kind in ("wav", "flac", "ogg", "opus", "stored"):
            folder, every = self.out / kind, kind in ("wav", "stored")
            chosen = [] if every else list(sorts.values())
            result = self.take({"kind": kind}, folder, chosen=chosen)
            self.assertEqual((result["files"], result["failed"]), (53 if every else len(sorts), []), kind)
            for line in self.lines(folder):
                row, place = rows[line["source"]], folder / line["path"]
                with soundfile.SoundFile(place) as file:
                    rate, frames = file.samplerate, file.frames
                want = row["frames"] if rate == row["rate"] else round(row["frames"] * rate / row["rate"])
                if kind == "stored" and row["codec"] == "IMA ADPCM":
                    frames = want  # libsndfile and others count whole blocks; `fact` says where the stream ends
                self.assertLessEqual(abs(frames - want), 1, (kind, line["path"]))
                if place.suffix != ".opus":
                    self.assertLess(abs(sox_frames(place) - want), 2050, (kind, line["path"]))
                decoded = media_frames(place)
                self.assertLess(abs(decoded * row["rate"] / rate - row["frames"]), 2050, (kind, line["path"]))
                if row["loop"] and kind != "stored":
                    self.check_loop(place, [round(x * rate / row["rate"]) for x in row["loop"]])
                if kind == "stored":
                    self.check_same(row, place)

    def check_loop(self, place, loop):
        if place.suffix == ".wav":
            told = subprocess.run(["sndfile-info", place], capture_output=True, text=True, check=True).stdout
            self.assertIn(f"{loop[1] - 1}", told)
            self.assertIn("Start", told)
            return
        tags = mutagen.File(place)
        start, length = int(tags["LOOPSTART"][0]), int(tags["LOOPLENGTH"][0])
        self.assertLessEqual(max(abs(start - loop[0]), abs(start + length - loop[1])), 2, place.name)

    def check_same(self, row, place):
        """What is stored decodes to what Zubret plays."""
        theirs = to_int16(soundfile.read(place, dtype="float32", always_2d=True)[0])[: row["frames"]]
        ours = np.frombuffer(self.get(f"/audio/{row['audio']}/pcm?start=0&frames=1000000").content, "<i2")
        ours = ours.reshape(-1, row["channels"])
        same = min(len(ours), len(theirs))
        # libsndfile and FFmpeg's libraries may round the same sample of Vorbis or Opus up and down; all else is exact.
        most = 1 if place.suffix in (".ogg", ".opus") else 0
        self.assertLessEqual(int(np.abs(theirs[:same].astype(int) - ours[:same]).max()), most, row["place"])

    def test_tags_names_figures_and_going_on(self):
        how = {
            "kind": "ogg", "template": "{language}/{number:3} {bank} {name}", "number_tracks": True, "playlist": True,
            "figures": True, "tags": {"album": "The night ferry", "artist": "Nobody", "date": "2026"},
        }  # fmt: skip
        plan = self.send("post", f"{self.path}/sounds/plan", {"how": how, "filter": {"q": "crew_en"}})
        self.assertEqual((plan["files"], plan["names"][0], plan["renamed"]), (8, "English/001 crew_en.ogg", 0))
        self.out.mkdir()
        for name in ("playlist.m3u8", "zubret figures.csv"):
            (self.out / name).write_bytes(b"mine")
        result = self.take(how, self.out, filter={"q": "crew_en"})
        self.assertEqual(
            (self.out / "playlist.m3u8").read_bytes() + (self.out / "zubret figures.csv").read_bytes(), b"mine" * 2
        )
        self.assertEqual((result["files"], result["failed_count"]), (8, 0))
        tags = mutagen.File(self.out / "English/003 crew_en.ogg")
        self.assertEqual([tags[k] for k in ("album", "artist", "date", "tracknumber")],
                         [["The night ferry"], ["Nobody"], ["2026"], ["3"]])  # fmt: skip
        self.assertEqual((self.out / "playlist (2).m3u8").read_text().count("#EXTINF"), 8)
        rows = list(csv.DictReader(io.StringIO((self.out / "zubret figures (2).csv").read_text())))
        self.assertEqual((len(rows), rows[0]["kind"], rows[0]["path"]), (8, "voice", "English/001 crew_en.ogg"))
        self.assertTrue(all(-40 < float(r["loudness"]) < -5 for r in rows))
        # The same again writes nothing; what is gone is written again; what is not ours is never overwritten.
        (self.out / "English/002 crew_en.ogg").unlink()
        again = self.take(how, self.out, filter={"q": "crew_en"})
        self.assertEqual((again["files"], again["skipped"]), (1, 7))
        self.assertEqual(len(list(self.out.glob("playlist*"))), 2)  # and not a third one
        (self.out / "English/009 crew_fr.ogg").write_bytes(b"mine")
        (self.out / "French").mkdir()
        (self.out / "French/001 crew_fr.ogg").write_bytes(b"mine")
        other = self.take(how, self.out, filter={"q": "crew_fr"})
        self.assertEqual((other["files"], other["failed_count"]), (7, 1))
        self.assertEqual((self.out / "French/001 crew_fr.ogg").read_bytes(), b"mine")
        self.assertIn("there already", other["failed"][0]["what"])

    def test_a_loop_played_out_loudness_and_a_zip(self):
        fog = self.stream(self.game, "0251")
        other = self.stream(self.game, "0246")
        chosen = [fog["id"], other["id"]]
        result = self.take({"kind": "wav", "plays": 2, "fade": 1.5, "loudness": -16}, chosen=chosen)
        job = max(self.get("/jobs"), key=lambda j: j["id"])
        pack = zipfile.ZipFile(io.BytesIO(b"".join(self.get(f"/jobs/{job['id']}/file").streaming_content)))
        self.assertEqual(result["download"], "taken out.zip")
        pcm, rate = soundfile.read(io.BytesIO(pack.read("music/0251.wav")), always_2d=True)
        start, end = fog["loop"]
        self.assertEqual(len(pcm), start + 2 * (end - start) + round(1.5 * rate))
        self.assertLess(np.abs(pcm[-400:]).max(), 0.01)
        self.assertLess(np.abs(pcm).max(), 0.9)
        self.assertGreater(np.abs(pcm).max(), np.abs(soundfile.read(io.BytesIO(
            b"".join(self.get(f"/streams/{fog['id']}/export?kind=flac").streaming_content)))[0]).max())  # fmt: skip
        for how, word in (({"template": "{nothing}"}, "nothing"), ({"kind": "mp3"}, "mp3"), ({"plays": -1}, "plays"),
                          ({"tags": {"mood": "x"}}, "tags"), ({"template": "{"}, "brace")):  # fmt: skip
            answer = self.send("post", f"{self.path}/sounds", {"how": how}, status=422)
            self.assertIn(word, answer["what"])
        self.send("post", f"{self.path}/sounds", {"filter": {"q": "nowhere"}}, status=409)

    def test_the_stream_page(self):
        fog, line = self.stream(self.game, "0251"), self.stream(self.game, "5001")
        wave = self.get(f"/audio/{fog['audio']}/wave?bins=100&start=44100&frames=44100")
        self.assertEqual((wave["rough"], [len(c) for c in wave["channels"]]), (False, [200, 200]))
        part = np.frombuffer(self.get(f"/audio/{fog['audio']}/pcm?start=44100&frames=44100").content, "<i2")
        self.assertEqual(min(wave["channels"][0]), part[::2].min())
        spectrum = self.get(f"/audio/{fog['audio']}/spectrum?columns=50")
        self.assertEqual(len(spectrum.content), 50 * int(spectrum["X-Rows"]))
        self.assertIsNone(self.get(f"/streams/{fog['id']}/figures"))
        figures = self.send("post", f"/streams/{fog['id']}/figures")["figures"]
        self.assertEqual(figures["kind"], "music")
        self.assertTrue(-30 < figures["loudness"] < -10 and figures["true_peak"] >= figures["peak"] - 0.5)
        self.assertEqual(self.send("post", f"/streams/{line['id']}/figures")["figures"]["kind"], "voice")
        bell = self.stream(self.game, "2211")
        same = self.get(f"/streams/{bell['id']}/same")
        self.assertEqual([(s["stream"]["stream_id"], s["how"]) for s in same["found"]], [("2212", "payload")])
        self.assertEqual(same["done"], same["total"])
        rest = self.get(f"/streams/{bell['id']}/same?after={same['total']}")
        self.assertEqual((rest["found"], rest["total"]), ([], same["total"]))
        self.send("patch", f"/streams/{bell['id']}", {"kind": "music", "notes": "rings twice"})
        self.assertEqual(self.get(f"{self.path}/streams?kind=music&q=rings")["total"], 1)
        self.send("patch", f"/streams/{bell['id']}", {"kind": "opera"}, status=422)
        self.assertEqual(self.get(f"{self.path}/streams?loop=yes")["total"], 8)


class UnknownBytes(ServerTest):
    def test_what_a_replacement_file_says_of_loops_and_cues(self):
        game = self.add_game()
        words = np.array([0, 0, 0, 60, 0, 0, 0, 2, 0, 1, 1, 100, 199, 0, 0, 2, 0, 400, 1999, 0, 0], "<u4").tobytes()
        data = wav_bytes(np.zeros((4000, 1), np.float32) + 0.1, 48000)
        data += b"smpl" + len(words).to_bytes(4, "little") + words + cue_chunks([(300, "verse"), (9_999, "beyond")])
        swap = self.upload(game, self.stream(game, "0251"), data)
        notes = self.get(f"/swaps/{swap['id']}/notes")
        self.assertEqual([(lo["start"], lo["end"], lo["way"]) for lo in notes["loops"]],
                         [(100, 200, "forward and back"), (400, 2000, "forward")])  # fmt: skip
        self.assertEqual(notes["cues"], [{"frame": 300, "label": "verse"}])
        self.assertEqual(self.get(f"/swaps/{swap['id']}")["info"]["loop"], [400, 2000])
        self.get(f"/audio/{swap['source_audio']}/peaks?bins=10")

    def test_readings_are_heard_turned_and_drafted(self):
        game = self.add_game()
        path = f"/games/{game['id']}/unknown"
        file = self.get(f"{path}?path=data/drift.bin")
        self.assertEqual((len(file["spans"]), file["rate"], file["table_at"]), (3, 22050, 64))
        start, end = file["spans"][0]["at"], file["spans"][0]["at"] + file["spans"][0]["length"]
        ranked = self.get(f"{path}/rank?path=data/drift.bin&start={start}&end={end}&rate=22050")
        best = ranked["candidates"][0]
        self.assertEqual((best["codec"], best["parameters"]["nibbles"], best["frames"]), ("step-adpcm", "high", 66150))
        heard = np.frombuffer(self.get(f"/audio/{best['audio']}/pcm?start=0&frames=66150").content, "<i2")
        played, _, _ = Ferry(game["folder"]).play("drift:71", 1)
        np.testing.assert_array_equal(heard, played.ravel())
        body = {"path": "data/drift.bin", "start": start, "end": end, "rate": 8000, "reading": {**best, "channels": 2}}
        turned = self.send("post", f"{path}/hear", body)
        self.assertEqual((turned["rate"], turned["channels"], turned["frames"] < 40_000), (8000, 2, True))
        self.assertNotEqual(turned["audio"], best["audio"])
        self.get(f"{path}/rank?path=data/drift.bin&start=5&end=999999999", 422)
        self.send("post", f"{path}/hear", {**body, "rate": 0}, status=422)
        self.send("post", f"{path}/hear", {**body, "reading": {**best, "codec": "nothing"}}, status=422)
        made = self.send("post", f"{path}/draft", {**body, "reading": best})
        tried = self.send("post", f"/games/{game['id']}/bench/try", {"path": "data/drift.bin", "text": made["text"]})
        self.assertEqual((tried["fault"], tried["items"], tried["explained"]), (None, 3, 1.0))
        self.send("post", f"/layouts/{made['id']}/versions")
        self.send("post", f"/games/{game['id']}/survey")
        found = self.get(f"/games/{game['id']}/streams?q=drift.bin")
        self.assertEqual([r["stream_id"] for r in found["rows"]], ["71", "72", "73"])
