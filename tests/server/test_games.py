"""Games and their surveys; lists of streams and entries."""

import io
import os
import shutil
import sys
import zipfile
from pathlib import Path
from unittest import mock
from urllib.parse import urlencode

import numpy as np
import soundfile
from django.conf import settings
from django.db import connection
from django.utils import timezone

from server.games.models import Game, Survey, SurveyFile
from server.home.tidy import BROUGHT_BACK, remove_forgotten
from server.jobs.models import Job
from server.jobs.run import tidy_up
from server.mods.models import Mod, Swap
from server.shelf.models import Archive, Bank, Entry, Given, Stream, SurveyGroup
from standin.formats import crate
from tests.server.support import ServerTest, wav_bytes
from tests.support import copy_of_demo, edited, small_bell, small_crate, tone
from zubret_core.audio.riff import smpl_chunk
from zubret_core.base import Format, Loop
from zubret_core.container import GameFolder

FORGOTTEN = (Entry, Stream, Bank, Archive, SurveyGroup, SurveyFile, Swap, Mod)
OWN = """zubret: 1
id: own
describes: archive
recognise: [{at: 0, bytes: "4f 57 4e 21"}]
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 4}, {name: count, type: u16, means: entries.count}]
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: path, type: text, length: 8, means: entry.path}
      - {name: at, type: u32, means: entry.at}
      - {name: stored, type: u32, means: entry.stored}
"""


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

    def test_a_survey_tells_what_every_file_is(self):
        game = self.add_game()
        rows = {r["path"]: r for r in self.get(f"/games/{game['id']}/files")["rows"]}
        self.assertEqual(
            {p: (r["what"], r["entries"], r["streams"]) for p, r in rows.items()},
            {
                "data/sea.crate": ("archive", 10, 40),
                "data/deck.zip": ("archive", 6, 5),
                "data/patch_01.zip": ("archive", 2, 1),
                "data/hold.chart": ("locked", 0, 0),
                "data/sums.txt": ("list", 0, 0),
                **dict.fromkeys(["data/hold.cargo00", "data/hold.cargo01"], ("companion", 0, 0)),
                **dict.fromkeys(
                    [
                        "data/order.txt",
                        "data/drift.bin",
                        "data/hold names.txt",
                        "ferry.ini",
                        "read me.txt",
                        "found on a forum.txt",
                    ],
                    ("other", 0, 0),
                ),
            },
        )
        self.assertEqual(rows["data/sea.crate"]["layout"], "saltglass-crate")
        self.assertGreater(rows["data/deck.zip"]["unpacked"], rows["data/deck.zip"]["size"])
        totals = self.get(f"/games/{game['id']}/survey")
        whole = {name: sum(r[name] for r in rows.values()) for name in ("entries", "streams")}
        self.assertEqual({name: totals[name] for name in whole}, whole)
        self.assertEqual([totals[n] for n in ("files", "archives", "locked", "nested")], [len(rows), 4, 1, 0])
        apart = [r for r in rows.values() if r["what"] != "companion"]
        self.assertEqual(totals["unpacked"], sum(r["unpacked"] for r in apart))
        route = {s["key"]: (s["dot"], s["text"]) for s in self.get(f"/games/{game['id']}/route")}
        self.assertEqual(route["survey"], ("half", "4 archives, 1 locked"))
        self.assertIn("needs a key of 32 bytes", rows["data/hold.chart"]["error"]["what"])
        self.assertIn("53 46 43 52 at byte 0", rows["data/sea.crate"]["evidence"])
        self.assertEqual(route["locate"], ("full", "46 streams"))
        self.assertEqual(route["rebuild"], ("empty", "not rebuilt"))

    def test_files_come_as_a_tree_in_pages_and_by_what_they_are(self):
        library = self.root / "library" / "tree"
        for path in ("a/b/one.wav", "a/b/two.wav", "a/three.bin", "four.bin"):
            (library / path).parent.mkdir(parents=True, exist_ok=True)
            soundfile.write(library / path, np.zeros(800), 8000, "PCM_16", format="WAV")
        (library / "four.bin").write_bytes(b"nothing that anybody knows")
        with zipfile.ZipFile(library / "a" / "outer.zip", "w") as outer:
            inner = io.BytesIO()
            with zipfile.ZipFile(inner, "w") as pack:
                pack.write(library / "a" / "b" / "one.wav", "s/in.wav")
            outer.writestr("inner.zip", inner.getvalue())
        game = self.send("post", "/games", {"folder": str(library)})["id"]

        def listed(**query) -> list[str]:
            return [r["path"] for r in self.get(f"/games/{game}/files?{urlencode(query, doseq=True)}")["rows"]]

        def place(**query) -> int:
            return self.get(f"/games/{game}/file-place?{urlencode(query, doseq=True)}")

        self.assertEqual(listed(tree=1), ["a", "four.bin"])
        self.assertEqual([r["streams"] for r in self.get(f"/games/{game}/files?tree=1&sort=-streams")["rows"]], [4, 0])
        opened = {"tree": 1, "opened": ["a", "a/outer.zip"]}
        nested = "a/outer.zip › inner.zip"
        in_view = ["a", "a/b", "a/outer.zip", nested, "a/three.bin", "four.bin"]
        self.assertEqual(listed(**opened), in_view)
        rows = self.get(f"/games/{game}/files?{urlencode(opened, doseq=True)}")["rows"]
        self.assertEqual([(r["depth"], r["opens"]) for r in rows][1:4], [(1, True), (1, True), (2, False)])
        self.assertEqual(listed(**opened, offset=1, limit=2), in_view[1:3])
        self.assertEqual(listed(**opened, sort="-path"), ["a", "a/b", "a/three.bin", "a/outer.zip", nested, "four.bin"])
        self.assertEqual([place(**opened, path=path) for path in (nested, "a/b/one.wav")], [3, -1])
        self.assertEqual([place(**opened, begins="F"), place(**opened, begins="inn", first=4)], [5, 3])
        ids = self.get(f"/games/{game}/file-numbers?{urlencode(opened, doseq=True)}&first=3&last=4")
        self.assertEqual(ids, [r["id"] for r in rows[3:5]])
        self.assertEqual(listed(tree=1, q="two"), ["a", "a/b", "a/b/two.wav"])
        self.assertEqual(listed(below="a/outer.zip"), ["a/outer.zip", nested])
        self.assertEqual(listed(tree=1, q="inner"), ["a", "a/outer.zip", nested])
        self.assertEqual(listed(state=["sound"]), ["a/b/one.wav", "a/b/two.wav", nested, "a/three.bin"])
        folder = rows[0]
        files = self.get(f"/games/{game}/files")["rows"]
        below = [r for r in files if r["path"].startswith("a/") and not r["inside"]]
        self.assertEqual(
            (folder["what"], folder["count"], folder["size"]), ("folder", 4, sum(r["size"] for r in below))
        )
        self.assertEqual(listed(q="wav"), ["a/b/one.wav", "a/b/two.wav"])
        self.assertEqual(listed(what="other"), ["four.bin"])
        numbers, all_of_them = {r["path"]: r["id"] for r in [*rows, *files]}, ["a", "a/b/one.wav", nested, "four.bin"]
        for chosen, sums, out in (  # files and streams, and files that are taken out
            ([nested], (0, 1), 1),
            (["a/outer.zip", nested, "a/b/two.wav"], (2, 2), 2),
            (["a/b"], (2, 2), 2),
            (all_of_them, (5, 4), 4),
        ):
            body = {"files": [numbers[path] for path in chosen]}
            told = self.send("post", f"/games/{game}/file-sums", body)
            self.assertEqual((told["files"], told["streams"]), sums, chosen)
            self.assertEqual(self.send("post", f"/games/{game}/take-out/plan", body)["files"], out, chosen)
        self.assertEqual(told["bytes"], sum(r["size"] for r in files if not r["inside"]))
        self.send("post", f"/games/{game}/take-out", {"files": [numbers["four.bin"]]}, 409)
        drawn = self.get(f"/games/{game}/picture")
        self.assertEqual(
            {p["path"]: p["streams"] for p in drawn["parts"]},
            {"a/b/one.wav": 1, "a/b/two.wav": 1, "a/outer.zip": 1, "a/three.bin": 1, "four.bin": 0},
        )
        self.assertEqual(drawn["size"], sum(r["size"] for r in files if not r["inside"]))
        self.assertEqual({k["kind"]: k["files"] for k in drawn["kinds"]}, {"holds": 1, "sound": 3, "other": 1})
        self.assertEqual(drawn["sentence"], "All 4 streams are in a/b, a and a/outer.zip.")
        self.assertEqual(
            [p["name"] for p in self.get(f"/games/{game}/picture?within=a/b")["parts"]], ["one.wav", "two.wav"]
        )
        self.assertEqual(
            listed(sort="-size", limit=2), [r["path"] for r in sorted(files, key=lambda r: (-r["size"], r["path"]))][:2]
        )
        whole = listed()
        self.assertEqual(
            [listed(offset=n, limit=2) for n in range(0, 6, 2)], [whole[n : n + 2] for n in range(0, 6, 2)]
        )
        self.assertEqual(self.get(f"/games/{game}/files?limit=1")["total"], len(whole))
        self.assertIsNone(self.get(f"/games/{game}/files?totals=false")["total"])
        totals = self.get(f"/games/{game}/survey")
        self.assertEqual([totals[n] for n in ("archives", "loose", "nested")], [1, 3, 1])
        self.assertEqual(self.get(f"/games/{game}/route")[0]["text"], "1 archive, 3 loose sounds")
        held = self.get(f"/games/{game}/holders")
        self.assertEqual([h["path"] for h in held["rows"]], [r["path"] for r in files if r["streams"]])
        self.assertEqual(self.get(f"/games/{game}/file?path=a/three.bin")["streams"], 1)
        self.assertIsNone(self.get(f"/games/{game}/file?path=nothing"))

    def test_an_unchanged_archive_is_stored_once_and_a_changed_one_anew(self):
        game = self.add_game(small=True)
        place = Path(game["folder"]) / "small.crate"

        def surveyed() -> tuple[int, int, int]:
            self.send("post", f"/games/{game['id']}/survey")
            return len(self.get("/surveys")), Archive.objects.count(), Stream.objects.count()

        self.assertEqual(surveyed(), (1, 1, 8))  # nothing has changed: the survey stands
        (place.parent / "other.txt").write_bytes(b"t")
        self.assertEqual(surveyed(), (2, 1, 8))
        os.utime(place, (1, 1))
        self.assertEqual(surveyed(), (3, 2, 16))
        self.send("post", f"/games/{game['id']}/names", {"path": "small.crate", "title": "n", "text": "a"})
        self.assertEqual(surveyed(), (4, 3, 24))  # by names, or keys, the same files may hold something else
        self.assertEqual(self.get(f"/games/{game['id']}/streams")["total"], 8)

    def test_plain_sounds_are_written_down_as_if_each_had_been_opened(self):
        """By a layout whose mark a WAV file may hold, each is: all rows of both ways are equal."""
        folder, copy = self.root / "library" / "sounds", self.root / "library" / "copied"
        pcm = tone(0.1, 8000, 440)
        wide, odd = np.repeat(pcm, 2, axis=1), "a/ü 'x\" 100%s.b"
        places = {
            **{f"many/s{n:04}.wav": wav_bytes(pcm[: 100 + n % 7], 8000) for n in range(1100)},
            f"{odd}.wav": wav_bytes(wide, 44100, "PCM_24"),
            "a/..wav": wav_bytes(pcm, 8000, "FLOAT"),
            "a/CAPITAL.WAV": wav_bytes(np.tile(pcm, (60, 1)), 8000),
            "b/silent.wav": wav_bytes(pcm[:0], 8000),
            "b/packed.wav": wav_bytes(pcm, 8000, "IMA_ADPCM"),
            "b/cut.wav": wav_bytes(pcm, 8000)[:-30],
            "b/archive.wav": small_crate(),
            "b/empty.wav": b"",
        }
        for length in (2, 3000):  # its loop stands within the first bytes, or among the last
            sound = wav_bytes(pcm[:1] if length < 9 else np.tile(pcm, (4, 1))[:length], 8000)
            loop = smpl_chunk(Format("", 8000, 1, length, Loop(1, length)))
            data = sound + bytes(len(sound) % 2) + loop
            places[f"c/{length}.wav"] = data[:4] + (len(data) - 8).to_bytes(4, "little") + data[8:]
        for path, data in places.items():
            (folder / path).parent.mkdir(parents=True, exist_ok=True)
            (folder / path).write_bytes(data)
        (folder / "c" / "link.wav").symlink_to(folder / "a" / "..wav")
        shutil.copytree(folder, copy, symlinks=True)
        (copy / "c" / "link.wav").unlink()
        (copy / "c" / "link.wav").symlink_to(copy / "a" / "..wav")
        many = self.send("post", "/games", {"folder": str(folder)})["id"]
        made = self.send("post", "/layouts", {"name": "own", "text": OWN.replace("at: 0, bytes", "at: 300, bytes")})
        self.send("post", f"/layouts/{made['id']}/versions")
        each = self.send("post", "/games", {"folder": str(copy)})["id"]

        def told(game: int) -> list[list]:
            of = {
                SurveyFile: ("survey__game", "path", "archive__path", {"id", "survey", "archive", "changed_ns"}),
                SurveyGroup: ("survey__game", "place", "what", {"id", "survey", "bank"}),
                Archive: ("game", "path", "kind", {"id", "game", "outer", "opened_with"}),
                Entry: ("archive__game", "archive__path", "ordinal", {"id", "archive"}),
                Bank: ("archive__game", "archive__path", "entry_index", {"id", "archive"}),
                Stream: ("archive__game", "locator", "bank__entry_path", {"id", "archive", "bank"}),
            }
            out = []
            for model, (owner, *known, apart) in of.items():
                names = [f.name for f in model._meta.concrete_fields if f.name not in apart]
                out.append(sorted(map(repr, model.objects.filter(**{owner: game}).values_list(*known, *names))))
            sums = connection.cursor().execute(
                "SELECT words FROM shelf_words WHERE rowid IN (SELECT s.id FROM shelf_stream s JOIN shelf_archive a"
                " ON a.id = s.archive_id WHERE a.game_id = %s) ORDER BY words", [game]
            )  # fmt: skip
            return [*out, sums.fetchall()]

        self.assertEqual(told(many), told(each))
        self.assertGreater(len(told(many)[-1]), 1100)
        for place in (folder, copy):  # one is another version now, and one is new; all others are as they were
            (place / "many" / "s0000.wav").write_bytes(wav_bytes(pcm, 8000))
            (place / "many" / "new.wav").write_bytes(wav_bytes(pcm, 8000))
            for name in ("s0000.wav", "new.wav"):
                os.utime(place / "many" / name, ns=(5, 5))
        self.send("post", f"/games/{each}/survey")
        self.send("delete", f"/layouts/{made['id']}", status=204)
        self.send("post", f"/games/{many}/survey")
        self.assertEqual(told(many), told(each))
        self.assertEqual(self.get(f"/games/{many}/streams?q=many")["total"], 1101)
        sounds = Archive.objects.filter(game=many, kind="file").order_by("pk").values_list("pk", flat=True)
        before = list(sounds)
        made = self.send("post", "/layouts", {"name": "own", "text": OWN})
        self.send("post", f"/layouts/{made['id']}/versions")
        self.send("post", f"/games/{many}/survey")  # by another layout, so that each is opened: its sum is as it was
        self.assertEqual(list(sounds), before)

    def test_what_is_as_it_was_is_not_opened_again(self):
        """Seen by Python's own audit of what is opened."""
        seen: list[str] = []
        watching = [False]
        sys.addaudithook(lambda event, args: watching[0] and event == "open" and seen.append(str(args[0])))
        game = self.add_game()
        rows = self.get(f"/games/{game['id']}/files?limit=500")["rows"]

        def opened() -> set[str]:
            seen.clear()
            watching[0] = True
            self.send("post", f"/games/{game['id']}/survey")
            watching[0] = False
            again = self.get(f"/games/{game['id']}/files?limit=500")["rows"]
            self.assertEqual(
                [{**r, "archive_id": 0, "id": 0} for r in again], [{**r, "archive_id": 0, "id": 0} for r in rows]
            )
            return {s.removeprefix(game["folder"] + "/") for s in seen if s.startswith(game["folder"] + "/")}

        self.assertEqual(opened(), {"data/hold.chart"})  # locked: a key may have come
        os.utime(Path(game["folder"]) / "data/deck.zip")
        self.assertEqual(opened() - {"data/hold.chart"}, {"data/deck.zip"})
        made = self.send("post", "/layouts", {"name": "own", "text": OWN})
        self.send("post", f"/layouts/{made['id']}/versions")
        self.assertGreater(len(opened()), 10)  # any file may be known now

    def test_a_damaged_archive_is_listed_with_its_error(self):
        game = self.add_game(small=True)
        place = Path(game["folder"]) / "small.crate"
        place.write_bytes(edited(small_crate(), 8, "<I", 9_999_999))
        self.send("post", f"/games/{game['id']}/survey")
        row = next(r for r in self.get(f"/games/{game['id']}/files?limit=500")["rows"] if r["path"] == "small.crate")
        self.assertEqual(row["what"], "unreadable")
        self.assertIn("promises 9,999,999 records", row["error"]["what"])
        self.assertIn("small.crate, byte", row["error"]["where"])
        self.assertTrue(row["error"]["next"])

    def test_a_path_with_dots_in_an_archive_is_only_a_name(self):
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

    def test_odd_files_are_rows_and_their_sounds_come_out(self):
        """A sign in a file's name that Zubret writes between names, entries without a name, names that are no text."""
        folder = self.root / "library" / "game"
        folder.mkdir()
        (folder / "odd › name.crate").write_bytes(small_crate())
        (folder / "loop").symlink_to("loop")
        Path(os.fsdecode(os.fsencode(folder) + b"/\xff.bin")).write_bytes(b"x")
        with zipfile.ZipFile(folder / "dots.zip", "w") as pack:
            pack.writestr(zipfile.ZipInfo("."), wav_bytes(tone(0.1, 8000, 400), 8000))
        game = self.send("post", "/games", {"folder": str(folder)})
        rows = {r["path"]: r["what"] for r in self.get(f"/games/{game['id']}/files?limit=500")["rows"]}
        odd = {"odd › name.crate": "archive", "dots.zip": "archive", "loop": "unreadable", "\\xff.bin": "unreadable"}
        self.assertEqual(rows, odd)
        streams = self.get(f"/games/{game['id']}/streams")["rows"]
        for path, body in (("take-out", {}), ("sounds", {"chosen": [s["id"] for s in streams]})):
            job = self.send("post", f"/games/{game['id']}/{path}", body)
            done = self.get(f"/jobs/{job['id']}")
            self.assertEqual((done["state"], done["result"].get("failed_count")), ("done", 0), done["error"])
        self.get(f"/games/{game['id']}/bench/bytes?path=odd › name.crate&start=0&end=16")

    def test_forgetting_a_game_takes_all_of_it_and_leaves_its_folder_alone(self):
        game, data = self.add_game(small=True), settings.DATA_DIR
        self.upload(game, self.stream(game, "0004"), wav_bytes(tone(0.1, 24000, 480), 24000))
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
        made = {"names": 1, "marks": 1, "notes": 0, "swaps": 1, "files": 0, "keys": 0}
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


class Lists(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.path = f"/games/{self.game['id']}"

    def test_streams_are_searched_sorted_and_paged(self):
        longest = self.get(f"{self.path}/streams?sort=-length&limit=3")
        self.assertEqual([r["stream_id"] for r in longest["rows"]], ["0266", "0247", "0246"])
        self.assertEqual(longest["total"], 46)
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

    def test_words_find_what_plain_python_finds_in_every_order_and_page(self):
        for number, said in (
            ("0247", {"name": 'Öffnung 100% "da"', "marked": True}),
            ("1003", {"notes": "deep_water ahoy"}),
        ):
            self.send("patch", f"/streams/{self.stream(self.game, number)['id']}", said)
        every = self.get(f"{self.path}/streams?limit=100")["rows"]
        for q in (
            "24",
            "crew_f 10",
            "MUSIC.bell",
            "%",
            "_",
            '"da',
            "ahoy",
            '0% "d',
            "deck.zip",
            "'",
            "bell\\",
            "a",
            "zz",
        ):
            words = q.lower().split()
            texts = {
                r["id"]: "\n".join((r["name"], r["notes"], r["stream_id"], r["entry"], r["archive"])).lower()
                for r in every
            }
            wanted = [r for r in every if all(w in texts[r["id"]] for w in words)]
            for sort, key in (
                ("", None),
                ("-length", lambda r: (-r["seconds"], -r["id"])),
                ("size", lambda r: (r["stored"], r["id"])),
            ):
                ids = [r["id"] for r in (sorted(wanted, key=key) if key else wanted)]
                query = urlencode({"q": q, "sort": sort})
                pages = [self.get(f"{self.path}/streams?{query}&limit=7&offset={n}") for n in range(0, len(ids) + 1, 7)]
                self.assertEqual([r["id"] for p in pages for r in p["rows"]], ids, (q, sort))
                self.assertEqual({p["total"] for p in pages}, {len(ids)})
                if ids:
                    beside = self.get(f"{self.path}/neighbours?{query}&stream_id={ids[-1]}")
                    self.assertEqual((beside["place"], beside["next"]), (len(ids) - 1, 0))
        for said, old, new in (({"notes": "calm"}, 0, 1), ({"notes": ""}, 0, 0), ({"name": "calm"}, 0, 1)):
            self.send("patch", f"/streams/{self.stream(self.game, '1003')['id']}", said)
            found = [self.get(f"{self.path}/streams?q={word}")["total"] for word in ("ahoy", "calm")]
            self.assertEqual(found, [old, new])
        os.utime(Path(self.game["folder"]) / "data/sea.crate")
        self.send("post", f"{self.path}/survey")
        self.assertEqual(self.get(f"{self.path}/streams?q=calm")["total"], 1)  # of the new rows
        Stream.objects.filter(pk=every[0]["id"]).delete()
        with connection.cursor() as cursor:
            cursor.execute("SELECT count(*) FROM shelf_words")
            self.assertEqual(cursor.fetchone()[0], Stream.objects.count())

    def test_the_length_brush_counts_every_stream_once(self):
        brush = self.get(f"{self.path}/lengths")
        self.assertEqual(sum(brush["counts"]), 46)
        self.assertEqual(sum(self.get(f"{self.path}/lengths?q=music.bell")["counts"][18:]), 5)
        Stream.objects.filter(pk=self.stream(self.game, "0247")["id"]).update(seconds=5000)
        longer = self.get(f"{self.path}/lengths?q=music 0247")
        self.assertEqual((brush["to_seconds"], longer["to_seconds"], sum(longer["counts"])), (600, 10_800, 1))

    def test_entries_and_the_ribbon(self):
        archive = next(a for a in Archive.objects.all() if a.path == "data/sea.crate")
        asked = f"archive={archive.pk}&sort=-size"
        numbers = self.get(f"{self.path}/entry-numbers?{asked}&first=1&last=2")
        self.assertEqual(numbers, [row["id"] for row in self.get(f"{self.path}/entries?{asked}")["rows"]][1:3])
        rows = self.get(f"{self.path}/entries?archive={archive.pk}&totals=false")
        self.assertIsNone(rows["total"])
        for text, first, names in (("Lamp", 0, "lamp"), ("pictures/la", 9, "lamp"), ("zz", 0, "")):
            place = self.get(f"{self.path}/entry-beginning?archive={archive.pk}&text={text}&first={first}")
            self.assertIn(names, rows["rows"][place]["path"]) if names else self.assertEqual(place, -1)
        page = self.get(f"{self.path}/entries?archive={archive.pk}&sort=-size&limit=2")
        self.assertEqual((page["total"], page["rows"][0]["path"]), (10, "music/music.bell"))
        self.assertEqual(self.get(f"{self.path}/entries?q=lamp")["rows"][0]["method"], "zlib")
        ribbon = self.get(f"/archives/{archive.pk}/ribbon")
        self.assertEqual((ribbon["explained"], sum(s["length"] for s in ribbon["segments"])), (1.0, archive.size))
        stream = self.stream(self.game, "0247")
        raw = (Path(self.game["folder"]) / "data/sea.crate").read_bytes()
        inside = Stream.objects.get(pk=stream["id"]).where().stream(GameFolder(Path(self.game["folder"])))
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
