"""Layouts through the API: trying, spans, aids, check, versions, sharing."""

from tests.browser.test_hold import LAYOUT, odd_archive
from tests.server.support import ServerTest
from tests.support import small_crate


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
        self.assertEqual([s["name"] for s in found["sample"]], ["a.txt", "b.txt"])
        body = {"path": "x.odd", "text": LAYOUT, "at": 0, "length": 30}
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

    def test_drafts_versions_and_the_survey(self):
        row = self.send("post", "/layouts", {"text": LAYOUT.replace("type: u16", "type: u17")})
        self.send("post", f"/layouts/{row['id']}/versions", status=422)
        self.send("put", f"/layouts/{row['id']}", {"text": LAYOUT})
        saved = self.send("post", f"/layouts/{row['id']}/versions")
        self.assertEqual((saved["saved"], len(saved["versions"])), (True, 1))
        self.send("post", f"/games/{self.game['id']}/survey")
        rows = {r["path"]: r for r in self.get(f"/games/{self.game['id']}/survey")["rows"]}
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
        self.assertEqual(sum(lo["id"] == 0 for lo in self.get("/layouts")), 5)
        self.assertIn("properties", self.get("/layouts/schema"))
