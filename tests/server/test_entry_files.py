"""Whole files in the place of entries, and new ones: from the upload to a proven rebuild."""

import os
import subprocess
import zipfile
from pathlib import Path

from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile

from server.mods.models import EntryFile
from standin.chart import KEYS
from tests.server.support import ServerTest, wav_bytes
from tests.support import bytes_of, source, tone
from zubret_core.container import GameFolder
from zubret_core.locate import Known, Spot, open_archive


class EntryFiles(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.mod = f"/mods/{self.game['mod_id']}"

    def rows(self) -> dict[str, dict]:
        return {r["path"]: r for r in self.get(f"/games/{self.game['id']}/files?limit=500")["rows"]}

    def entry(self, archive: str, q: str) -> dict:
        number = self.rows()[archive]["archive_id"]
        return self.get(f"/games/{self.game['id']}/entries?archive={number}&q={q}")["rows"][0]

    def put(self, data: bytes, status: int = 200, name: str = "new.bin", **fields) -> dict:
        body = {"file": SimpleUploadedFile(name, data), **fields}
        answer = self.client.post(f"/api{self.mod}/files", body)
        self.assertEqual(answer.status_code, status, answer.content[:500])
        return answer.json()

    def rebuilt(self) -> Path:
        job = self.send("post", f"{self.mod}/rebuild")
        result = self.get(f"/jobs/{job['id']}")["result"]
        _, _, points = self.built(self.mod)
        self.assertEqual(result["state"], "proved", [p for p in points if not p["ok"]])
        return settings.DATA_DIR / "builds" / str(result["build"])

    def test_files_replace_and_join_entries_at_any_depth_and_are_proved(self):
        key = self.send("post", f"/games/{self.game['id']}/keys", {"label": "p", "text": KEYS["1.0"].hex()})
        self.send("post", f"/games/{self.game['id']}/keys/try")
        self.assertTrue(key)
        text = (Path(self.game["folder"]) / "data/hold names.txt").read_text()
        self.send("post", f"/games/{self.game['id']}/names", {"path": "data/hold.chart", "text": text})
        inner = "data/hold.chart › cabin/cabin.crate"
        self.put(b"another call", entry_id=self.entry("data/deck.zip", "call_01")["id"])
        self.put(b"a card", archive_id=self.rows()["data/sea.crate"]["archive_id"], path="text/card.txt")
        self.put(b"a page", archive_id=self.rows()["data/hold.chart"]["archive_id"], path="log/third.txt")
        self.put(b"under the bed", archive_id=self.rows()[inner]["archive_id"], path="bed.txt")
        listed = [(f["archive"], f["entry"], f["adds"], f["size"]) for f in self.get(f"{self.mod}/files")]
        self.assertIn((inner, "bed.txt", True, 13), listed)
        self.assertIn(("data/deck.zip", "radio/call_01.ogg", False, 12), listed)
        plan = {p["path"]: p["files"] for p in self.planned(self.mod) if p["files"]}
        self.assertEqual(plan["data/sea.crate"], [{"place": "data/sea.crate › text/card.txt", "adds": True}])
        out = self.rebuilt()
        with zipfile.ZipFile(out / "data/deck.zip") as pack:
            self.assertIsNone(pack.testzip())
            self.assertEqual(pack.read("radio/call_01.ogg"), b"another call")
        crate = open_archive(source((out / "data/sea.crate").read_bytes(), "sea.crate"))
        self.assertEqual(
            (crate.entries[-1].path, bytes_of(crate.open(len(crate.entries) - 1))), ("text/card.txt", b"a card")
        )
        chart = Spot.file(GameFolder(out), "data/hold.chart", Known(keys=lambda lo, p: {"purser": KEYS["1.0"]})).opened
        self.assertEqual(bytes_of(chart.open(len(chart.entries) - 1)), b"a page")
        cabin = next(open_archive(chart.open(n)) for n in range(len(chart.entries)) if chart.head(n, 4) == b"SFCR")
        self.assertEqual(bytes_of(cabin.open(len(cabin.entries) - 1)), b"under the bed")
        route = {s["key"]: s["text"] for s in self.get(f"/games/{self.game['id']}/route")}
        self.assertEqual((route["swap"], route["rebuild"]), ("4 files", "proved"))

    def test_a_proof_fails_when_the_entry_is_not_what_was_given(self):
        made = self.put(b"first", entry_id=self.entry("data/deck.zip", "call_01")["id"])
        place = Path(EntryFile.objects.get(pk=made["id"]).source_path)
        self.rebuilt()
        from zubret_core.rebuild import EntryFile as Planned
        from zubret_core.rebuild import plan_rebuild, prove_in_new_process, write_plan
        from zubret_core.rebuild.expected import expectation

        game, out = Path(self.game["folder"]), self.root / "out"
        file = Planned("data/deck.zip", "radio/call_01.ogg", self.entry("data/deck.zip", "call_01")["ordinal"], place)
        plans = plan_rebuild(GameFolder(game), [], files=[file])
        write_plan(plans, out)
        place.write_bytes(b"other")
        failed = [p.label for p in prove_in_new_process(expectation(GameFolder(game), out, plans)) if not p.ok]
        self.assertEqual(failed, ["radio/call_01.ogg: bytes"])

    def test_a_file_is_taken_out_brought_back_and_taken_over_by_a_newer_one(self):
        where = {"entry_id": self.entry("data/deck.zip", "call_01")["id"]}
        first = self.put(b"first", **where)
        self.send("delete", f"/files/{first['id']}", status=204)
        self.assertIn("changes nothing yet", self.send("post", f"{self.mod}/rebuild", status=409)["what"])
        second = self.put(b"second", **where)
        self.send("post", f"/files/{first['id']}/restore")
        self.assertEqual([f["id"] for f in self.get(f"{self.mod}/files")], [first["id"]])
        self.rebuilt()
        self.assertTrue(self.get(f"{self.mod}/build")["fresh"])
        self.send("post", f"/files/{second['id']}/restore")
        self.assertFalse(self.get(f"{self.mod}/build")["fresh"])

    def test_what_can_not_go_in_is_refused_at_once(self):
        crate = self.rows()["data/sea.crate"]["archive_id"]
        for path in ("", "/etc/x", "a/../../x", "folder/", "a\nb"):
            self.assertIn("no path", self.put(b"x", 422, archive_id=crate, path=path)["what"])
        there = self.entry("data/sea.crate", "music.bell")
        self.assertIn("there already", self.put(b"x", 422, archive_id=crate, path=there["path"])["what"])
        stream = self.stream(self.game, "0247")
        made = self.upload(self.game, stream, wav_bytes(tone(1, 48000, 440, 2), 48000))
        self.assertIn("are swapped", self.put(b"x", 409, entry_id=there["id"])["what"])
        self.send("delete", f"/swaps/{made['id']}", status=204)
        self.put(b"x", entry_id=there["id"])
        problem = self.upload(self.game, stream, wav_bytes(tone(1, 48000, 440, 2), 48000), status=409)
        self.assertIn("takes the place", problem["what"])
        self.send("post", f"/swaps/{made['id']}/restore")
        self.assertIn(
            "replaced as a whole",
            self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"}) and self.planned(self.mod)["what"],
        )
        self.put(b"x", 404, archive_id=0, path="a")


class Surveyed(ServerTest):
    def test_an_index_that_changed_under_the_same_size_and_time_is_read_again(self):
        game = self.add_game(small=True)
        place = Path(game["folder"]) / "small.zip"
        with zipfile.ZipFile(place, "w") as pack:
            pack.writestr("a/one.txt", bytes(9000))
        time = place.stat().st_mtime_ns
        self.send("post", f"/games/{game['id']}/survey")
        place.write_bytes(place.read_bytes().replace(b"one.txt", b"two.txt"))
        os.utime(place, ns=(time, time))
        self.send("post", f"/games/{game['id']}/survey")
        rows = self.get(f"/games/{game['id']}/entries?q=.txt")["rows"]
        self.assertEqual([r["path"] for r in rows], ["notes.txt", "a/two.txt"])

    def test_links_of_a_tar_are_told(self):
        game = self.add_game(small=True)
        folder = Path(game["folder"])
        (folder / "link").symlink_to("/etc")
        subprocess.run(["tar", "-cf", "l.tar", "link", "notes.txt"], cwd=folder, check=True)
        (folder / "link").unlink()
        self.send("post", f"/games/{game['id']}/survey")
        for _ in range(2):  # also when it is not read again
            row = next(r for r in self.get(f"/games/{game['id']}/files?limit=500")["rows"] if r["path"] == "l.tar")
            self.assertIn("1 member is passed over (link: it is a link)", row["evidence"])
            self.send("post", f"/games/{game['id']}/survey")
