"""Games: their folders, being found, being forgotten."""

import os
from pathlib import Path
from unittest import mock

import numpy as np
from django.conf import settings
from django.utils import timezone

from server.games.models import Game, Survey, SurveyFile
from server.home.tidy import BROUGHT_BACK, remove_forgotten
from server.jobs.models import Job
from server.jobs.run import tidy_up
from server.mods.models import Mod, Swap
from server.shelf.models import Archive, Bank, Entry, Given, Stream, SurveyGroup
from standin.formats import crate
from tests.server.support import ServerTest, wav_bytes
from tests.support import copy_of_demo, small_bell, tone

FORGOTTEN = (Entry, Stream, Bank, Archive, SurveyGroup, SurveyFile, Swap, Mod)


class Games(ServerTest):
    def test_only_the_allowed_roots_can_be_seen(self):
        (self.root / "library" / "a game").mkdir()
        (self.root / "elsewhere").mkdir()
        (self.root / "library" / "way out").symlink_to(self.root / "elsewhere")
        top = self.get("/folders")
        self.assertEqual([f["path"] for f in top["rows"]], [str(self.root / "library")])
        inside = self.get(f"/folders?path={self.root}/library")
        self.assertEqual([f["name"] for f in inside["rows"]], ["a game", "way out"])
        second = self.get(f"/folders?path={self.root}/library&offset=1&limit=1")
        self.assertEqual((second["rows"], second["total"]), (inside["rows"][1:], 2))
        self.assertEqual(inside["parent"], "")
        for path in (
            "/",
            "/etc",
            f"{self.root}/library/..",
            f"{self.root}/library/way out",
            f"{self.root}/library/../elsewhere",
        ):
            found = self.get(f"/folders?path={path}")
            self.assertEqual((found["outside"], found["rows"], found["total"]), (True, [], 0))
            self.assertIn("outside the folders", self.send("post", "/games", {"folder": path}, 403)["what"])
        self.get(f"/folders?path={self.root}/library/missing", 404)
        self.assertEqual(Game.objects.count(), 0)

    def test_a_path_may_be_spelt_in_any_way(self):
        place = self.root / "library" / "my game (1)"
        (place / "data").mkdir(parents=True)
        (place / "data" / "sea.crate").write_bytes(b"x")
        text = str(place)
        escaped = text.replace(" ", "\\ ").replace("(", "\\(").replace(")", "\\)")
        spellings = [
            f'"{text}"',
            f"  \u201c{text}\u201d\n",
            f"'{text}/'",
            place.as_uri(),
            escaped,
            text.replace("/", "\\"),
        ]
        with mock.patch.dict(os.environ, {"HOME": str(self.root / "library")}):
            for spelling in [*spellings, "~/my game (1)"]:
                found = self.client.get("/api/folders", {"path": spelling}).json()
                self.assertEqual(found.get("path"), text, (spelling, found))
        found = self.client.get("/api/folders", {"path": f"{text}/data/sea.crate"}).json()
        self.assertEqual(found["path"], f"{text}/data")
        for wrong, next in (
            (f"{text}/dato/x", f"{text} is there"),
            ("D:\\Games\\Sea", "path of Windows"),
            ("games/sea", "whole path"),
            ("~nobody-here/x", "whole path"),
            ("/" + "x" * 5000, "/ is there"),
            ("", None),
        ):
            answer = self.client.get("/api/folders", {"path": wrong})
            if next is None:
                self.assertEqual(answer.json()["path"], "")
            else:
                self.assertIn(next, answer.json()["next"], wrong)

    def test_a_folder_elsewhere_is_allowed_once_and_taken_back(self):
        far = self.root / "drive" / "Game"
        far.mkdir(parents=True)
        (far / "tone.wav").write_bytes(wav_bytes(np.zeros(100, np.int16), 8000))
        rows = self.send("post", "/allowed-folders", {"path": f'"{far}/tone.wav"'})
        self.assertEqual([r["path"] for r in rows], [str(self.root / "library"), str(far)])
        self.send("post", "/allowed-folders", {"path": str(far)})
        game = self.send("post", "/games", {"folder": str(far)})
        last = self.get("/allowed-folders")[-1]
        self.assertEqual((last["games"], last["there"], len(self.get("/allowed-folders"))), (1, True, 2))
        self.assertIn("Game lies in this", self.send("delete", f"/allowed-folders/{last['id']}", status=409)["what"])
        self.send("delete", f"/games/{game['id']}", status=204)
        self.send("delete", f"/allowed-folders/{last['id']}", status=204)
        self.send("post", "/games", {"folder": str(far)}, 403)
        for never in ("/", str(self.root / "data"), str(self.root / "nowhere")):
            self.send("post", "/allowed-folders", {"path": never}, 404 if "nowhere" in never else 403)
        self.assertEqual(len(self.get("/allowed-folders")), 1)

    def test_games_are_found_by_looking_and_a_demo_is_made(self):
        game = self.root / "library" / "shelf" / "Sea"
        (game / "data").mkdir(parents=True)
        os.truncate(os.open(game / "data" / "a.pack", os.O_CREAT | os.O_WRONLY), 200 << 20)
        (game / "sea.exe").write_bytes(bytes(200_000))
        job = self.send("post", "/likely-games")
        found = self.get(f"/jobs/{job['id']}")["result"]["found"]
        first = next(g for g in found if g["path"].startswith(str(self.root)))
        self.assertEqual(first, {"path": str(game), "files": 1, "bytes": 200 << 20, "program": True})
        self.assertEqual(self.send("post", "/likely-games")["id"], job["id"])
        self.assertNotEqual(self.send("post", "/likely-games?again=true")["id"], job["id"])
        copy_of_demo(self.root / "data" / "demo" / "Saltglass Ferry")
        made = self.get(f"/jobs/{self.send('post', '/demo-game')['id']}")
        shown = self.get("/games")[0]
        self.assertEqual((made["state"], made["result"]), ("done", {"game": shown["id"]}))
        self.assertTrue(shown["surveyed"] and shown["player"])

    def test_forgetting_a_game_takes_all_of_it_and_leaves_its_folder_alone(self):
        game, data = self.add_game(small=True), settings.DATA_DIR
        swap = self.upload(game, self.stream(game, "0004"), wav_bytes(tone(0.1, 24000, 480), 24000))
        self.send("patch", f"/swaps/{swap['id']}", {"gain_db": -3})
        self.send("post", f"/games/{game['id']}/take-out", {})
        self.assertEqual(len([*(data / "mods").glob("*"), *(data / "exports").glob("*")]), 2)
        self.send("delete", f"/games/{game['id']}?now=true", status=204)
        self.assertEqual([m.objects.count() for m in FORGOTTEN], [0] * len(FORGOTTEN))
        self.assertEqual((Game.everything.count(), Job.objects.exclude(kind="tidy").count()), (0, 0))
        self.assertEqual([*(data / "mods").glob("*"), *(data / "exports").glob("*")], [])
        self.assertTrue((Path(game["folder"]) / "small.crate").exists())
        self.get(f"/games/{game['id']}/survey", 404)

    def test_a_forgotten_game_can_be_brought_back_for_a_while(self):
        game = self.add_game(small=True)
        stream = self.stream(game, "0004")
        self.send("patch", f"/streams/{stream['id']}", {"name": "Lamp", "marked": True})
        self.upload(game, stream, wav_bytes(tone(0.1, 24000, 480), 24000))
        made = {"names": 1, "marks": 1, "notes": 0, "swaps": 1, "files": 0, "keys": 0, "installed": False}
        self.assertEqual(self.get(f"/games/{game['id']}/made"), made)
        self.send("delete", f"/games/{game['id']}", status=204)
        self.assertEqual((self.get("/games"), len(self.get("/forgotten-games"))), ([], 1))
        tidy_up()
        newer = self.send("post", "/games", {"folder": game["folder"]})
        refused = self.send("post", f"/forgotten-games/{game['id']}", status=409)
        self.assertIn("added again", refused["what"])
        self.send("delete", f"/games/{newer['id']}?now=true", status=204)
        back = self.send("post", f"/forgotten-games/{game['id']}")
        self.assertEqual((back["id"], back["folder"]), (game["id"], game["folder"]))
        self.assertEqual(self.get(f"/games/{game['id']}/made"), made)
        self.send("delete", f"/games/{game['id']}", status=204)
        Game.everything.update(forgotten=timezone.now() - BROUGHT_BACK)
        self.send("post", f"/forgotten-games/{game['id']}", status=404)
        remove_forgotten()
        self.assertEqual((Game.everything.count(), Given.objects.count()), (0, 0))

    def test_what_a_forgotten_survey_alone_has_seen_goes_with_it(self):
        game = self.add_game(small=True)
        place = Path(game["folder"]) / "small.crate"
        place.write_bytes(crate("x", [("b.bell", small_bell(), False)]))
        self.send("post", f"/games/{game['id']}/survey")
        first, second = Survey.objects.order_by("pk")
        kept = {a.pk for a in Archive.objects.filter(seen_in__survey=second)}
        self.assertEqual(Archive.objects.count(), 2)
        self.send("delete", f"/surveys/{first.pk}", status=204)
        self.assertEqual({a.pk for a in Archive.objects.all()}, kept)
        self.assertEqual(set(Entry.objects.values_list("archive", flat=True)), kept)
