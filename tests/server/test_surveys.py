"""What a survey finds in a game's folder, and what it reads again."""

import io
import os
import shutil
import sys
import zipfile
from pathlib import Path
from urllib.parse import urlencode

import numpy as np
import soundfile
from django.db import connection

from server.games.models import SurveyFile
from server.shelf.models import Archive, Bank, Entry, Stream, SurveyGroup
from standin.formats import crate
from tests.server.support import ServerTest, wav_bytes
from tests.support import edited, small_bell, small_crate, tone
from zubret_core.audio.riff import smpl_chunk
from zubret_core.base import Format, Loop

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


class Surveys(ServerTest):
    def test_a_survey_tells_what_every_file_is(self):
        game = self.add_game()
        rows = {r["path"]: r for r in self.get(f"/games/{game['id']}/files")["rows"]}
        self.assertEqual(
            {p: (r["what"], r["entries"], r["streams"]) for p, r in rows.items()},
            {
                "data/sea.crate": ("archive", 12, 42),
                "data/deck.zip": ("archive", 6, 5),
                "data/patch_01.zip": ("archive", 2, 1),
                "data/hold.chart": ("locked", 0, 0),
                "data/sums.txt": ("list", 0, 0),
                **dict.fromkeys(["data/hold.cargo00", "data/hold.cargo01"], ("companion", 0, 0)),
                **dict.fromkeys(
                    [
                        "data/deck.zip.seal",
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
        self.assertEqual(route["locate"], ("full", "48 streams"))
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
