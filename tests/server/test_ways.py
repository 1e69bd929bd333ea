"""Load rules on the server: the ways of a game, who wins, and what changes when somebody writes others."""

from pathlib import Path

from standin.player import Ferry
from tests.server.support import ServerTest, wav_bytes
from tests.server.test_install import tree
from tests.support import tone

OTHER = """
zubret: 1
id: my-ferry
describes: game
recognise: [{file: ferry.ini, line: "[ferry]"}]
in_place: false
paths: {case: any}
reads:
  - {name: patches, archives: "data/patch_*.zip", root: DECK, new: {file: "data/patch_{number}.zip"}}
  - {name: deck, archives: data/deck.zip, root: deck}
"""


class Ways(ServerTest):
    def setUp(self):
        super().setUp()
        self.game = self.add_game()
        self.at = f"/games/{self.game['id']}"

    def beaten(self, which: str = "yes") -> list[str]:
        return [s["place"] for s in self.get(f"{self.at}/streams?beaten={which}")["rows"]]

    def test_the_order_rules_by_hand_agree_with_the_game(self):
        """A table of files, each held by several places; what the load rules say wins, the stand-in reads."""
        place = Path(self.game["folder"])
        deck, sea = (place / "data/patch_01.zip").read_bytes(), (place / "data/sea.crate").read_bytes()
        for name in ("patch_02.zip", "patch_10.zip", "patch_9.zip"):
            (place / "data" / name).write_bytes(deck)
        for number in (2, 10, 9):
            (place / f"data/tide_{number}.crate").write_bytes(sea)
            (place / f"data/tide_{number}.pass").write_text("FERRY\n")
        (place / "data/order.txt").write_bytes((place / "data/order.txt").read_bytes())
        for path in ("deck/ambience/horn.wav", "sea/cues.txt", "deck/loose only.txt", "sea/radio/radio.bell"):
            (place / "data/loose" / path).parent.mkdir(parents=True, exist_ok=True)
            (place / "data/loose" / path).write_bytes(b"loose")
        table = {
            # game's path: the places that hold it, the strongest first
            "deck/ambience/horn.wav": [
                "patch_9.zip",
                "patch_10.zip",
                "patch_02.zip",
                "patch_01.zip",
                "deck.zip",
                "loose",
            ],
            "sea/cues.txt": ["tide_10.crate", "tide_9.crate", "tide_2.crate", "sea.crate", "loose"],
            "deck/ambience/water.wav": ["deck.zip"],
            "deck/loose only.txt": ["loose"],
            "deck/readme.txt": ["patch_9.zip", "patch_10.zip", "patch_02.zip", "patch_01.zip", "deck.zip"],
            "data/drift.bin": [""],
        }
        ini = (place / "ferry.ini").read_text()
        for overlays in ((), ("over/a",), ("over/b", "over/a")):
            lines = "".join(f"overlay={name}\n" for name in overlays)
            (place / "ferry.ini").write_text(ini.replace("[ferry]\n", f"[ferry]\n{lines}"))
            for name in ("over/a", "over/b"):
                for path in ("sea/cues.txt", "data/drift.bin"):
                    (place / name / path).parent.mkdir(parents=True, exist_ok=True)
                    source = place / ("data/drift.bin" if path.endswith("bin") else "data/loose/sea/cues.txt")
                    (place / name / path).write_bytes(source.read_bytes() if path.endswith("bin") else self.cues(place))
            self.send("post", f"{self.at}/survey")
            ferry = Ferry(place)
            for path, places in table.items():
                with self.subTest(path, overlays=overlays):
                    laid = list(reversed(overlays)) if path in ("sea/cues.txt", "data/drift.bin") else []
                    told = self.get(f"{self.at}/who-wins?path={path}")["rows"]
                    found = [row["place"].removeprefix("data/") for row in told]
                    self.assertEqual(found, [*laid, *places])
                    self.assertEqual([bool(row["why"]) for row in told], [False] + [True] * (len(told) - 1))
                    by = ferry._find(path)[1].removeprefix("data/").removeprefix("the overlay ")
                    said = {"loose files": "loose", "the game's own folder": ""}.get(by, by)
                    self.assertEqual(said, found[0])

    def cues(self, place: Path) -> bytes:
        return Ferry(place)._crate("data/sea.crate")["cues.txt"]

    def test_what_loses_is_told_and_follows_the_rules(self):
        self.assertEqual(self.beaten(), ["data/deck.zip › ambience/horn.wav"])
        self.assertEqual(len(self.beaten("no")) + 1, self.get(f"{self.at}/streams")["total"])
        horn = self.get(f"{self.at}/streams?beaten=yes")["rows"][0]
        told = self.get(f"/streams/{horn['id']}/who-wins")
        self.assertEqual((told["own"], [r["place"] for r in told["rows"]]), (1, ["data/patch_01.zip", "data/deck.zip"]))
        other = self.get(f"/streams/{told['rows'][0]['stream']}")
        self.assertEqual(other["archive"], "data/patch_01.zip")
        self.assertEqual(self.get(f"/streams/{other['id']}/who-wins")["own"], 0)
        self.assertEqual(self.get(f"/streams/{self.stream(self.game, '5001')['id']}/who-wins")["own"], 0)
        # Rules of the user's come before those that ship; here the deck wins, and capitals make no difference.
        made = self.send("post", "/layouts", {"text": OTHER})
        self.send("post", f"/layouts/{made['id']}/versions")
        self.assertEqual(self.beaten(), ["data/patch_01.zip › ambience/horn.wav"])
        ways = self.get(f"{self.at}/ways")
        self.assertEqual((ways["rules"], [w["kind"] for w in ways["ways"]]), ("my-ferry", ["new archive"]))
        self.send("delete", f"/layouts/{made['id']}", status=204)
        self.assertEqual(self.beaten(), ["data/deck.zip › ambience/horn.wav"])

    def test_a_way_is_part_of_what_a_rebuild_is_made_of(self):
        one, place = self.stream(self.game, "0247"), Path(self.game["folder"])
        made = self.upload(self.game, one, wav_bytes(tone(6, 48_000, 441, 2), 48_000))
        self.send("post", f"/swaps/{made['id']}/fit", {"point": "all"})
        mod, before = f"/mods/{self.game['mod_id']}", tree(place)
        self.send("put", f"{self.at}/way", {"way": "tides"})
        self.send("put", f"{self.at}/way", {"way": "deck"}, 404)
        planned = self.planned(mod)
        self.assertEqual(
            [(p["path"], p["way"]) for p in planned], [("data/tide_01.crate", "tides"), ("data/tide_01.pass", "tides")]
        )
        self.send("post", f"{mod}/rebuild", {})
        build, files, _ = self.built(mod)
        self.assertEqual((build["state"], build["fresh"]), ("proved", True))
        heard = self.get(f"/swaps/{made['id']}")["new"]["audio"]
        result = self.get(f"/builds/{build['id']}/results")["rows"][0]["audio"]
        pcm = [self.get(f"/audio/{audio}/pcm?start=0&frames=50000").content for audio in (heard, result)]
        self.assertEqual(pcm[0], pcm[1])
        self.send("put", f"{self.at}/way", {"way": "overlay"})
        self.assertFalse(self.get(f"{mod}/build")["fresh"])
        self.send("post", f"/builds/{build['id']}/install", status=409)
        self.send(
            "put",
            f"{self.at}/by-hand",
            {"text": "In the ferry's own settings, let it look for new tides.", "done": True},
        )
        self.send("put", f"{self.at}/way", {"way": "tides"})
        self.assertTrue(self.get(f"{mod}/build")["fresh"])
        self.assertTrue(
            next(w for w in self.get(f"{self.at}/ways")["ways"] if w["name"] == "tides")["by_hand"][0]["done"]
        )
        self.send("post", f"/builds/{build['id']}/install")
        self.assertEqual(tree(place).keys() - before.keys(), {f["path"] for f in files})
        # The original is what Zubret goes on reading: what is installed makes no tide that wins.
        self.send("post", f"{self.at}/survey")
        self.assertEqual(self.planned(mod)[0]["path"], "data/tide_01.crate")
        self.send("post", f"{self.at}/restore")
        self.assertEqual(tree(place), before)
