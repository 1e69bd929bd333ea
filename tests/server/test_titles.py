"""Titles in a table, saved searches, and what a list is narrowed by, through the API."""

import csv
import io
import zipfile
from pathlib import Path
from urllib.parse import urlencode

from django.core.files.uploadedfile import SimpleUploadedFile

from tests.examples import bank_examples
from tests.server.support import ServerTest, wav_bytes
from tests.support import small_bell, tone


def zip_bytes(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as made:
        for name, data in files.items():
            made.writestr(name, data)
    return out.getvalue()


class Titles(ServerTest):
    def setUp(self):
        super().setUp()
        self.added = self.add_game()
        self.game = self.added["id"]

    def rows(self, **asked) -> list[dict]:
        return self.get(f"/games/{self.game}/streams?{urlencode({'limit': 500, **asked}, doseq=True)}")["rows"]

    def bring(self, what: str, text: str, status: int = 200, asked: str = "", **columns):
        data = {"file": SimpleUploadedFile("titles.csv", text.encode()), **columns}
        answer = self.client.post(f"/api/games/{self.game}/titles{what}{asked}", data)
        self.assertEqual(answer.status_code, status, answer.content[:300])
        return answer.json()

    def test_titles_come_in_and_go_out(self):
        every = self.rows()
        music = [row for row in every if row["bank"] == "music.bell"]
        text = "number;what it is\n" + "".join(
            f"{row['stream_id'].lstrip('0')};=tune {n}\n" for n, row in enumerate(music)
        )
        plan = self.bring("/plan", text + "77777;nobody\n")
        self.assertEqual((plan["streams"], plan["unknown_ids"], plan["separator"]), (5, ["77777"], ";"))
        self.assertEqual(self.bring("/plan", text, id_column=1, title_column=0)["streams"], 0)
        self.bring("", text, 409, id_column=1, title_column=0)
        self.bring("", "no table", 422)
        self.bring("", text, 409, asked="?kind=voice")
        self.assertEqual(self.rows(named="yes"), [])
        made = self.bring("", text)
        self.assertEqual([row["name"] for row in self.rows(named="yes", sort="id")], [f"=tune {n}" for n in range(5)])
        given = self.get(f"/games/{self.game}/titles/csv").content.decode("utf-8-sig")
        table = list(csv.reader(io.StringIO(given)))
        self.assertEqual(table[0], ["id", "title", "bank", "archive"])
        self.assertEqual({row[1] for row in table[1:]}, {f"'=tune {n}" for n in range(5)})
        self.send("post", f"/sayings/{made['id']}/undo")
        self.assertEqual(self.rows(named="yes"), [])
        self.bring("", given)
        self.assertEqual(sorted(row["name"] for row in self.rows(named="yes")), [f"=tune {n}" for n in range(5)])

    def test_names_alone_find_the_streams_whose_ids_are_their_sums(self):
        """The example's id is the check value of CRC-16/XMODEM, of the digits 1 to 9, in the catalogue CRC RevEng."""
        example = next(e for e in bank_examples() if "id: summed-names" in e.layout)
        self.bring("/plan", "123456789\nnobody", 422)
        self.game = self.add_described(example.layout, {"x.sn": example.files[""]})["id"]
        plan = self.bring("/plan", "123456789\nnobody")
        self.assertEqual((plan["streams"], plan["titles"], plan["unknown_ids"]), (1, 1, ["nobody"]))
        self.assertEqual(self.bring("/plan", "id,text\n123456789,Ahoy\n0bad,Fog")["texts"], 2)
        self.bring("", "123456789\nnobody")
        self.assertEqual([(r["stream_id"], r["name"]) for r in self.rows(named="yes")], [("31c3", "123456789")])

    def test_several_values_of_each(self):
        every = self.rows()

        def meant(test) -> set[int]:
            return {row["id"] for row in every if test(row)}

        def found(**asked) -> set[int]:
            return {row["id"] for row in self.rows(**asked)}

        facets = self.get(f"/games/{self.game}/facets")
        self.assertEqual({sum(v["streams"] for v in facets[name]) for name in facets}, {len(every)})
        for value in facets["codec"]:
            self.assertEqual(
                found(codec=value["value"]), meant(lambda row, v=value: row["codec"].startswith(v["label"])), value
            )
        two = [v["value"] for v in facets["codec"][:2]]
        self.assertEqual(found(codec=two), found(codec=two[0]) | found(codec=two[1]))
        self.assertEqual(found(rate=[24000, 48000]), meant(lambda row: row["rate"] in (24000, 48000)))
        self.assertEqual(
            found(channels=1, largest=40_000), meant(lambda row: row["channels"] == 1 and row["stored"] <= 40_000)
        )
        self.assertEqual(
            found(language=["French", "German"]), meant(lambda row: row["language"] in ("French", "German"))
        )
        self.assertEqual(found(kind=["music", "voice"]), meant(lambda row: row["kind"] != "effect"))
        self.assertEqual(found(within="data"), meant(lambda row: True))
        self.assertEqual(found(within="data/deck.zip"), meant(lambda row: row["archive"] == "data/deck.zip"))
        bank = "data/sea.crate › voice/crew_fr.bell"
        self.assertEqual(found(within=bank), meant(lambda row: row["entry"] == "voice/crew_fr.bell"))
        self.assertEqual(
            found(archive=["data/deck.zip", "data/patch_01.zip"]), meant(lambda row: "zip" in row["archive"])
        )
        self.assertEqual(found(within="data/gone.crate"), set())
        self.get(f"/games/{self.game}/streams?loop=perhaps", 422)
        self.upload(self.added, every[-1], wav_bytes(tone(0.2, 8000, 440), 8000))
        self.assertEqual(found(swapped="yes"), {every[-1]["id"]})
        self.assertEqual(found(swapped="no"), meant(lambda row: row["id"] != every[-1]["id"]))

    def places(self, within: str = "") -> list[dict]:
        """All below one."""
        rows = self.get(f"/games/{self.game}/places?{urlencode({'within': within, 'limit': 500})}")["rows"]
        return [*rows, *(deeper for row in rows if row["opens"] for deeper in self.places(row["path"]))]

    def test_places_hold_the_streams_to_which_they_lead(self):
        root = Path(self.added["folder"])
        sound = wav_bytes(tone(0.1, 8000, 440), 8000)
        inner = zip_bytes({"b/in.wav": sound, "out.wav": sound})
        (root / "more").mkdir()
        (root / "more" / "outer.zip").write_bytes(
            zip_bytes({"a/inner.zip": zip_bytes({"in.zip": inner}), "x.txt": b"x"})
        )
        self.send("post", f"/games/{self.game}/survey")
        places = {place["path"]: place for place in self.places()}
        for path, place in places.items():
            self.assertEqual(len(self.rows(within=path)), place["streams"], place)
        deep = "more/outer.zip › a/inner.zip › in.zip"
        self.assertEqual([p for p in places if p.startswith("more/")], [
            "more/outer.zip", "more/outer.zip › a/inner.zip", deep, f"{deep} › /", f"{deep} › b/"
        ])  # fmt: skip
        pages = [self.get(f"/games/{self.game}/places?within=data/sea.crate&limit=2&offset={n}") for n in (0, 2)]
        whole = self.get(f"/games/{self.game}/places?within=data/sea.crate")
        self.assertEqual(pages[0]["rows"] + pages[1]["rows"], whole["rows"][:4])

    def test_groups_have_the_sums_of_the_streams_to_which_they_lead(self):
        root = Path(self.added["folder"])
        for n, path in enumerate(("one.wav", "a/two.wav", "a/three.wav", "a/b/four.wav")):
            (root / path).parent.mkdir(exist_ok=True, parents=True)
            (root / path).write_bytes(wav_bytes(tone(0.1 * (n + 1), 8000, 440), 8000))
        (root / "a" / "alone.bell").write_bytes(small_bell())
        self.send("post", f"/games/{self.game}/survey")
        for asked in ({}, {"shortest": 0.15}, {"q": "a"}):
            groups = self.get(f"/games/{self.game}/groups?{urlencode({'limit': 500, **asked})}")
            self.assertEqual(groups["total"], len(groups["rows"]))
            for group in groups["rows"]:
                streams = self.rows(**asked, within=group["place"])
                sums = len(streams), sum(s["stored"] for s in streams), sum(s["loop"] is not None for s in streams)
                self.assertEqual((group["streams"], group["bytes"], group["looped"]), sums, group)
                self.assertAlmostEqual(group["seconds"], sum(s["seconds"] for s in streams), 6)
            self.assertEqual(sum(g["streams"] for g in groups["rows"]), len(self.rows(**asked)))
        path = f"/games/{self.game}/groups?sort="
        folders = {g["place"]: g["streams"] for g in self.get(path)["rows"] if g["what"] == "folder"}
        in_deck = {"data/deck.zip › ambience/": 3, "data/deck.zip › radio/": 2, "data/patch_01.zip › ambience/": 1}
        self.assertEqual(folders, {"/": 1, "a/": 2, "a/b/": 1, **in_deck})
        alone = next(g for g in self.get(path)["rows"] if g["place"] == "a/alone.bell")
        self.assertEqual((alone["what"], alone["within"]), ("bank", "a"))
        for sort in ("name", "within", "language", "streams", "length", "size", "looped"):
            there, back = (self.get(f"{path}{sign}{sort}")["rows"] for sign in ("", "-"))
            self.assertEqual({g["bank"] for g in there}, {g["bank"] for g in back})
            self.assertNotEqual(there, back)
        named = self.get(f"{path}name")["rows"]
        place = self.get(f"/games/{self.game}/group-beginning?sort=name&text=MUS")
        self.assertEqual(named[place]["name"], "music.bell")

    def test_searches_are_kept_under_a_name(self):
        path = f"/games/{self.game}/searches"
        kept = self.send("post", path, {"name": "long tunes", "search": "kind=music&shortest=40"})
        self.send("post", path, {"name": "long tunes", "search": "kind=music&shortest=60"})
        self.send("post", path, {"name": "  ", "search": ""}, 422)
        self.send("post", path, {"name": "x", "search": "q" * 5000}, 422)
        self.assertEqual([s["search"] for s in self.get(path)], ["kind=music&shortest=60"])
        self.send("delete", f"/searches/{kept['id']}", status=204)
        self.assertEqual(self.get(path), [])
