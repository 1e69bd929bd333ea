"""Every way in which the stand-in game takes changes: planned, proved, installed, played by it, and taken back byte for byte."""

import shutil
import subprocess
import zipfile

import numpy as np

from standin.chart import KEYS
from standin.player import Ferry, Refused
from tests.core.test_install import tree
from tests.support import WithFolder, bytes_of, demo_game, noise, problem_of
from zubret_core.base import ZubretError
from zubret_core.codec import codec_of
from zubret_core.container import GameFolder
from zubret_core.install import Store, Wanted, install, restore
from zubret_core.layout import layout_named, load_rules, shipped_rules
from zubret_core.locate import Known, LoadOrder, Locator, Spot, names_by_id
from zubret_core.rebuild import EntryFile, StreamSwap, expectation, plan_rebuild, prove_in_new_process, write_plan
from zubret_core.source import BytesSource

SEA, DECK, HOLD = "data/sea.crate", "data/deck.zip", "data/hold.chart"
RULES = next(r for r in shipped_rules() if r.id == "saltglass-ferry")


class OnTheFerry(WithFolder):
    """A copy of the demo game that may be changed."""

    def setUp(self):
        super().setUp()
        self.place = self.folder / "game"
        shutil.copytree(demo_game(), self.place)
        self.before = tree(self.place)
        self.game, self.store = GameFolder(self.place), Store(self.folder / "store")
        lines = (self.place / "data/hold names.txt").read_text().splitlines()
        self.names = names_by_id(layout_named("saltglass-chart"), lines)
        self.known = Known(
            keys=lambda lo, p: {"purser": KEYS["1.0"]}, names=lambda lo, p: self.names if p == HOLD else {}
        )
        self.heard: dict[str, np.ndarray] = {}

    def swap(self, path: str, *way_in: str, ordinal: int = 0, cue: str = "") -> StreamSwap:
        """Noise for a stream; the cue that plays it is looked at when all is installed."""
        spot, steps = Spot.file(self.game, path, self.known), []
        for name in way_in:
            index = spot.archive.index_of(name)
            steps.append((spot.archive.entries[index].path, index))
            spot = spot.entry(index)
        stream = spot.bank.streams[ordinal]
        format = stream.format.with_(frames=stream.format.frames // 3, loop=None)
        payload = self.folder / f"{len(self.heard)}.payload"
        pcm = noise(format.frames, format.channels, seed=ordinal)
        codec = codec_of(format)
        payload.write_bytes(
            codec.encode(pcm, format) if format.codec != "audio-file" else bytes_of(codec.encoded(pcm, format))
        )
        self.heard[cue] = codec.decode(BytesSource(payload.read_bytes(), "x"), format, 0, format.frames)
        return StreamSwap(Locator(path, tuple(steps), stream.id, ordinal), payload, format, 60.0)


class Ways(OnTheFerry):
    def taken(self, way: str, swaps, files=(), rules=RULES):
        """Planned, written, proved and installed; what is planned, by path."""
        order = LoadOrder(rules, self.game)
        plans = plan_rebuild(self.game, swaps, known=self.known, files=files, order=order, way=way)
        out = self.folder / f"out {way}"
        write_plan(plans, out)
        keys = {p.path: {"purser": KEYS["1.0"].hex()} for p in plans} | {HOLD: {"purser": KEYS["1.0"].hex()}}
        points = prove_in_new_process(expectation(self.game, out, plans, keys=keys, names={HOLD: self.names}))
        self.assertEqual([p for p in points if not p.ok], [])
        self.assertTrue(all(any(point.file == p.path for point in points) for p in plans if not p.gone))
        install(self.game, self.store, {p.path: Wanted(None if p.gone else out / p.path) for p in plans})
        for cue, pcm in self.heard.items():
            played, _, _ = Ferry(self.place).play(cue, loops=1)
            np.testing.assert_array_equal(played, pcm, cue)
        return {p.path: p for p in plans}

    def back(self):
        restore(self.game, self.store)
        self.assertEqual(tree(self.place), self.before)
        done = subprocess.run(["diff", "-r", self.place, demo_game()], capture_output=True, text=True, check=False)
        self.assertEqual(done.stdout, "")

    def where(self, cue: str, path: str) -> str:
        """From where the game says that a file comes."""
        log = Ferry(self.place).play(cue, loops=1)[2]
        return next(line for line in log if line.startswith(f"{path} comes from")).partition("from ")[2]

    def test_a_new_archive_wins_by_its_number(self):
        swap = self.swap(SEA, "music/music.bell", ordinal=1, cue="open_water")
        for number in (3, 11):  # a tide that is there already: 11 is more than 3, but not in an order of texts
            shutil.copy(self.place / SEA, self.place / f"data/tide_{number}.crate")
            (self.place / f"data/tide_{number}.pass").write_text("FERRY\n")
        self.before = tree(self.place)
        plans = self.taken("tides", [swap])
        self.assertEqual(sorted(plans), ["data/tide_12.crate", "data/tide_12.pass"])
        self.assertEqual(self.where("open_water", "sea/music/music.bell"), "data/tide_12.crate")
        new = Spot.file(self.game, "data/tide_12.crate").archive
        self.assertEqual([e.path for e in new.entries], ["music/music.bell"])
        (self.place / "data/tide_12.pass").unlink()
        with self.assertRaisesRegex(Refused, "has no pass"):
            Ferry(self.place)
        (self.place / "data/tide_12.pass").write_text("FERRY\n")
        restore(self.game, self.store)
        self.assertEqual(tree(self.place), self.before)

    def test_a_patch_of_another_kind_is_read_by_general_tools(self):
        swap = self.swap(DECK, "ambience/water.wav", cue="deck/ambience/water.wav")
        plans = self.taken("patches", [swap])
        self.assertEqual(list(plans), ["data/patch_02.zip"])
        found = subprocess.run(
            ["unzip", "-l", self.place / "data/patch_02.zip"], capture_output=True, text=True, check=True
        )
        self.assertIn("ambience/water.wav", found.stdout)
        data = subprocess.run(["unzip", "-p", self.place / "data/patch_02.zip"], capture_output=True, check=True).stdout
        self.assertEqual(data, swap.payload.read_bytes())
        self.back()

    def test_a_patch_in_a_tar_is_read_by_debian_s_tar(self):
        text = "\n".join(
            ["zubret: 1", "id: x", "describes: game", "recognise: [{file: ferry.ini}]", "reads:",
             "  - {name: deck, archives: data/deck.zip}",
             "  - {name: tars, archives: 'data/*.tar', new: {file: 'data/patch_{number}.tar', like: tar}}"]
        )  # fmt: skip
        swap, out = self.swap(DECK, "ambience/water.wav"), self.folder / "out"
        order = LoadOrder(load_rules(text), self.game)
        plans = plan_rebuild(self.game, [swap], known=self.known, order=order, way="tars")
        write_plan(plans, out)
        points = prove_in_new_process(expectation(self.game, out, plans))
        self.assertEqual([p for p in points if not p.ok], [])
        tar = ["tar", "-xOf", out / "data/patch_1.tar", "ambience/water.wav"]
        self.assertEqual(subprocess.run(tar, capture_output=True, check=True).stdout, swap.payload.read_bytes())

    def test_loose_files_set_the_archive_aside_and_unpack_what_else_is_in_it(self):
        swaps = [
            self.swap(DECK, "ambience/water.wav", cue="deck/ambience/water.wav"),
            self.swap(HOLD, "ambience/night.bell", ordinal=0, cue="hold/ambience/night.bell:3001"),
        ]
        horn = Ferry(self.place).play("deck/ambience/horn.wav")[0]
        plans = self.taken("loose", swaps)
        volumes = {"data/hold.cargo00", "data/hold.cargo01"}
        self.assertEqual({p for p in plans if plans[p].gone}, {DECK, f"{DECK}.seal", HOLD, *volumes})
        self.assertEqual(self.where("deck/ambience/water.wav", "deck/ambience/water.wav"), "loose files")
        self.assertEqual(self.where("deck/ambience/horn.wav", "deck/ambience/horn.wav"), "data/patch_01.zip")
        np.testing.assert_array_equal(Ferry(self.place).play("deck/ambience/horn.wav")[0], horn)
        self.assertIn("deck/radio/call_01.ogg", {p.removeprefix("data/loose/") for p in plans})
        self.back()

    def test_an_overlay_is_named_in_the_text_file_and_takes_what_is_anywhere(self):
        swaps = [
            self.swap(SEA, "music/music.bell", ordinal=1, cue="open_water"),
            self.swap(HOLD, "ambience/night.bell", ordinal=0, cue="hold/ambience/night.bell:3001"),
            self.swap(HOLD, "cabin/cabin.crate", "cabin.bell", ordinal=1, cue="hold/cabin/cabin.crate/cabin.bell:4002"),
            self.swap(DECK, "ambience/horn.wav", cue="deck/ambience/horn.wav"),
        ]
        plans = self.taken("overlay", swaps)
        self.assertIn("over/mods/hold/ambience/night.tow", plans)
        self.assertEqual((self.place / "ferry.ini").read_text().splitlines()[:2], ["[ferry]", "overlay=over/mods"])
        self.assertEqual(self.where("open_water", "sea/music/music.bell"), "the overlay over/mods")
        self.back()
        # What the text file already names stays, and the new one wins over it.
        ini = (self.place / "ferry.ini").read_bytes().replace(b"[scenes]", b"overlay=over/mods\n[scenes]")
        (self.place / "ferry.ini").write_bytes(ini)
        (self.place / "over/mods").mkdir(parents=True)
        (self.place / "over/mods/theirs.txt").write_text("somebody else's")
        self.taken("overlay", swaps)
        self.assertIn("overlay=over/mods\noverlay=over/mods-2\n[scenes]", (self.place / "ferry.ini").read_text())

    def test_in_place_the_seal_goes(self):
        swap = self.swap(DECK, "ambience/water.wav", cue="deck/ambience/water.wav")
        plans = self.taken("", [swap])
        self.assertEqual({p: plans[p].gone for p in plans}, {DECK: False, f"{DECK}.seal": True, "data/sums.txt": False})
        self.back()
        with self.assertRaisesRegex(Refused, "is not the deck that was sealed"):
            Ferry(self.place, self.folder / "out ")

    def test_whole_files_go_every_way(self):
        text = self.folder / "new.txt"
        text.write_bytes(b"Sounds of another deck.\r\n")
        index = Spot.file(self.game, DECK).archive.index_of("readme.txt")
        for way, path in {
            "patches": "data/patch_02.zip",
            "loose": "data/loose/deck/readme.txt",
            "overlay": "over/mods/deck/readme.txt",
        }.items():
            with self.subTest(way):
                files = [EntryFile(DECK, "readme.txt", index, text)]
                if way != "patches":
                    files.append(EntryFile(DECK, "extra/one.txt", None, text))
                plans = self.taken(way, [], files)
                self.assertIn(path, plans)
                self.assertEqual(Ferry(self.place)._find("deck/readme.txt")[0], text.read_bytes())
                if way == "loose":  # the patch that has this file, too, would win
                    self.assertTrue(plans["data/patch_01.zip"].gone)
                self.back()

    def test_odd_names_and_texts(self):
        """A path that leads out, and text files that are no UTF-8, or begin with a mark."""
        text = self.folder / "new.txt"
        text.write_bytes(b"new")
        evil = self.folder / "evil.zip"
        with zipfile.ZipFile(evil, "w") as out:
            out.writestr("../../evil.txt", "old")
            out.writestr("fine.txt", "old")
        shutil.copy(evil, self.place / DECK)
        (self.place / f"{DECK}.seal").unlink()
        order = LoadOrder(RULES, self.game)
        for path, index in (("../../evil.txt", 0), ("fine.txt", 1)):
            e = problem_of(
                self, plan_rebuild, self.game, [], files=[EntryFile(DECK, path, index, text)], order=order, way="loose"
            )
            self.assertIn("can't lie in a folder", e.what)
        good = [EntryFile(DECK, "fine.txt", 1, text)]
        plain = (self.place / "ferry.ini").read_bytes()
        for data, place in (
            (b"\xef\xbb\xbf" + plain.replace(b"\n", b"\r\n"), b"\xef\xbb\xbf[ferry]\r\noverlay=over/mods\r\nbuild"),
            (plain.replace(b"[ferry]", b"; gr\xfc\xdfe\n[ferry]"), b"; gr\xfc\xdfe\n[ferry]\noverlay=over/mods\nbuild"),
        ):
            (self.place / "ferry.ini").write_bytes(data)
            plans = plan_rebuild(self.game, [], files=good, order=LoadOrder(RULES, self.game), way="overlay")
            edited = next(bytes_of(p.built.source) for p in plans if p.path == "ferry.ini")
            self.assertTrue(edited.startswith(place), edited[:80])
            newline = b"\r\n" if b"\r\n" in data else b"\n"
            self.assertEqual(edited.replace(b"overlay=over/mods" + newline, b""), data)
        (self.place / "ferry.ini").write_bytes(plain.decode().encode("utf-16"))
        e = problem_of(self, plan_rebuild, self.game, [], files=good, order=order, way="overlay")
        self.assertIn("text file in UTF-8", e.what)

    def test_what_a_way_can_t_take_goes_into_its_own_place_or_is_refused(self):
        swaps = [self.swap(SEA, "music/music.bell", ordinal=1, cue="open_water"),
                 self.swap(DECK, "ambience/water.wav", cue="deck/ambience/water.wav")]  # fmt: skip
        plans = self.taken("tides", swaps)
        self.assertIn("tides can't take it", plans[DECK].note)
        self.back()
        text = "\n".join(
            ["zubret: 1", "id: x", "describes: game", "recognise: [{file: ferry.ini}]", "reads:",
             "  - {name: sea, archives: data/sea.crate}",
             "  - {name: tides, archives: 'data/tide_*.crate', order: number, new: {file: 'data/tide_{number}.crate', %s}}"]
        )  # fmt: skip
        for more, what in {
            "largest: 4096": "but the game takes 4,096 at most",
            "first: 3, last: 3": "No number up to 3 is left",
            "like: data/none.crate": "",
        }.items():
            shutil.copy(self.place / SEA, self.place / "data/tide_3.crate")
            order = LoadOrder(load_rules(text % more), self.game)
            e = problem_of(self, plan_rebuild, self.game, swaps[:1], known=self.known, order=order, way="tides")
            self.assertIn(what, e.what)
            (self.place / "data/tide_3.crate").unlink()
        order = LoadOrder(load_rules(text % "largest: 9999999" + "\nin_place: false"), self.game)
        e = problem_of(self, plan_rebuild, self.game, swaps, known=self.known, order=order, way="tides")
        self.assertIn("allow no changed archive", e.what)
        order = LoadOrder(RULES, self.game)
        with self.assertRaisesRegex(ZubretError, "no way"):
            plan_rebuild(self.game, swaps, known=self.known, order=order, way="deck")
