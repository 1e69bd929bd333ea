"""Installing through the API: forecast, install, what is heard then, what others change, restore."""

import hashlib
import os
import shutil
import subprocess
import sys
from pathlib import Path

from server.games.folders import store_of
from server.games.models import Game
from server.install.installing import settle_all
from server.jobs.models import Job
from tests.server.support import ServerTest, wav_bytes
from tests.support import ROOT, tone

DJANGO = {"DJANGO_SETTINGS_MODULE": "server.settings"}

FOUND = ("files", "bytes", "archives", "entries", "streams", "seconds", "stored")
"""Of a survey: what it found in all."""


def tree(folder: Path) -> dict[str, str]:
    files = (p for p in sorted(folder.rglob("*")) if p.is_file())
    return {str(p.relative_to(folder)): hashlib.sha256(p.read_bytes()).hexdigest() for p in files}


class Installing(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.place, self.at = Path(self.game["folder"]), f"/games/{self.game['id']}"
        self.one = self.stream(self.game, "0247")
        made = self.upload(self.game, self.one, wav_bytes(tone(6, 48_000, 441, 2), 48_000))
        self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"})
        self.swap = self.get(f"/swaps/{made['id']}")
        self.build = self.rebuilt()
        self.before = tree(self.place)

    @property
    def builds(self) -> Path:
        return self.root / "data" / "builds"

    def rebuilt(self) -> dict:
        self.send("post", f"/mods/{self.game['mod_id']}/rebuild", {})
        return self.built(f"/mods/{self.game['mod_id']}")[0]

    def state(self) -> str:
        return self.get(f"{self.at}/install")["state"]

    def route(self) -> str:
        return next(s["text"] for s in self.get(f"{self.at}/route") if s["key"] == "install")

    def test_all_is_told_before_it_happens_and_the_original_is_heard_and_rebuilt_from_all_the_time(self):
        coming = self.get(f"{self.at}/install/forecast")
        self.assertEqual({f["what"] for f in coming["rows"]}, {"replaced"})
        self.assertEqual(([], []), (coming["warnings"], coming["leftovers"]))
        heard = self.get(f"/audio/{self.one['audio']}/pcm?start=0&frames=4000").content
        self.send("post", f"/builds/{self.build['id']}/install")
        self.assertEqual((self.state(), self.route()), ("installed", "installed"))
        self.assertTrue(self.get(f"/games/{self.game['id']}/made")["installed"])
        now = tree(self.place)
        changed = {path for path in now if now[path] != self.before.get(path)}
        self.assertEqual(changed, {f["path"] for f in coming["rows"]})
        self.assertEqual(now.keys(), self.before.keys())
        self.assertEqual({path: now[path] for path in changed}, tree(self.builds / str(self.build["id"])))

        # What Zubret reads is the original still: heard, surveyed without a change, rebuilt to the same bytes.
        self.assertEqual(self.get(f"/audio/{self.one['audio']}/pcm?start=0&frames=4000").content, heard)
        survey = self.get(f"{self.at}/survey")
        self.send("post", f"{self.at}/survey")
        anew = self.get(f"{self.at}/survey")
        self.assertEqual({k: survey[k] for k in FOUND}, {k: anew[k] for k in FOUND})
        for name in ("sea.crate.bak", "deck - Copy.zip", "sea.crated"):  # two that somebody has put aside
            (self.place / "data" / name).write_bytes(b"x")
        self.before |= {path: digest for path, digest in tree(self.place).items() if path not in now}
        self.send("post", f"{self.at}/survey")
        again = self.rebuilt()
        self.assertEqual(tree(self.builds / str(again["id"])), {path: now[path] for path in changed})
        trial = {"swap_id": self.swap["id"], "loops": 1, "installed": True}
        started = self.send("post", f"/builds/{again['id']}/trials", trial)
        played = self.get(f"/trials/{started['trial']['id']}")
        self.assertTrue(played["played"], played["why"])

        told = self.get(f"{self.at}/install/forecast")["leftovers"]
        self.assertEqual(told, ["data/deck - Copy.zip", "data/sea.crate.bak"])
        self.send("post", f"{self.at}/restore")
        self.assertEqual((self.state(), tree(self.place)), ("original", self.before))
        untold = self.send("post", f"/builds/{again['id']}/trials", trial)
        self.assertNotEqual(
            self.get(f"/trials/{untold['trial']['id']}")["audio"].split(".")[1], played["audio"].split(".")[1]
        )

    def test_what_others_do_is_told_and_left_alone(self):
        self.send("post", f"/builds/{self.build['id']}/install")
        path = self.get(f"{self.at}/install")["rows"][0]["path"]
        kept = (self.place / path).read_bytes()
        (self.place / path).write_bytes(kept[:-1] + bytes([kept[-1] ^ 1]))
        self.assertEqual((self.state(), self.route()), ("changed", "changed by others"))
        job = self.send("post", f"{self.at}/restore")
        self.assertIn("changed by something else", Job.objects.get(pk=job["id"]).error["what"])
        self.assertEqual(self.send("post", f"{self.at}/install/let-go", {"paths": ["x"]}, 404)["where"], "x")
        (self.place / path).write_bytes(kept)
        self.send("post", f"{self.at}/restore")
        self.assertEqual(self.state(), "original")

        # A rebuild of a file that an update has replaced is not installed; nor is one that is not proved, or not the mod's any more.
        update = self.place / path
        original, times = update.read_bytes(), update.stat()
        update.write_bytes(original + b"more")
        self.assertIn("changed since", self.get(f"{self.at}/install/forecast")["warnings"][0]["what"])
        self.send("post", f"/builds/{self.build['id']}/install", status=409)
        update.write_bytes(original)
        os.utime(update, ns=(times.st_atime_ns, times.st_mtime_ns))
        self.send("patch", f"/swaps/{self.swap['id']}", {"gain_db": -3})
        told = self.send("post", f"/builds/{self.build['id']}/install", status=409)
        self.assertIn("has changed since this rebuild", told["what"])
        self.assertIsNone(self.get(f"{self.at}/install")["build"])
        self.assertEqual(tree(self.place), self.before)

    def test_what_was_cut_off_is_brought_to_an_end_by_the_worker_s_start(self):
        files, store = self.get(f"{self.at}/install/forecast")["rows"], store_of(Game.objects.get(pk=self.game["id"]))
        for at in (30, 70):  # before anything is done, and between two steps
            code = (
                "import sys; from pathlib import Path; from tests.core.test_install import At, die\n"
                "from zubret_core.container import GameFolder; from zubret_core.install import Store, Wanted, install\n"
                f"game, store, new = GameFolder(Path({str(self.place)!r})), Store(Path({str(store.root)!r})), "
                f"Path({str(self.builds / str(self.build['id']))!r})\n"
                f"wanted = {{p: Wanted(new / p) for p in {[f['path'] for f in files]!r}}}\n"
                f"sys.setprofile(At({at}, die)); install(game, store, wanted, {str(self.build['id'])!r})"
            )
            killed = subprocess.run([sys.executable, "-c", code], cwd=ROOT, env={**os.environ, **DJANGO}, check=False)
            self.assertEqual(killed.returncode, -9)
            self.assertEqual((self.state(), self.route()), ("cut off", "cut off"))
            settle_all()
            self.assertIn(self.state(), ("original", "installed"))
            self.send("post", f"{self.at}/restore")
            self.assertEqual(tree(self.place), self.before)

    def test_a_lost_database_loses_no_original(self):
        self.send("post", f"/builds/{self.build['id']}/install")
        self.send("delete", f"{self.at}?now=true", status=204)
        shutil.rmtree(self.builds)
        self.game = self.send("post", "/games", {"folder": str(self.place)})
        self.at = f"/games/{self.game['id']}"
        self.assertEqual(self.state(), "out of date")
        self.send("post", f"{self.at}/restore")
        self.assertEqual(tree(self.place), self.before)
