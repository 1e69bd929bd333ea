"""A mod packed, looked into, taken in by another build; and packages that lie."""

import io
import json
import shutil
import subprocess
import zipfile
from pathlib import Path

import jsonschema_rs
import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile

from server.mods.models import Mod, Swap
from server.shelf.models import Archive, Entry
from tests.server.support import ServerTest, wav_bytes
from tests.support import ROOT, copy_of_demo, tone

SCHEMA = ROOT / "docs/mod-package.schema.json"


class Packages(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.mod = f"/mods/{self.game['mod_id']}"
        stream = self.stream(self.game, "0251")
        fog = wav_bytes(tone(3, stream["rate"], 440, stream["channels"]), stream["rate"])
        made = self.upload(self.game, stream, fog, "fog.wav")
        self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"})
        effects = [self.stream(self.game, q)["id"] for q in ("2210", "2214")]
        self.send("post", f"{self.mod}/put-in", {"chosen": effects, "source": "original", "gain_db": -6})
        lamp = Entry.objects.get(archive=Archive.objects.get(path="data/sea.crate"), path="pictures/lamp.raw")
        mine = SimpleUploadedFile("lamp.raw", b"a darker lamp")
        self.client.post(f"/api{self.mod}/files", {"entry_id": lamp.pk, "file": mine})
        picture = SimpleUploadedFile("p.png", b"\x89PNG\r\n\x1a\n of a ferry")
        self.client.post(f"/api{self.mod}/picture", {"file": picture})
        self.send("patch", self.mod, {"name": "Night", "version": "1.2", "author": "A. Ferryman", "licence": "CC0"})

    def packed(self) -> bytes:
        job = self.get(f"/jobs/{self.send('post', f'{self.mod}/package')['id']}")
        self.assertEqual(job["state"], "done", job["error"])
        self.assertEqual(job["result"]["download"], "Night 1.2.zip")
        return b"".join(self.get(f"/jobs/{job['id']}/file").streaming_content)

    def look(self, game: dict, data: bytes, status: int = 200):
        answer = self.client.post(f"/api/games/{game['id']}/brought", {"file": SimpleUploadedFile("some.zip", data)})
        self.assertEqual(answer.status_code, status, answer.content[:500])
        return answer.json()["package"] if status == 200 else answer.json()

    def newer(self) -> dict:
        folder = self.root / "library" / "Saltglass Ferry 1.1"
        copy_of_demo(folder, "1.1")
        return self.send("post", "/games", {"folder": str(folder)})

    def test_there_and_in_another_build(self):
        data = self.packed()
        self.assertEqual(data, self.packed())  # the same bytes each time
        place, out = self.root / "mod.zip", self.root / "out"
        place.write_bytes(data)
        subprocess.run(["unzip", "-q", str(place), "-d", str(out)], check=True)  # Debian's
        manifest = json.loads((out / "mod.json").read_text())
        jsonschema_rs.validate(json.loads(SCHEMA.read_text()), manifest)  # JSON Schema 2020-12
        sums = "".join(f"{f.name[:64]}  {f}\n" for f in (out / "new").iterdir())
        subprocess.run(["sha256sum", "-c", "--quiet"], input=sums, text=True, check=True)  # GNU coreutils
        self.assertEqual(sorted(f.read_bytes()[:4] for f in (out / "new").iterdir()), [b"RIFF", b"a da", b"\x89PNG"])
        begins = [s["begins"] for s in manifest["swaps"]]
        self.assertEqual(sorted(begins), ["file", "original", "original"])

        newer = self.newer()
        told = self.look(newer, data)
        about = [
            told[name] for name in ("name", "author", "game", "swaps", "recipes", "files", "other_game", "unknown")
        ]
        self.assertEqual(about[:2] + about[3:6] + about[7:], ["Night", "A. Ferryman", 3, 2, 1, []])
        before = Mod.objects.count()
        begun = self.send("post", f"/games/{newer['id']}/packages/{told['token']}")
        job = self.get(f"/jobs/{begun['id']}")
        self.assertEqual((job["state"], Mod.objects.count()), ("done", before + 1), job["error"])
        mod = f"/mods/{job['result']['mod']}"
        self.assertTrue(b"".join(self.get(f"{mod}/picture").streaming_content).endswith(b" of a ferry"))
        rows = self.get(f"{mod}/judgement")["rows"]
        verdicts = {r["place"].rpartition(" ")[2]: r["verdict"] for r in rows}
        self.assertEqual(verdicts, {"0251": "same", "2210": "moved", "2214": "gone", "pictures/lamp.raw": "same"})
        self.send("post", f"{mod}/carry", {"safe": True})
        twins = {s.source_name: s for s in Swap.objects.filter(mod_id=job["result"]["mod"])}
        ours = Swap.objects.get(mod_id=self.game["mod_id"], source_name="fog.wav")
        self.assertEqual(twins["fog.wav"].state, "ready")
        self.assertEqual(twins["fog.wav"].prepared, ours.prepared)  # byte for byte what it was
        gone = next(r for r in rows if r["verdict"] == "gone")
        self.send("delete", f"/swaps/{gone['swap']}", status=204)
        self.send("post", f"{mod}/rebuild", {})
        self.assertEqual(self.built(mod)[0]["state"], "proved")

    def test_the_game_s_own_sound_is_not_given_away(self):
        bell = self.stream(self.game, "2211")
        pcm = self.get(f"/audio/{bell['audio']}/pcm?start=0&frames={bell['frames']}").content
        taken = wav_bytes(np.frombuffer(pcm, "<i2")[:, None], bell["rate"])
        made = self.upload(self.game, self.stream(self.game, "2215"), taken, "my bell.wav")
        job = self.get(f"/jobs/{self.send('post', f'{self.mod}/package')['id']}")
        self.assertIn("my bell.wav is the game's own sound", job["error"]["what"])
        self.send("delete", f"/swaps/{made['id']}", status=204)
        self.packed()
        horn = (self.root / "library/game/data/deck.zip", "ambience/horn.wav")
        self.upload(self.game, self.stream(self.game, "2215"), zipfile.ZipFile(horn[0]).read(horn[1]), "my horn.wav")
        job = self.get(f"/jobs/{self.send('post', f'{self.mod}/package')['id']}")
        self.assertIn("my horn.wav is the game's own, byte by byte", job["error"]["what"])

    def test_packages_that_lie_make_nothing(self):
        good = zipfile.ZipFile(io.BytesIO(self.packed()))
        parts = {name: good.read(name) for name in good.namelist()}
        manifest = json.loads(parts["mod.json"])
        new = next(name for name in parts if name.endswith(".wav"))

        def package(text=None, more=None, without="", **changes) -> bytes:
            out = io.BytesIO()
            with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as target:
                text = text if text is not None else json.dumps({**manifest, **changes}).encode()
                for name, data in {**parts, "mod.json": text, **(more or {})}.items():
                    if name != without:
                        target.writestr(name, data)
            return out.getvalue()

        wrong_new = json.loads(json.dumps(manifest).replace(new, f"../../{new}"))
        for data, what in (
            (package(text=b"{"), "no JSON text"),
            (package(text=b"[" * 100_000), "no JSON text"),
            (package(zubret_mod=2), "form 2; this program reads up to 1"),
            (package(name=""), "not of the form"),
            (package(nmae="x"), "not of the form"),
            (package(**wrong_new), "not of the form"),  # a path that leads out
            (package(without=new), "is missing in it"),
        ):
            with self.subTest(what):
                self.assertIn(what, self.look(self.game, data, 422)["what"])
        bomb = package(more={"bomb": bytes(50_000_000)})[:-200]
        for data in (b"no ZIP at all", package(without="mod.json"), bomb):  # it may be a mod of another kind
            self.assertIsNone(self.look(self.game, data))
        mods, swaps = Mod.objects.count(), Swap.objects.count()
        folders = sorted((self.root / "data" / "mods").rglob("*"))
        late = [
            (package(more={new: parts[new][:-1] + b"\xff"}), "its SHA-256 is another one"),
            (package(swaps=[{**manifest["swaps"][0], "treatment": {"gain_db": 900}}]), "a value that is not possible"),
            (package(swaps=[{**manifest["swaps"][0], "original": {**manifest["swaps"][0]["original"], "format": {}}}]),
             "what no format can be"),
        ]  # fmt: skip
        for data, what in late:
            with self.subTest(what):
                told = self.look(self.game, data)
                job = self.send("post", f"/games/{self.game['id']}/packages/{told['token']}")
                self.assertIn(what, self.get(f"/jobs/{job['id']}")["error"]["what"])
        self.assertEqual((Mod.objects.count(), Swap.objects.count()), (mods, swaps))
        self.assertEqual(sorted((self.root / "data" / "mods").rglob("*")), folders)
        self.assertEqual(self.look(self.game, package(more={"readme.txt": b"hello"}))["unknown"], ["readme.txt"])
        shutil.rmtree(self.root / "data" / "tmp")
        again = f"/games/{self.game['id']}/packages/{told['token']}"
        self.assertIn("not there any more", self.send("post", again, status=410)["what"])

    def test_the_schema_is_the_committed_one(self):
        from zubret_core.package import schema

        self.assertEqual(SCHEMA.read_text("utf-8"), schema(), "run: manage.py openapi")
        self.assertTrue(Path(ROOT / "docs/mod-package.md").exists())
