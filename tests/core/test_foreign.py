"""What somebody else's files change in a game: found from any folder on, down to the stream; what is as it was is nothing."""

import shutil
import subprocess
from pathlib import Path

from standin.chart import KEYS
from tests.core.test_ways import DECK, HOLD, RULES, SEA, OnTheFerry
from tests.support import bytes_of
from zubret_core.locate import LoadOrder, Spot
from zubret_core.locate.foreign import Brought, Foreign, Given
from zubret_core.rebuild import EntryFile, plan_rebuild, write_plan
from zubret_core.source import BytesSource, FileSource


class OtherPeoplesMods(OnTheFerry):
    def looked(self, files: dict[str, bytes], rules=RULES) -> Brought:
        order = LoadOrder(rules, self.game) if rules else None
        looks = Foreign(self.game, self.known, [HOLD, SEA, DECK, "data/patch_01.zip"], order)
        return looks.look([Given(path, lambda p=path, d=data: BytesSource(d, p)) for path, data in files.items()])

    def rebuilt(self, swaps, files=()) -> Path:
        """The game's own archives, as somebody else would give them changed."""
        plans = plan_rebuild(self.game, swaps, known=self.known, files=files)
        out = self.folder / "theirs"
        shutil.rmtree(out, ignore_errors=True)
        write_plan(plans, out)
        return out

    def entry(self, place: Path, *names: str) -> bytes:
        spot = Spot(place.name, FileSource(place), None, self.known)
        for name in names:
            spot = spot.entry(spot.archive.index_of(name))
        return bytes_of(spot.source)

    def test_a_changed_archive_is_told_down_to_the_stream(self):
        swap = self.swap(SEA, "music/music.bell", ordinal=1)
        index = Spot.file(self.game, SEA).archive.index_of("text/strings_en.txt")
        text = self.folder / "text.txt"
        text.write_bytes(b"LINE_000=Another ferry.\n")
        files = [EntryFile(SEA, "text/strings_en.txt", index, text), EntryFile(SEA, "text/more.txt", None, text)]
        crate = (self.rebuilt([swap], files) / SEA).read_bytes()
        found = self.looked(
            {"Louder v2/copy into the game/data/sea.crate": crate, "Louder v2/read me first.txt": b"Hello."}
        )
        self.assertEqual([one.where for one in found.streams], [swap.locator])
        self.assertEqual(bytes_of(found.streams[0].stream.payload), swap.payload.read_bytes())
        self.assertEqual(found.streams[0].stream.format, swap.format)
        self.assertEqual(
            [(e.path, e.index) for e in found.entries], [("text/strings_en.txt", index), ("text/more.txt", None)]
        )
        self.assertEqual([path for path, _ in found.unknown], ["Louder v2/read me first.txt"])
        same = self.looked({"data/sea.crate": (self.place / SEA).read_bytes()})
        self.assertEqual((same.streams, same.entries, same.same), ([], [], ["data/sea.crate"]))

    def test_a_bank_alone_an_archive_of_the_game_s_kind_and_a_companion(self):
        music = self.swap(SEA, "music/music.bell", ordinal=1)
        night = self.swap(HOLD, "ambience/night.bell", ordinal=0)
        cabin = self.swap(HOLD, "cabin/cabin.crate", "cabin.bell", ordinal=1)
        plans = plan_rebuild(self.game, [music], known=self.known, order=LoadOrder(RULES, self.game), way="tides")
        write_plan(plans, self.folder / "tide")
        tide = (self.folder / "tide/data/tide_01.crate").read_bytes()
        overlay = plan_rebuild(
            self.game, [night, cabin], known=self.known, order=LoadOrder(RULES, self.game), way="overlay"
        )
        write_plan(overlay, self.folder / "over")
        laid = self.folder / "over/over/mods"
        bell = self.entry(self.folder / "tide/data/tide_01.crate", "music/music.bell")
        for files, where in (
            ({"mods/data/tide_07.crate": tide}, [music]),
            ({"x/music/music.bell": bell}, [music]),
            ({"music.bell": bell}, [music]),
            ({"sea/music/music.bell": bell, "music.bell": bell}, [music]),
            (
                {p.relative_to(laid).as_posix(): p.read_bytes() for p in laid.rglob("*.*") if p.is_file()},
                [night, cabin],
            ),
        ):
            with self.subTest(list(files)):
                found = self.looked(files)
                self.assertEqual(found.unknown, [])
                self.assertEqual(found.entries, [])
                self.assertEqual([one.where for one in found.streams], [one.locator for one in where])
                wanted = [one.payload.read_bytes() for one in where]
                self.assertEqual([bytes_of(one.stream.payload) for one in found.streams], wanted)
        tow = (laid / "hold/ambience/night.tow").read_bytes()  # without its bank, which says where in it what is
        self.assertEqual([e.index for e in self.looked({"ambience/night.tow": tow}).entries], [1])
        shifted = (self.place / "data/hold.cargo00").read_bytes()
        self.assertIn("was not given", self.looked({"hold.cargo00": shifted + b"x"}).unknown[0][1])
        whole = self.rebuilt([night])
        found = self.looked({p.name: p.read_bytes() for p in (whole / "data").iterdir() if p.name.startswith("hold")})
        self.assertEqual([one.where for one in found.streams], [night.locator])
        self.assertNotEqual(KEYS["1.0"], KEYS["1.1"])  # it is read by the key of the game's own

    def test_what_debian_s_zip_makes_and_what_is_damaged_or_stands_nowhere(self):
        horn = self.swap(DECK, "ambience/horn.wav")
        folder = self.folder / "made"
        (folder / "ambience").mkdir(parents=True)
        shutil.copy(horn.payload, folder / "ambience/horn.wav")
        subprocess.run(["zip", "-qr", self.folder / "patch_09.zip", "."], cwd=folder, check=True)
        data = (self.folder / "patch_09.zip").read_bytes()
        found = self.looked({"patch_09.zip": data})
        # The strongest that holds it is meant: that is what the game plays.
        self.assertEqual([str(one.where) for one in found.streams], ["data/patch_01.zip › ambience/horn.wav"])
        broken = self.looked(
            {"data/sea.crate": (self.place / SEA).read_bytes()[:4000], "patch_09.zip": data[: len(data) // 2]}
        )
        self.assertEqual(len(broken.unknown), 2)
        self.assertTrue(all(why for _, why in broken.unknown))
        nowhere = self.looked({"bank.bell": b"BELL", "../../music.bell": b"x", "stream/9.wav": b"RIFF"}, rules=None)
        self.assertEqual((nowhere.streams, len(nowhere.unknown)), ([], 2), nowhere)
