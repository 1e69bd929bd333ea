"""Several mods of a game: merged inside one bank, in conflict over one stream, copied, arranged, taken away and back."""

from pathlib import Path

from django.core.files.uploadedfile import SimpleUploadedFile

from server.mods.models import Swap
from server.shelf.models import Entry
from tests.server.support import ServerTest, wav_bytes
from tests.support import bytes_of, tone
from zubret_core.container import GameFolder
from zubret_core.locate import Spot


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

    def test_whole_entries_and_streams_in_them_are_told_and_the_later_one_wins(self):
        bank = Entry.objects.get(path="music/music.bell")
        game = GameFolder(Path(self.game["folder"]))
        content = bytes_of(Spot.place(game, "data/sea.crate › music/music.bell").source)
        second = self.second()
        body = {"entry_id": bank.pk, "file": SimpleUploadedFile("theirs.bell", content)}
        self.assertEqual(self.client.post(f"/api/mods/{second}/files", body).status_code, 200)
        (overlap,) = self.get(f"{self.at}/conflicts")["entries"]
        self.assertEqual(overlap["place"], "data/sea.crate › music/music.bell")
        self.assertEqual([(w["streams"], w["wins"]) for w in overlap["wants"]], [(2, False), (0, True)])
        self.assertEqual(self.rebuilt(), {})  # the file is all that goes in
        self.send("put", f"{self.at}/mods", {"mods": [second, self.first]})
        (overlap,) = self.get(f"{self.at}/conflicts")["entries"]
        self.assertEqual([(w["streams"], w["wins"]) for w in overlap["wants"]], [(0, False), (2, True)])
        self.assertEqual(self.rebuilt(), {"0247": "300.wav", "0246": "400.wav"})

        # A mod may have a picture.
        for data, status in ((b"GIF89a", 422), (b"\x89PNG\r\n\x1a\n and more", 200), (b"RIFF0000WEBP and more", 200)):
            answer = self.client.post(f"/api/mods/{second}/picture", {"file": SimpleUploadedFile("p", data)})
            self.assertEqual(answer.status_code, status)
        shown = self.get(answer.json()["picture"].removeprefix("/api"))
        self.assertEqual((shown["content-type"], b"".join(shown.streaming_content)), ("image/webp", data))
        copy = self.send("post", f"{self.at}/mods", {"name": "Copy", "copy_of": second})
        self.assertEqual(b"".join(self.get(copy["picture"].removeprefix("/api")).streaming_content), data)
        self.send("delete", f"/mods/{second}/picture")
        self.get(f"/mods/{second}/picture", 404)

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
