"""A mod in a new build of its game: judged stream by stream, carried over, taken back, rebuilt there."""

import shutil

from django.core.files.uploadedfile import SimpleUploadedFile

from server.mods.models import Judged, Swap
from server.shelf.models import Archive, Entry
from tests.server.support import ServerTest, wav_bytes
from tests.support import copy_of_demo, tone


class Carry(ServerTest):
    """The demo's build 1.1 shows every verdict."""

    VERDICTS = {"0251": "same", "2210": "moved", "2211": "changed", "2215": "format", "2214": "gone"}

    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.mod = f"/mods/{self.game['mod_id']}"
        for q in self.VERDICTS:
            self.take(q)

    def take(self, q: str) -> None:
        stream = self.stream(self.game, q)
        data = wav_bytes(tone(stream["seconds"], stream["rate"], 440, stream["channels"]), stream["rate"])
        made = self.upload(self.game, stream, data, f"{q}.wav")
        self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"})
        self.assertEqual(self.get(f"/swaps/{made['id']}")["state"], "ready")

    def updated(self) -> None:
        folder = self.root / "library" / "game"
        shutil.rmtree(folder)
        copy_of_demo(folder, "1.1")
        self.send("post", f"/games/{self.game['id']}/survey")

    def carried(self, **what) -> dict:
        job = self.get(f"/jobs/{self.send('post', f'{self.mod}/carry', what)['id']}")
        self.assertEqual(job["state"], "done", job["error"])
        return job["result"]

    def judged(self, mod: str) -> dict[str, dict]:
        self.send("post", f"{mod}/judgement")
        return {row["source_name"][:4]: row for row in self.get(f"{mod}/judgement")["rows"]}

    def test_all_five_after_an_update_in_place(self):
        archive = Archive.objects.get(path="data/sea.crate")
        entry = Entry.objects.get(archive=archive, path="pictures/lamp.raw")
        mine = SimpleUploadedFile("text.raw", b"a darker lamp")
        self.client.post(f"/api{self.mod}/files", {"entry_id": entry.pk, "file": mine})
        self.assertEqual(
            (self.get(f"{self.mod}/judgement")["made"], self.get(f"{self.mod}/judgement")["lost"]), (None, 0)
        )
        self.assertIn("not been judged", self.send("post", f"{self.mod}/carry", {"safe": True}, 409)["what"])
        self.updated()
        mods = self.get(f"/games/{self.game['id']}/mods")
        self.assertEqual(mods[0]["lost"], 5)  # entries before them came: none stands where it stood
        self.assertEqual(self.get("/games")[0]["build"], "1.1")
        rows = self.judged(self.mod)
        self.assertEqual({q: rows[q]["verdict"] for q in self.VERDICTS}, self.VERDICTS)
        self.assertEqual((rows["text"]["verdict"], rows["text"]["swap"]), ("same", None))
        self.assertIn("scenes.bell", rows["2210"]["detail"])
        self.assertIn("rate 32\u202f000 Hz to 24\u202f000 Hz", rows["2215"]["detail"])
        told = self.get(f"{self.mod}/judgement")
        self.assertTrue(told["fresh"])
        self.assertEqual({v["verdict"]: v["open"] for v in told["verdicts"] if v["safe"]}, {"same": 2, "moved": 1})

        before = {s.source_name: (s.locator, s.prepared) for s in Swap.objects.all()}
        safe = self.carried(safe=True)
        self.assertEqual((len(safe["rows"]), safe["taken"]), (3, 0))
        kept = {s.source_name: s.prepared for s in Swap.objects.all()}
        self.assertEqual(kept, {name: prepared for name, (_, prepared) in before.items()})
        self.send("post", f"{self.mod}/carry/back", {"rows": safe["rows"]})
        self.assertEqual({s.source_name: (s.locator, s.prepared) for s in Swap.objects.all()}, before)
        self.send("post", f"{self.mod}/carry", {"rows": [r["id"] for r in rows.values()]})
        left = self.get(f"{self.mod}/judgement?left=true")["rows"]
        self.assertEqual([r["verdict"] for r in left], ["gone"])
        states = {
            s.source_name[:4]: (s.state, (s.prepared or {}).get("format", {}).get("rate")) for s in Swap.objects.all()
        }
        self.assertEqual(states["2215"], ("ready", 24_000))  # fitted anew
        self.assertEqual(states["2211"], ("ready", 32_000))  # and this one prepared anew
        self.send("delete", f"/swaps/{left[0]['swap']}", status=204)
        self.assertEqual(self.get(f"{self.mod}/judgement?left=true")["total"], 0)
        self.send("post", f"{self.mod}/rebuild", {})
        self.assertEqual(self.built(self.mod)[0]["state"], "proved")
        self.assertEqual(set(self.verdicts().values()), {"same"})

    def test_no_two_swaps_come_to_stand_in_one_place(self):
        self.updated()
        rows = self.judged(self.mod)
        mine, other = (Judged.objects.get(pk=rows[q]["id"]) for q in ("0251", "2210"))
        places = {q: Judged.objects.get(pk=rows[q]["id"]).was for q in self.VERDICTS}
        mine.now, other.now = (
            places["2210"],
            places["2214"],
        )  # each goes where the next one stands, which stays: it is gone
        Judged.objects.bulk_update([mine, other], ["now"])
        said = self.carried(safe=True)
        self.assertEqual((said["rows"], said["taken"]), ([], 2))
        Judged.objects.filter(pk=other.pk).update(now=places["0251"])  # the two change places
        self.assertEqual(len(self.carried(safe=True)["rows"]), 2)
        now = dict(Swap.objects.values_list("source_name", "locator"))
        self.assertEqual((now["0251.wav"], now["2210.wav"]), (places["2210"], places["0251"]))
        back = f"{self.mod}/carry/back"
        self.assertIn("Another swap stands", self.send("post", back, {"rows": [mine.pk]}, 409)["what"])
        self.send("post", back, {"rows": [mine.pk, other.pk]})
        self.assertEqual(
            dict(Swap.objects.values_list("source_name", "locator")), {f"{q}.wav": places[q] for q in places}
        )

    def verdicts(self) -> dict[str, str]:
        return {q: row["verdict"] for q, row in self.judged(self.mod).items()}
