"""Several mods of a game: merged inside one bank, in conflict over one stream, copied, arranged, taken away and back."""

from server.mods.models import Swap
from tests.server.support import ServerTest, wav_bytes
from tests.support import tone


class Together(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.at = f"/games/{self.game['id']}"
        self.first = self.game["mod_id"]
        self.take("0247", 300)
        self.take("0246", 400)

    def take(self, q: str, hz: int) -> dict:
        """A stream of the mod that is worked on becomes a tone."""
        stream = self.stream(self.game, q)
        made = self.upload(self.game, stream, wav_bytes(tone(3, stream["rate"], hz, 2), stream["rate"]), f"{hz}.wav")
        self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"})
        return self.get(f"/swaps/{made['id']}")

    def second(self) -> int:
        made = self.send("post", f"{self.at}/mods", {"name": "Second"})
        self.game = next(g for g in self.get("/games") if g["id"] == self.game["id"])
        self.assertEqual((self.game["mod_id"], made["current"], made["swaps"]), (made["id"], True, 0))
        return made["id"]

    def rebuilt(self) -> dict[str, str]:
        """All that are on, rebuilt as one and proved: which swap each stream has."""
        mod = f"/mods/{self.game['mod_id']}"
        self.send("post", f"{mod}/rebuild", {"together": True})
        build = self.get(f"{mod}/build?together=true")
        self.assertEqual((build["state"], build["fresh"]), ("proved", True))
        rows = self.get(f"/builds/{build['id']}/results")["rows"]
        for row in rows:  # what is read back from the rebuilt archive is what the swap had prepared
            new = self.get(f"/swaps/{row['swap_id']}")["new"]["audio"]
            heard = [self.get(f"/audio/{a}/pcm?start=3000&frames=3000").content for a in (row["audio"], new)]
            self.assertEqual(*heard)
        return {r["title"][-4:]: Swap.objects.get(pk=r["swap_id"]).source_name for r in rows}

    def test_two_mods_are_merged_in_one_bank_and_a_conflict_is_turned_round(self):
        second = self.second()
        self.take("0251", 500)
        self.take("0246", 600)
        merged = {"0247": "300.wav", "0251": "500.wav", "0246": "600.wav"}
        self.assertEqual(self.rebuilt(), merged)
        self.assertEqual({self.stream(self.game, q)["bank"] for q in merged}, {"music.bell"})
        (conflict,) = self.get(f"{self.at}/conflicts")["rows"]
        self.assertEqual((conflict["winner"], conflict["turned"]), (second, False))
        self.assertEqual([w["source_name"] for w in conflict["wants"]], ["400.wav", "600.wav"])

        self.send("put", f"{self.at}/conflicts", {"locator": conflict["locator"], "mod": self.first})
        self.assertFalse(self.get(f"/mods/{second}/build?together=true")["fresh"])
        self.assertEqual(self.rebuilt(), {**merged, "0246": "400.wav"})
        self.send("put", f"{self.at}/conflicts", {"locator": conflict["locator"], "mod": None})
        self.send("put", f"{self.at}/mods", {"mods": [second, self.first]})  # the order decides again, and is another
        self.assertEqual(self.rebuilt(), {**merged, "0246": "400.wav"})
        self.send("patch", f"/mods/{self.first}", {"used": False})
        self.assertEqual(self.get(f"{self.at}/conflicts")["total"], 0)
        self.assertEqual(self.rebuilt(), {"0251": "500.wav", "0246": "600.wav"})
        self.send("patch", f"/mods/{second}", {"used": False})
        self.assertIn("No mod is on", self.send("post", f"/mods/{second}/rebuild", {"together": True}, 409)["what"])
        alone = self.send("post", f"/mods/{self.first}/rebuild", {})
        self.assertEqual(self.get(f"/jobs/{alone['id']}")["state"], "done")

    def test_a_copy_goes_on_by_itself_and_a_mod_goes_and_comes_back(self):
        said = {"name": "Night", "version": "1.2", "author": "A. Ferryman", "licence": "CC0", "note": "music only"}
        self.send("patch", f"/mods/{self.first}", said)
        copy = self.send("post", f"{self.at}/mods", {"name": "Night, copy", "copy_of": self.first})
        self.assertEqual((copy["swaps"], copy["ready"], copy["author"]), (2, 2, "A. Ferryman"))
        before = {s["place"]: s["new"]["audio"].split(".")[1] for s in self.get(f"/mods/{self.first}/swaps")}
        twins = self.get(f"/mods/{copy['id']}/swaps")
        self.assertEqual({s["place"]: s["new"]["audio"].split(".")[1] for s in twins}, before)
        self.send("patch", f"/swaps/{twins[0]['id']}", {"gain_db": -6})
        after = {s["place"]: s["new"]["audio"].split(".")[1] for s in self.get(f"/mods/{self.first}/swaps")}
        self.assertEqual(after, before)

        self.send("delete", f"/mods/{copy['id']}", status=204)
        self.assertEqual([m["id"] for m in self.get(f"{self.at}/mods")], [self.first])
        self.assertEqual(self.get("/games")[0]["mod_id"], self.first)
        self.assertIn("only mod", self.send("delete", f"/mods/{self.first}", status=409)["what"])
        back = self.send("post", f"/mods/{copy['id']}/bring-back")
        self.assertEqual((back["swaps"], back["current"]), (2, False))
        for wrong in ({"name": "  "}, {"name": ""}, {"version": "x" * 41}):
            self.send("patch", f"/mods/{copy['id']}", wrong, 422)
        self.send("put", f"{self.at}/mods", {"mods": [self.first]}, 409)
        self.send("post", f"{self.at}/mods", {"name": "x", "copy_of": 999}, 404)
