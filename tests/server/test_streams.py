"""Lists of streams and entries."""

import os
from pathlib import Path
from urllib.parse import urlencode

from django.db import connection

from server.shelf.models import Archive, Stream
from tests.server.support import ServerTest
from zubret_core.container import GameFolder


class Lists(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.path = f"/games/{self.game['id']}"

    def test_streams_are_searched_sorted_and_paged(self):
        longest = self.get(f"{self.path}/streams?sort=-length&limit=3")
        self.assertEqual([r["stream_id"] for r in longest["rows"]], ["0266", "0247", "0246"])
        self.assertEqual(longest["total"], 48)
        self.assertAlmostEqual(longest["seconds"], sum(s.seconds for s in Stream.objects.all()), places=3)
        second = self.get(f"{self.path}/streams?sort=-length&limit=3&offset=3")
        self.assertLess(second["rows"][0]["seconds"], longest["rows"][-1]["seconds"])
        self.assertEqual(self.get(f"{self.path}/streams?q=crew_fr 1003")["total"], 1)
        self.assertEqual(self.get(f"{self.path}/streams?q=nowhere")["rows"], [])
        self.assertEqual(self.get(f"{self.path}/streams?language=German")["total"], 8)
        self.assertEqual(self.get(f"{self.path}/languages"), ["English", "French", "German"])
        music = self.get(f"{self.path}/streams?shortest=20&longest=60")
        self.assertTrue(all(20 <= r["seconds"] <= 60 for r in music["rows"]))
        self.assertEqual(music["total"], 3)
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
        self.assertEqual(sum(brush["counts"]), 48)
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
            sorted_ = self.get(f"{self.path}/entry-beginning?{asked}&text={text}&first={first}")
            back = self.get(f"{self.path}/entries?{asked}&limit=500")["rows"]
            self.assertIn(names, back[sorted_]["path"]) if names else self.assertEqual(sorted_, -1)
        page = self.get(f"{self.path}/entries?archive={archive.pk}&sort=-size&limit=2")
        self.assertEqual((page["total"], page["rows"][0]["path"]), (12, "music/music.bell"))
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
