"""Mods that others made, as they come: brought in, in conflict or not, rebuilt to the very payloads, packed, and nothing where nothing fits."""

import io
import subprocess
import zipfile
from pathlib import Path

from django.core.files.uploadedfile import SimpleUploadedFile

from server.mods.models import EntryFile, Mod, Swap
from server.shelf.models import Entry, unpack_locator
from tests.server.support import ServerTest, wav_bytes
from tests.server.test_install import tree
from tests.support import bytes_of, tone
from zubret_core.container import GameFolder
from zubret_core.locate import Spot


class Foreign(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.place, self.at = Path(self.game["folder"]), f"/games/{self.game['id']}"

    def theirs(self) -> dict[str, bytes]:
        """What somebody else would give: a rebuild of one stream and one text, by another mod that is gone then."""
        one = self.stream(self.game, "0247")
        made = self.upload(self.game, one, wav_bytes(tone(6, 48_000, 441, 2), 48_000))
        self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"})
        self.payload = self.get(f"/swaps/{made['id']}")["new"]
        self.pcm = self.get(f"/audio/{self.payload['audio']}/pcm?start=0&frames=200000").content
        self.send("post", f"/mods/{self.game['mod_id']}/rebuild", {})
        build, files, _ = self.built(f"/mods/{self.game['mod_id']}")
        out = self.root / "data" / "builds" / str(build["id"])
        found = {f["path"]: (out / f["path"]).read_bytes() for f in files}
        self.send("delete", f"/swaps/{made['id']}", status=204)
        return found

    def sent(self, files: dict[str, bytes], status: int = 200) -> dict:
        token, told = "", {}
        for path, data in files.items():
            body = {"file": SimpleUploadedFile(path.split("/")[-1] or "x", data), "path": path, "token": token}
            answer = self.client.post(f"/api{self.at}/brought", body)
            self.assertEqual(answer.status_code, status, answer.content[:300])
            told = answer.json()
            token = told.get("token", "")
        return told

    def done(self, path: str, data: dict | None = None) -> dict:
        return self.get(f"/jobs/{self.send('post', path, data)['id']}")

    def brought(self, files: dict[str, bytes], name: str = "Theirs") -> dict:
        told = self.sent(files)
        job = self.done(f"{self.at}/brought/{told['token']}", {"name": name})
        self.assertEqual(job["state"], "done", job["error"])
        return job["result"]

    def test_a_zip_becomes_a_mod_whose_payloads_are_never_encoded_again(self):
        theirs = self.theirs()
        pack = io.BytesIO()
        with zipfile.ZipFile(pack, "w", zipfile.ZIP_DEFLATED) as out:
            for path, data in theirs.items():
                out.writestr(f"Louder water 1.3/{path}", data)
            out.writestr("Louder water 1.3/install me.txt", b"Copy all of it over the game.")
        told = self.sent({"Louder water 1.3.zip": pack.getvalue()})
        self.assertEqual((told["package"], told["files"]), (None, 1))
        found = self.brought({"Louder water 1.3.zip": pack.getvalue()})
        self.assertEqual((found["streams"], found["files"], found["strange"]), (1, 0, 2), found)
        self.assertEqual({path.split("/")[-1] for path, _ in found["unknown"]}, {"sums.txt", "install me.txt"})
        swap = Swap.objects.get(mod=found["mod"])
        shown = self.get(f"/swaps/{swap.pk}")
        self.assertEqual(
            (shown["state"], shown["source"], shown["verdict"]), ("ready", "stored", "fits"), shown["error"]
        )
        self.assertEqual(self.get(f"/audio/{shown['new']['audio']}/pcm?start=0&frames=200000").content, self.pcm)
        self.assertEqual(shown["new"]["loop"], self.payload["loop"])
        refused = self.send("patch", f"/swaps/{swap.pk}", {"gain_db": -3}, 409)
        self.assertIn("as it is stored", refused["what"])
        # Rebuilt, it gives the very files that they gave.
        self.send("post", f"/mods/{found['mod']}/rebuild", {})
        build = self.built(f"/mods/{found['mod']}")[0]
        self.assertEqual(build["state"], "proved")
        again = tree(self.root / "data" / "builds" / str(build["id"]))
        self.assertEqual(again["data/sea.crate"], tree_of(theirs["data/sea.crate"]))

        # It can be packed and taken in, and stands in conflict with another mod like any.
        mine = self.upload(self.game, self.stream(self.game, "0247"), wav_bytes(tone(2, 48_000, 300, 2), 48_000))
        self.assertEqual(mine["stream"]["id"], shown["stream"]["id"])
        conflicts = self.get(f"{self.at}/conflicts")
        rows = conflicts["rows"] if isinstance(conflicts, dict) else conflicts
        self.assertEqual(len(rows), 1)
        job = self.done(f"/mods/{found['mod']}/package")
        self.assertEqual(job["state"], "done", job["error"])
        data = b"".join(self.get(f"/jobs/{job['id']}/file").streaming_content)
        taken = self.sent({"Theirs.zip": data})
        self.assertEqual(taken["package"]["swaps"], 1)
        job = self.done(f"{self.at}/packages/{taken['token']}")
        new = job["result"]["mod"]
        row = self.get(f"/mods/{new}/judgement")["rows"][0]
        self.send("post", f"/mods/{new}/carry", {"rows": [row["id"]]})
        swap = Swap.objects.get(mod=new)
        self.assertEqual((swap.source, swap.state), ("stored", "ready"))

    def test_a_folder_that_fits_nowhere_makes_nothing_and_paths_lead_nowhere_else(self):
        mods = Mod.objects.count()
        found = self.brought({"x/../../evil.txt": b"x", "/etc/y.bell": b"BELL", "deck/readme.txt": b"Ours.\r\n"})
        self.assertEqual((found["streams"], found["files"], found["strange"]), (0, 1, 2))
        self.assertEqual(EntryFile.objects.get(mod=found["mod"]).path, "readme.txt")
        self.assertFalse([p for p in (self.root / "data").rglob("*") if p.name in ("evil.txt", "y.bell")])
        self.assertFalse(any((self.root / "data" / "tmp").glob("*.brought")))
        # By id, and by content: a sound that is called like one stream, and a copy of an entry under another name.
        lamp = Entry.objects.get(path="pictures/lamp.raw")
        content = bytes_of(Spot.place(GameFolder(self.place), "data/sea.crate › pictures/lamp.raw").source)
        self.assertIsNotNone(lamp.digest)
        files = {
            "x/0251.wav": wav_bytes(tone(2, 44_100, 300, 2), 44_100),
            "x/9999.wav": wav_bytes(tone(1, 8_000, 9), 8_000),
        }
        found = self.brought({**files, "x/odd.name": content})
        self.assertEqual((found["sounds"], found["streams"], found["same"], found["strange"]), (1, 0, 1, 1))
        swap = Swap.objects.get(mod=found["mod"])
        self.assertEqual((swap.source, swap.state, unpack_locator(swap.locator).stream_id), ("file", "open", "0251"))
        mods = Mod.objects.count() - 1
        found = self.brought({"only/notes.txt": b"Nothing."})
        self.assertEqual((found["mod"], Mod.objects.count()), (0, mods + 1))
        self.send("post", f"{self.at}/brought/{'0' * 32}", {"name": "x"}, 410)
        body = {"file": SimpleUploadedFile("x", b"x"), "path": "x", "token": "../mods"}
        self.assertEqual(self.client.post(f"/api{self.at}/brought", body).status_code, 410)


def tree_of(data: bytes) -> str:
    done = subprocess.run(["sha256sum"], input=data, capture_output=True, check=True)
    return done.stdout.decode().split()[0]
