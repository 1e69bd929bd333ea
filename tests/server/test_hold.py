"""The locked hold: keys, names, archives inside archives, taking out, and what changed between two builds."""

import csv
import io
import json
import logging
import random
import shutil
import zipfile
from pathlib import Path

import xxhash
from django.conf import settings

from server.bulk import bulk_insert
from server.changes import comparing as changes
from server.games.models import Comparison, Game, Key, Survey, SurveyFile
from server.jobs.models import Job
from server.shelf.models import Archive, Entry
from server.surveys.rows import entry_row
from standin.chart import KEYS
from tests.server.support import ServerTest, wav_bytes
from tests.support import copy_of_demo, tone
from zubret_core.container import Entry as CoreEntry
from zubret_core.extract import read_manifest


class Hold(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.folder = Path(self.game["folder"])
        self.key_text = (self.folder / "found on a forum.txt").read_text().splitlines()[-1]

    def files(self) -> dict[str, dict]:
        return {r["path"]: r for r in self.get(f"/games/{self.game['id']}/files?limit=500")["rows"]}

    def unlock(self) -> dict:
        """Add the key that waits in the game's folder, and try it; the result for the chart."""
        self.send("post", f"/games/{self.game['id']}/keys", {"label": "purser", "text": self.key_text})
        job = self.send("post", f"/games/{self.game['id']}/keys/try")
        return self.get(f"/jobs/{job['id']}")["result"]["archives"][0]

    def name(self) -> None:
        text = (self.folder / "data/hold names.txt").read_text()
        self.send("post", f"/games/{self.game['id']}/names", {"path": "data/hold.chart", "text": text})

    def entries(self, path: str, q: str = "") -> list[dict]:
        archive = self.files()[path]["archive_id"]
        return self.get(f"/games/{self.game['id']}/entries?archive={archive}&q={q}")["rows"]

    def test_a_key_in_any_spelling_opens_by_evidence_and_is_never_told(self):
        keys = f"/games/{self.game['id']}/keys"
        self.assertIn("key ring is empty", self.send("post", f"{keys}/try", status=409)["what"])
        for bad in ("", "0x1", "not a key!"):
            self.send("post", keys, {"text": bad}, 422)
        self.send("post", keys, {"label": "old", "builds": "0.9", "text": KEYS["1.1"].hex()})
        job = self.send("post", f"{keys}/try")
        told = self.get(f"/jobs/{job['id']}")["result"]["archives"]
        self.assertEqual([(a["path"], a["opens"]) for a in told], [("data/hold.chart", False)])
        self.assertIn("None of the keys opens it", told[0]["why"])
        with self.assertLogs(level=logging.DEBUG) as logs:
            logging.getLogger("test").debug("so that there is one")
            found = self.unlock()
        self.assertEqual((found["opens"], found["key"]), (True, "purser"))
        self.assertIn("checksum of index is right", found["evidence"])
        secret = KEYS["1.0"].hex()
        ring = self.get(keys)
        self.assertEqual([k["opens"] for k in ring], [[], ["data/hold.chart"]])
        everything = json.dumps([ring, self.get("/jobs"), self.files(), logs.output])
        self.assertNotIn(secret, everything)
        self.assertNotIn(secret[4:20], everything)
        self.assertEqual(self.send("post", f"/keys/{ring[1]['id']}/secret")["text"], secret)
        self.assertIn("already", self.send("post", keys, {"text": f'"{secret.upper()}"'}, 409)["what"])
        self.assertEqual(self.files()["data/hold.chart"]["what"], "archive")
        self.send("delete", f"/keys/{ring[1]['id']}", status=204)
        self.assertEqual(Key.objects.count(), 1)

    def test_volumes_names_and_archives_inside_are_found(self):
        self.unlock()
        rows = self.files()
        self.assertEqual((rows["data/hold.cargo01"]["what"], rows["data/hold.cargo01"]["belongs_to"]),
                         ("companion", "data/hold.chart"))  # fmt: skip
        self.assertEqual(len(self.entries("data/hold.chart")[0]["path"]), 16)  # a hash
        self.name()
        rows = self.files()
        self.assertEqual(rows["data/hold.chart › cabin/cabin.crate"]["streams"], 2)
        paths = [e["path"] for e in self.entries("data/hold.chart")]
        self.assertIn("ambience/night.bell", paths)
        self.assertEqual({e["file"] for e in self.entries("data/hold.chart")}, {"hold.cargo00", "hold.cargo01"})
        stream = self.stream(self.game, "cabin 4002")
        self.assertIn("4002", stream["place"])
        pcm = self.get(f"/audio/{stream['audio']}/pcm?start=100&frames=50")
        self.assertEqual(len(pcm.content), 100)
        self.assertEqual(self.stream(self.game, "night 3001")["channels"], 2)

    def test_a_swap_in_the_hold_is_rebuilt_proved_and_played(self):
        """Through index, volume and companion; the list of sums follows, so that the game takes it."""
        self.unlock()
        self.name()
        for q, seconds in (("night 3002", 1.0), ("cabin 4001", 6.0)):
            swap = self.upload(self.game, self.stream(self.game, q), wav_bytes(tone(seconds, 24000, 480, 1), 24000))
            self.send("post", f"/swaps/{swap['id']}/fit", {"point": "all"})
        mod = f"/mods/{self.game['mod_id']}"
        self.send("post", f"{mod}/rebuild")
        build, files, points = self.built(mod)
        self.assertEqual(build["state"], "proved", [p for p in points if not p["ok"]])
        self.assertEqual(
            [f["path"] for f in files],
            ["data/hold.chart", "data/hold.cargo00", "data/sums.txt"],
        )
        results = self.get(f"/builds/{build['id']}/results")["rows"]
        self.assertEqual(len(results), 2)
        for result in results:
            started = self.send("post", f"/builds/{build['id']}/trials", {"swap_id": result["swap_id"]})
            trial = self.get(f"/trials/{started['trial']['id']}")
            self.assertTrue(trial["played"], trial["why"])
            self.get(f"/audio/{result['audio']}/pcm?frames=10")
        out = settings.DATA_DIR / "builds" / str(build["id"]) / "data"
        text = (out / "sums.txt").read_text()
        (out / "sums.txt").write_text(text.replace(text.splitlines()[-1][:8], "00000000"))
        started = self.send("post", f"/builds/{build['id']}/trials", {"swap_id": results[0]["swap_id"]})
        self.assertIn("the sum is not the one", self.get(f"/trials/{started['trial']['id']}")["why"])

    def test_taking_out_goes_on_after_a_cut_and_never_writes_over_what_it_did_not_write(self):
        self.unlock()
        self.name()
        out = self.root / "library" / "taken"
        body = {"archives": [self.files()["data/hold.chart"]["archive_id"]], "folder": str(out)}
        take = f"/games/{self.game['id']}/take-out"
        plan = self.send("post", f"{take}/plan", body)
        self.assertEqual((plan["files"], plan["fits"], plan["there"]), (6, True, 0))
        (out / "log").mkdir(parents=True)
        (out / "log" / "first.txt").write_text("somebody else's")
        job = self.send("post", take, body)
        result = self.get(f"/jobs/{job['id']}")["result"]
        self.assertEqual((result["files"], result["failed_count"]), (5, 1))
        self.assertIn("there already", result["failed"][0]["what"])
        self.assertEqual((out / "log" / "first.txt").read_text(), "somebody else's")
        lines = read_manifest(out)
        for path, line in lines.items():
            data = (out / path).read_bytes()
            self.assertEqual((line["size"], line["xxh3_64"]), (len(data), xxhash.xxh3_64_hexdigest(data)))
        self.assertEqual(lines["cabin/cabin.crate"]["source"], "data/hold.chart › cabin/cabin.crate")
        (out / "log" / "first.txt").unlink()
        (out / "ambience" / "night.tow").write_bytes(b"cut short")
        second = self.send("post", f"/jobs/{job['id']}/again")
        again = self.get(f"/jobs/{second['id']}")["result"]
        self.assertEqual((again["files"], again["skipped"], again["failed_count"]), (2, 4, 0))
        sly, file = f"{self.root}/library/x/../../../etc/zubret", f"{self.folder}/read me.txt/out"
        for bad, status in (
            (str(self.folder / "out"), 403),
            ("/etc/zubret", 403),
            (sly, 403),
            ("relative", 422),
            (file, 422),
        ):
            self.send("post", take, {**body, "folder": bad}, status)
        with self.settings(LIBRARY_ROOTS=[self.root]):
            own = self.send("post", take, {**body, "folder": str(settings.DATA_DIR / "out")}, 403)
        self.assertIn("its own data", own["what"])
        (named,) = self.get("/export-folders")
        self.assertEqual(named["path"], str(out))
        self.send("delete", f"/export-folders/{named['id']}", status=204)
        self.assertEqual((self.get("/export-folders"), out.is_dir()), ([], True))

    def test_a_zip_of_chosen_entries_flat_and_checked(self):
        chosen = [e["id"] for e in self.entries("data/deck.zip") if "call" in e["path"] or "horn" in e["path"]]
        take = f"/games/{self.game['id']}/take-out"
        job = self.send("post", take, {"entries": chosen, "flat": True})
        data = b"".join(self.get(f"/jobs/{job['id']}/file").streaming_content)
        with zipfile.ZipFile(io.BytesIO(data)) as pack:
            self.assertIsNone(pack.testzip())
            names = pack.namelist()
        self.assertEqual(names, ["horn.wav", "call_01.ogg", "call_02.ogg", "zubret manifest.jsonl"])
        self.assertIn("Nothing is chosen", self.send("post", take, {"q": "no such entry"}, 409)["what"])

    def test_two_builds_are_compared_by_content(self):
        self.unlock()
        self.name()
        first = self.get("/surveys")[0]
        self.send("patch", f"/surveys/{first['id']}", {"label": "before the update"}, 204)
        self.assertEqual(Entry.objects.filter(digest=None).count(), 0)  # the background pass has run
        shutil.rmtree(self.folder)
        copy_of_demo(self.folder, "1.1")
        self.send("post", f"/games/{self.game['id']}/survey")
        self.assertIn("None of the keys", self.unlock_with("1.0")["why"])
        shut = self.changed(first["id"], self.get("/surveys")[0]["id"], "?q=hold.chart")["rows"]
        self.assertEqual([(r["kind"], r["path"]) for r in shut], [("unsure", "")])  # and not all removed
        self.assertIn("in the later survey", shut[0]["detail"])
        self.assertTrue(self.unlock_with("1.1")["opens"])
        self.name()
        newest, labels = self.get("/surveys")[0], [s["label"] for s in self.get("/surveys")]
        self.assertIn("before the update", labels)
        address = f"/changes/{first['id']}/{newest['id']}"
        self.assertEqual((self.get(address)["made"], self.get(f"{address}/csv", 409)["where"]), (None, ""))
        found = self.changed(first["id"], newest["id"])
        by_path = {(r["file"], r["path"]): r["kind"] for r in found["rows"]}
        self.assertEqual(by_path["data/hold.chart", "log/second.txt"], "added")
        self.assertEqual(by_path["data/hold.chart", "pictures/noise.raw"], "removed")
        self.assertEqual(by_path["data/hold.chart", "log/first.txt"], "changed")
        self.assertEqual(by_path["data/hold.chart", "pictures/wake.raw"], "moved")
        self.assertEqual(by_path["data/sea.crate", "text/strings_news.txt"], "added")
        self.assertEqual(by_path["data/sea.crate", "music/music.bell"], "moved")
        self.assertNotIn(("data/deck.zip", "radio/call_01.ogg"), by_path)
        self.assertEqual(sum(kind["changes"] for kind in found["kinds"]), found["total"])
        only = self.get(f"{address}?kind=added&q=log")
        self.assertEqual([r["path"] for r in only["rows"]], ["log/second.txt"])
        place = self.get(f"{address}/beginning?text=wake")
        self.assertEqual(self.get(f"{address}?offset={place}&limit=1")["rows"][0]["path"], "pictures/wake.raw")
        text = b"".join(self.get(f"{address}/csv?kind=removed").streaming_content).decode()
        self.assertEqual(
            [r[1:3] for r in csv.reader(io.StringIO(text))],
            [["file", "entry"], ["data/hold.cargo01", ""], ["data/hold.chart", "pictures/noise.raw"]],
        )
        back = self.changed(newest["id"], first["id"], "?kind=added")["rows"]
        self.assertEqual([r["path"] for r in back if r["path"]], ["pictures/noise.raw"])

    def unlock_with(self, build: str) -> dict:
        if not self.game_has(build):
            self.send("post", f"/games/{self.game['id']}/keys", {"label": build, "text": KEYS[build].hex()})
        job = self.send("post", f"/games/{self.game['id']}/keys/try")
        return self.get(f"/jobs/{job['id']}")["result"]["archives"][0]

    def game_has(self, build: str) -> bool:
        return Key.objects.filter(secret=KEYS[build].hex()).exists()

    def changed(self, old: int, new: int, query: str = "") -> dict:
        """What changed, once it is compared; comparing anew leaves one answer, and nothing of the one before."""
        for _ in range(2):
            self.assertEqual(self.send("post", f"/changes/{old}/{new}")["kind"], "compare")
        self.assertEqual(Comparison.objects.filter(old=old, new=new).count(), 1)
        found = self.get(f"/changes/{old}/{new}{query}")
        self.assertTrue(found["made"] and found["fresh"])
        return found

    def test_a_renamed_entry_is_one_change(self):
        folder = self.root / "library" / "two"
        folder.mkdir()
        for name, path in (("old", "a/tune.bin"), ("new", "b/song.bin")):
            with zipfile.ZipFile(folder / "x.zip", "w") as pack:
                pack.writestr(zipfile.ZipInfo(path), b"the very same bytes")
                pack.writestr(zipfile.ZipInfo("c.txt"), name.encode() * 9)
                pack.writestr(zipfile.ZipInfo("=1+1"), name.encode() * 9)
            game = self.send("post", "/games", {"folder": str(folder)})
            self.send("post", f"/games/{game['id']}/survey")
        old, new = sorted(s["id"] for s in self.get("/surveys") if s["game_id"] == game["id"])[-2:]
        rows = self.changed(old, new)["rows"]
        self.assertEqual(
            [(r["kind"], r["path"], r["old_path"]) for r in rows],
            [("changed", "=1+1", ""), ("renamed", "b/song.bin", "a/tune.bin"), ("changed", "c.txt", "")],
        )
        text = b"".join(self.get(f"/changes/{old}/{new}/csv").streaming_content).decode()
        self.assertIn(",'=1+1,", text)  # no table program takes it for a formula

    def test_what_changed_is_what_a_plain_comparison_of_every_entry_finds(self):
        """Against two Python dictionaries, for random edits that put entries out of step, and rows not in one run."""
        pick = random.Random(4)
        self.addCleanup(setattr, changes, "FEW", changes.FEW)
        game = Game.objects.get(pk=self.game["id"])
        for trial in range(25):
            old = [CoreEntry(f"p/{n:03}", n, 9, 9, "plain", pick.choice([n, n, None])) for n in range(60)]
            new = [e for e in old if pick.random() > 0.1]
            for _ in range(6):
                at = pick.randrange(len(new))
                new[at] = new[at]._replace(**pick.choice([{"crc32": 7}, {"size": 8}, {"at": 99}, {"file": "v"}]))
                new.insert(pick.randrange(len(new)), CoreEntry(f"q/{pick.random()}", 1, 5, 5, "plain", None))
            surveys = []
            for n, side in enumerate((old, new)):
                survey = Survey.objects.create(game=game)
                archive = Archive.objects.create(
                    game=game, path="x", size=n, mtime_ns=trial, kind="layout", entry_count=len(side)
                )
                SurveyFile.objects.create(survey=survey, path="x", size=n, mtime_ns=trial, archive=archive)
                rows = [entry_row(archive.pk, i, e, e.path) for i, e in enumerate(side)]
                list(bulk_insert(Entry, Entry.BULK, rows[:30]))
                if trial % 3 == n:
                    list(bulk_insert(Entry, Entry.BULK, [entry_row(Archive.objects.first().pk, 0, old[0], "z")]))
                list(bulk_insert(Entry, Entry.BULK, rows[30:]))
                surveys.append(survey)
            a, b = ({e.path: e for e in side} for side in (old, new))
            truth = {(p, "added") for p in b.keys() - a.keys()} | {(p, "removed") for p in a.keys() - b.keys()}
            for p in a.keys() & b.keys():
                known = a[p].crc32 is not None and b[p].crc32 is not None
                same = a[p].size == b[p].size and known and a[p].crc32 == b[p].crc32
                if not same:
                    truth.add((p, "changed" if known or a[p].size != b[p].size else "unsure"))
                elif (a[p].at, a[p].file) != (b[p].at, b[p].file):
                    truth.add((p, "moved"))
            found = []
            for changes.FEW in (1_000, 5):  # all pairs by the core, then those in step by the database
                made = changes.compare(*surveys)
                found.append(
                    set(made.changes.values_list("file", "path", "old_path", "kind", "old_size", "new_size", "detail"))
                )
                self.assertEqual(
                    set(made.changes.exclude(path="").values_list("path", "kind")), truth, f"trial {trial}"
                )
                self.assertEqual(sum(made.counts.values()), made.changes.count())
            self.assertEqual(*found)

    def test_an_unchanged_volume_is_not_read_again_and_a_changed_one_is(self):
        self.unlock()
        before = self.files()["data/hold.chart"]["archive_id"]
        self.send("post", f"/games/{self.game['id']}/survey")
        self.assertEqual(self.files()["data/hold.chart"]["archive_id"], before)
        volume = self.folder / "data/hold.cargo01"
        volume.write_bytes(volume.read_bytes()[:-600])
        self.send("post", f"/games/{self.game['id']}/survey")
        broken = self.files()["data/hold.chart"]
        self.assertEqual(broken["what"], "unreadable")
        self.assertIn("leaves the file hold.cargo01", broken["error"]["what"])
        self.assertEqual(Job.objects.filter(state="failed").count(), 0)
