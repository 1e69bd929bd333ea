"""Layouts through the API: trying, spans, aids, check, versions, sharing."""

import io
import zipfile

from server.layouts.models import LayoutVersion
from tests.browser.test_hold import LAYOUT, odd_archive
from tests.server.support import ServerTest
from tests.support import demo_game, problem_of, small_crate
from zubret_core.layout import load_layout


class Layouts(ServerTest):
    def setUp(self):
        super().setUp()
        folder = self.root / "library" / "game"
        folder.mkdir()
        (folder / "x.odd").write_bytes(odd_archive({"a.txt": b"one", "b.txt": b"three"}))
        (folder / "small.crate").write_bytes(small_crate())
        self.game = self.send("post", "/games", {"folder": str(folder)})
        self.bench = f"/games/{self.game['id']}/bench"

    def tried(self, text: str, path: str = "x.odd") -> dict:
        return self.send("post", f"{self.bench}/try", {"path": path, "text": text})

    def test_a_text_gives_its_fault_the_file_s_problem_or_what_it_finds(self):
        fault = self.tried(LAYOUT.replace("type: u16", "type: u17"))["fault"]
        self.assertEqual(fault["line"], 12)
        problem = self.tried(LAYOUT.replace("repeat: head.count", "repeat: head.count + 90"))["problem"]
        self.assertIn("promises 92 records", problem["what"])
        self.assertTrue(problem["where"].startswith("x.odd"))
        found = self.tried(LAYOUT)
        self.assertEqual((found["items"], found["explained"]), (2, 1.0))
        body = {"path": "x.odd", "text": LAYOUT, "at": 0, "length": 30}
        items = self.send("post", f"{self.bench}/items?offset=1", body)
        self.assertEqual((items["total"], [(i["id"], i["name"]) for i in items["rows"]]), (2, [(1, "b.txt")]))
        place = self.send("post", f"{self.bench}/items/beginning?begins=A&first=1", body)
        self.assertEqual(place, 0)
        spans = self.send("post", f"{self.bench}/spans", body)
        self.assertEqual([s["field"] for s in spans][:6], ["mark", "count", "body", "size", "place", "path"])
        for path in ("../secret", "/etc/passwd"):
            self.assertIn("leads out", self.get(f"{self.bench}/bytes?path={path}", 422)["what"])

    def test_bytes_and_aids(self):
        look = self.get(f"{self.bench}/look?path=small.crate&bins=10")
        self.assertEqual((look["size"], len(look["entropy"])), (len(small_crate()), 10))
        self.assertEqual(self.get(f"{self.bench}/bytes?path=small.crate&at=0&length=4").content, b"SFCR")
        self.assertEqual(self.get(f"{self.bench}/bytes?path=small.crate&at=999999999").content, b"")
        hits = self.get(f"{self.bench}/find?path=small.crate&value={len(small_crate()) // 2048}")["hits"]
        self.assertIn(20, [h["at"] for h in hits])
        self.assertTrue(self.get(f"{self.bench}/strings?path=small.crate&at=0"))
        self.get(f"{self.bench}/distance?path=small.crate&at=0")

    def test_check_on_one_file_and_on_all_that_it_recognises(self):
        job = self.send("post", f"{self.bench}/check", {"path": "x.odd", "text": LAYOUT})
        files = self.get(f"/jobs/{job['id']}")["result"]["files"]
        self.assertEqual([(f["path"], f["ok"]) for f in files], [("x.odd", True)])
        loose = LAYOUT.replace(", means: payload.at", "").replace(", base: head.body", ", base: 36")
        job = self.send("post", f"{self.bench}/check", {"path": "", "text": loose})
        self.assertEqual(len(self.get(f"/jobs/{job['id']}")["result"]["files"]), 1)
        job = self.send("post", f"{self.bench}/check", {"path": "small.crate", "text": LAYOUT})
        self.assertIn("mark", self.get(f"/jobs/{job['id']}")["result"]["files"][0]["problem"]["what"])

    def test_a_layout_whose_plug_in_is_gone_stops_no_other(self):
        text = LAYOUT.replace("id: odd", "id: torn").replace(
            "regions:", "methods: {plain: [{by: plug-in, name: torn}]}\nregions:"
        )
        self.assertIn("no installed plug-in", problem_of(self, load_layout, text).what.lower())
        row = self.send("post", "/layouts", {"text": LAYOUT.replace("id: odd", "id: torn")})
        saved = self.send("post", f"/layouts/{row['id']}/versions")
        LayoutVersion.objects.filter(pk=saved["versions"][0]["id"]).update(text=text)
        self.send("post", f"/games/{self.game['id']}/survey")
        rows = {r["path"]: r for r in self.get(f"/games/{self.game['id']}/files?limit=500")["rows"]}
        self.assertEqual(rows["small.crate"]["layout"], "saltglass-crate")
        line = next(line for line in self.get("/layouts") if line["id"] == row["id"])
        self.assertFalse(line["used"])
        self.assertIn('no installed plug-in brings the step "torn"', line["problem"].lower())
        self.assertEqual(self.get("/plug-ins"), [])

    def test_of_two_that_fit_one_is_chosen_for_a_file_a_folder_or_the_game(self):
        """Evidence decides, until somebody does: for the nearest place. What was read by another is read anew, and proved by it."""
        (self.root / "library/game/deck").mkdir()
        (self.root / "library/game/deck/y.odd").write_bytes(odd_archive({"c.txt": b"four"}))
        for slug in ("odd", "also"):
            row = self.send("post", "/layouts", {"text": LAYOUT.replace("id: odd", f"id: {slug}")})
            self.send("post", f"/layouts/{row['id']}/versions")
        address = f"/games/{self.game['id']}"

        def read() -> dict[str, str]:
            self.send("post", f"{address}/survey")
            rows = self.get(f"{address}/files?limit=500")["rows"]
            return {r["path"]: r["layout"] for r in rows if r["path"].endswith(".odd")}

        first = read()
        self.assertEqual(len(set(first.values())), 1)
        other = ({"odd", "also"} - set(first.values())).pop()
        usual = first["x.odd"]
        self.assertEqual(
            self.send("put", f"{address}/pins", {"path": "deck/", "slug": other}), [{"path": "deck/", "slug": other}]
        )
        self.assertEqual(read(), {"x.odd": usual, "deck/y.odd": other})
        self.send("put", f"{address}/pins", {"path": "", "slug": other})
        self.send("put", f"{address}/pins", {"path": "deck/y.odd", "slug": usual})
        self.assertEqual(read(), {"x.odd": other, "deck/y.odd": usual})
        self.assertIn("No layout", self.send("put", f"{address}/pins", {"path": "", "slug": "nothing"}, 404)["what"])
        for place in ("", "deck/", "deck/y.odd"):
            pins = self.send("put", f"{address}/pins", {"path": place})
        self.assertEqual((pins, read()), ([], first))

    def test_a_layout_is_written_with_another_one(self):
        """What it uses is what was saved last; when that changes, files are read anew."""
        text = "zubret: 1\nid: even\nuse: odd\nset: {most: 60}\n"
        base = LAYOUT.replace("id: odd", "id: odd\nparameters: {most: 9}").replace("names: [.odd]", "names: [.nothing]")
        self.assertIn('"odd"', self.tried(text)["fault"]["what"])
        row = self.send("post", "/layouts", {"text": base})
        self.send("post", f"/layouts/{row['id']}/versions")
        found = self.tried(text)
        self.assertEqual((found["items"], found["explained"]), (2, 1.0))
        own = self.send("post", "/layouts", {"text": text})
        self.send("post", f"/layouts/{own['id']}/versions")
        self.send("post", f"/games/{self.game['id']}/survey")
        rows = {r["path"]: r for r in self.get(f"/games/{self.game['id']}/files?limit=500")["rows"]}
        self.assertIn(rows["x.odd"]["layout"], ("odd", "even"))
        self.send("delete", f"/layouts/{row['id']}", status=204)
        line = next(line for line in self.get("/layouts") if line["id"] == own["id"])
        self.assertIn('"odd"', line["problem"])

    def test_drafts_versions_and_the_survey(self):
        row = self.send("post", "/layouts", {"text": LAYOUT.replace("type: u16", "type: u17")})
        self.send("post", f"/layouts/{row['id']}/versions", status=422)
        self.send("put", f"/layouts/{row['id']}", {"text": LAYOUT})
        saved = self.send("post", f"/layouts/{row['id']}/versions")
        self.assertEqual((saved["saved"], len(saved["versions"])), (True, 1))
        self.send("post", f"/games/{self.game['id']}/survey")
        rows = {r["path"]: r for r in self.get(f"/games/{self.game['id']}/files?limit=500")["rows"]}
        self.assertEqual((rows["x.odd"]["layout"], rows["x.odd"]["entries"]), ("odd", 2))
        self.send("put", f"/layouts/{row['id']}", {"text": LAYOUT + "# more\n"})
        second = self.send("post", f"/layouts/{row['id']}/versions")
        back = self.send("post", f"/versions/{second['versions'][-1]['id']}/back")
        self.assertEqual(back["text"], LAYOUT)
        file = self.get(f"/layouts/{row['id']}/file")
        self.assertEqual(file.content.decode(), LAYOUT)
        copy = self.send("post", "/layouts", {"text": file.content.decode()})
        self.assertIn("id: odd-2", copy["text"])
        shipped = self.get("/layouts/shipped/saltglass-crate")
        self.assertEqual(shipped["id"], 0)
        self.assertIn("id: saltglass-crate-2", self.send("post", "/layouts", {"text": shipped["text"]})["text"])
        self.send("put", f"/layouts/{copy['id']}", {"text": LAYOUT})
        self.assertIn("Another layout", self.send("post", f"/layouts/{copy['id']}/versions", status=409)["what"])
        self.send("delete", f"/layouts/{row['id']}", status=204)
        whole = self.get("/layouts")
        self.assertEqual(sum(lo["id"] == 0 for lo in whole), 8)
        self.assertEqual([lo for n in range(5) for lo in self.get(f"/layouts?offset={2 * n}&limit=2")], whole[:10])
        self.assertTrue(all("properties" in part for part in self.get("/layouts/schema")["anyOf"]))

    def test_a_sound_inside_an_archive_that_nothing_describes(self):
        """Heard and described where it stands, in a packed entry of a nested archive; then the next survey finds it."""
        folder, inner = self.root / "library" / "held", io.BytesIO()
        folder.mkdir()
        drift = (demo_game() / "data/drift.bin").read_bytes()
        with zipfile.ZipFile(inner, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("in/drift.bin", drift)
        with zipfile.ZipFile(folder / "out.zip", "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("deep.zip", inner.getvalue())
        game = self.send("post", "/games", {"folder": str(folder)})
        game, bench = game["id"], f"/games/{game['id']}/bench"
        place = "out.zip › deep.zip › in/drift.bin"
        self.assertEqual(self.get(f"/games/{game}/streams")["total"], 0)
        self.assertEqual(self.get(f"{bench}/bytes?path={place}&at=0&length=999").content, drift[:999])
        look = self.get(f"/games/{game}/unknown?path={place}")
        self.assertEqual((look["records"], look["rate"]), (3, 22050))
        part = {"start": look["spans"][0]["at"], "end": look["spans"][0]["at"] + look["spans"][0]["length"]}
        query = f"path={place}&start={part['start']}&end={part['end']}&rate=22050"
        best = self.get(f"/games/{game}/unknown/rank?{query}")["candidates"][0]
        self.assertEqual(best["verdict"], "convincing")
        turns = {turn["name"]: turn["values"] for turn in best["turns"]}
        self.assertEqual((turns["header"], turns["nibbles"]), (["wave", "dvi4", "none"], ["low", "high"]))
        for nibbles in turns["nibbles"]:  # what is turned can be heard
            turned = {**best, "parameters": {**best["parameters"], "nibbles": nibbles}}
            body = {"path": place, **part, "rate": 8000, "reading": turned}
            self.assertGreater(self.send("post", f"/games/{game}/unknown/hear", body)["frames"], 0)
        self.assertGreater(len(set(self.get(f"/audio/{best['audio']}/pcm?frames=4000").content)), 50)
        reading = {k: best[k] for k in ("codec", "channels", "block_size", "skip", "parameters")}
        body = {"path": place, **part, "rate": 22050, "reading": reading}
        layout = self.send("post", f"/games/{game}/unknown/draft", body)
        checked = self.send("post", f"{bench}/check", {"path": place, "text": layout["text"]})
        self.assertEqual(self.get(f"/jobs/{checked['id']}")["result"]["files"][0]["ok"], True)
        self.send("post", f"/layouts/{layout['id']}/versions")
        self.send("post", f"/games/{game}/survey")
        rows = self.get(f"/games/{game}/streams")["rows"]
        self.assertEqual([(r["stream_id"], r["archive"]) for r in rows], [(i, place[:18]) for i in ("71", "72", "73")])
        self.assertEqual(self.get(f"{bench}/look?path={place}")["layout"], "drift-bin")
        self.assertIn("no entry gone", self.get(f"{bench}/look?path=out.zip › gone", 422)["what"])
