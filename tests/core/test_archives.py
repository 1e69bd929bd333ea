"""General archives against the tools that made them; archives inside archives; keys; a locked game rebuilt and played."""

import io
import shutil
import subprocess
import tarfile
import tempfile
import zipfile
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase

from standin.chart import KEYS
from standin.player import Ferry, Refused
from tests.core.test_containers import OPEN_SOUNDS
from tests.examples import examples
from tests.support import WithFolder, bytes_of, demo_game, noise, problem_of, small_crate, source
from zubret_core.codec import CODECS
from zubret_core.container import GameFolder, IsoImage, NewEntry, TarArchive, ZipArchive
from zubret_core.extract import Item, extract, targets_for
from zubret_core.layout import layout_named, load_layout
from zubret_core.locate import (
    BankRecord,
    Known,
    Locator,
    Spot,
    key_bytes,
    kind_of,
    names_by_id,
    open_archive,
    try_keys,
)
from zubret_core.locate.survey import ArchiveRecord, contents
from zubret_core.rebuild import StreamSwap, plan_rebuild, prove_in_new_process, write_plan
from zubret_core.rebuild.expected import expectation
from zubret_core.rebuild.plan import EntryFile
from zubret_core.source import BytesSource, FileSource


class GeneralTools(WithFolder):
    """Archives made by Debian's zip, tar and genisoimage of real open sounds, listed and taken out as those tools do."""

    def setUp(self):
        super().setUp()
        self.tree = self.folder / "tree"
        shutil.copytree(OPEN_SOUNDS, self.tree / "sounds")
        (self.tree / "sounds" / "a longer name than eight.txt").write_text("notes")
        (self.tree / "empty.bin").write_bytes(b"")

    def run_tool(self, *args: str) -> None:
        subprocess.run([str(a) for a in args], cwd=self.tree, check=True, capture_output=True)

    def truth(self) -> dict[str, bytes]:
        return {p.relative_to(self.tree).as_posix(): p.read_bytes() for p in self.tree.rglob("*") if p.is_file()}

    def listed(self, place: Path) -> dict[str, bytes]:
        """Every entry, taken out into a folder by us."""
        game, out = GameFolder(self.folder), self.folder / "out"
        shutil.rmtree(out, ignore_errors=True)
        archive = open_archive(game.open(place.name))
        targets = targets_for(e.path.removeprefix("./") for e in archive.entries)
        items = [
            Item(place.name, (n,), e.size, t.path)
            for n, (e, t) in enumerate(zip(archive.entries, targets, strict=True))
        ]
        self.assertEqual(extract(game, items, out).failed, [])
        return {i.target: (out / i.target).read_bytes() for i in items}

    def test_each_kind_is_taken_out_as_its_own_tool_does(self):
        made = {
            "z.zip": ["zip", "-q", "-r", "../z.zip", "."],
            "b.zip": ["zip", "-q", "-r", "-Z", "bzip2", "../b.zip", "."],
            "t.tar": ["tar", "-cf", "../t.tar", "."],
            "g.tar.gz": ["tar", "-czf", "../g.tar.gz", "."],
            "x.tar.xz": ["tar", "-cJf", "../x.tar.xz", "."],
            "s.tar.zst": ["tar", "--zstd", "-cf", "../s.tar.zst", "."],
            "j.iso": ["genisoimage", "-quiet", "-J", "-o", "../j.iso", "."],
            "r.iso": ["genisoimage", "-quiet", "-R", "-o", "../r.iso", "."],
        }
        for name, command in made.items():
            with self.subTest(name):
                self.run_tool(*command)
                self.assertEqual(self.listed(self.folder / name), self.truth())

    def test_lzma_and_zip64_members_are_read_and_written(self):
        place = self.folder / "l.zip"
        with zipfile.ZipFile(place, "w", zipfile.ZIP_LZMA) as pack:
            for n in range(3):
                with pack.open(zipfile.ZipInfo(f"{n}.bin"), "w", force_zip64=True) as member:
                    member.write(noise(2000, seed=n).tobytes())
            pack.writestr("plain.txt", "text")
        archive = ZipArchive(source(place.read_bytes()))
        self.assertEqual(bytes_of(archive.rebuild({}).source), place.read_bytes())
        built = archive.rebuild(
            {1: source(b"changed" * 99), 3: source(b"shorter")}, added=[NewEntry("neu/ä.bin", source(b"x"))]
        )
        with zipfile.ZipFile(io.BytesIO(bytes_of(built.source))) as theirs:
            self.assertIsNone(theirs.testzip())
            self.assertEqual(theirs.namelist(), ["0.bin", "1.bin", "2.bin", "plain.txt", "neu/ä.bin"])
            self.assertEqual((theirs.read("1.bin"), theirs.read("plain.txt")), (b"changed" * 99, b"shorter"))
            self.assertEqual(theirs.getinfo("plain.txt").compress_type, zipfile.ZIP_LZMA)
        problem_of(self, archive.rebuild, {}, added=[NewEntry("plain.txt", source(b"again"))])

    def test_a_changed_tar_and_disc_are_read_by_others(self):
        self.run_tool("tar", "-czf", "../g.tar.gz", ".")
        with FileSource(self.folder / "g.tar.gz") as file:
            tar = TarArchive(file)
            index = next(n for n, e in enumerate(tar.entries) if e.path.endswith("Noise.wav"))
            built = bytes_of(
                tar.rebuild({index: source(b"short")}, added=[NewEntry("n" * 120, source(b"long name"))]).source
            )
        with tarfile.open(fileobj=io.BytesIO(built)) as theirs:
            self.assertEqual(theirs.extractfile("./sounds/Noise.wav").read(), b"short")
            self.assertEqual(theirs.extractfile("n" * 120).read(), b"long name")
        self.run_tool("genisoimage", "-quiet", "-J", "-R", "-o", "../d.iso", ".")
        with FileSource(self.folder / "d.iso") as file:
            image = IsoImage(file)
            index = next(n for n, e in enumerate(image.entries) if e.path.endswith("Noise.wav"))
            for size in (10, 500_000):
                built = image.rebuild({index: source(b"y" * size)}).source
                again = IsoImage(built)
                place = self.folder / "built.iso"
                place.write_bytes(bytes_of(built))
                for names, path in (("-J", "/sounds/Rear_Left.wav"), ("-R", "/sounds/Noise.wav"), ("-J", "/empty.bin")):
                    told = subprocess.run(["isoinfo", "-i", place, names, "-x", path], check=True, capture_output=True)
                    wanted = b"y" * size if "Noise" in path else self.truth()[path[1:]]
                    self.assertEqual(told.stdout, wanted)
                found = {e.path: bytes_of(again.open(n)) for n, e in enumerate(again.entries)}
                self.assertEqual(found.pop("sounds/Noise.wav"), b"y" * size)
                truth = self.truth()
                truth.pop("sounds/Noise.wav")
                self.assertEqual(found, truth)

    def test_a_forced_rebuild_of_each_kind_is_identical_and_there_and_back_too(self):
        """Nothing is copied but the stored bytes of entries: headers, sums and directories are written anew."""
        made = {
            "z.zip": ["zip", "-q", "-r", "../z.zip", "."],
            "0.zip": ["zip", "-q", "-0", "-r", "../0.zip", "."],
            "d.zip": ["zip", "-q", "-fd", "-r", "../d.zip", "."],
            "6.zip": ["zip", "-q", "-fz", "-r", "../6.zip", "."],
            "t.tar": ["tar", "-cf", "../t.tar", "."],
            "u.tar": ["tar", "--format=ustar", "-cf", "../u.tar", "."],
            "v.tar": ["tar", "--format=v7", "-cf", "../v.tar", "."],
            "p.tar": ["tar", "--format=posix", "--pax-option=globexthdr.name=g,comment=all", "-cf", "../p.tar", "."],
            "g.tar.gz": ["tar", "-czf", "../g.tar.gz", "."],
            "j.iso": ["genisoimage", "-quiet", "-J", "-o", "../j.iso", "."],
            "r.iso": ["genisoimage", "-quiet", "-R", "-J", "-o", "../r.iso", "."],
        }
        for name, command in made.items():
            with self.subTest(name), FileSource(self._made(name, command)) as file:
                archive, data = open_archive(file), bytes_of(file)
                self.assertEqual(bytes_of(archive.rebuild({}, anew=True).source), data)
                n = next(n for n, e in enumerate(archive.entries) if e.path.endswith("Noise.wav"))
                first = archive.open(n)
                for size in (9, 300_000):
                    there = open_archive(BytesSource(bytes_of(archive.rebuild({n: source(b"y" * size)}).source), name))
                    back = there.rebuild({n: first}, anew=True).source
                    again = open_archive(BytesSource(bytes_of(back), name))
                    self.assertEqual([e.path for e in again.entries], [e.path for e in archive.entries])
                    for m in range(len(archive.entries)):
                        self.assertEqual(bytes_of(again.open(m)), bytes_of(archive.open(m)))
                    if name not in ("z.zip", "d.zip", "6.zip", "g.tar.gz"):  # these are packed anew
                        self.assertEqual(bytes_of(back), data)

    def _made(self, name: str, command: list[str]) -> Path:
        self.run_tool(*command)
        return self.folder / name

    def test_links_in_a_tar_are_passed_over_and_reported(self):
        (self.tree / "out").symlink_to("/etc")
        (self.tree / "hard.bin").hardlink_to(self.tree / "sounds" / "Noise.wav")
        self.run_tool("tar", "-cf", "../l.tar", ".")
        with FileSource(self.folder / "l.tar") as file:
            tar = TarArchive(file)
            self.assertEqual(tar.skipped, [("./out", "it is a link")])
            paths = [e.path for e in tar.entries]
            one, two = paths.index("./hard.bin"), paths.index("./sounds/Noise.wav")
            self.assertEqual(bytes_of(tar.open(one)), bytes_of(tar.open(two)))
            self.assertEqual(tar.sharing(one), [two])


class Nested(SimpleTestCase):
    def test_an_archive_in_an_archive_in_an_archive_opens_in_place(self):
        inner = io.BytesIO()
        with tarfile.open(fileobj=inner, mode="w:gz") as tar:
            info = tarfile.TarInfo("deep/small.crate")
            info.size = len(small_crate())
            tar.addfile(info, io.BytesIO(small_crate()))
        outer = io.BytesIO()
        with zipfile.ZipFile(outer, "w", zipfile.ZIP_DEFLATED) as pack:
            pack.writestr("box.tar.gz", inner.getvalue())
        file = source(outer.getvalue(), "x.zip")
        records = list(contents(Spot.around(open_archive(file)), kind_of(file)))
        archives = [r.path for r in records if isinstance(r, ArchiveRecord)]
        innermost = "x.zip › box.tar.gz › deep/small.crate"
        self.assertEqual(archives, ["x.zip", "x.zip › box.tar.gz", innermost])
        banks = [(r.chain, r.name) for r in records if isinstance(r, BankRecord)]
        self.assertEqual(banks, [((("box.tar.gz", 0), ("deep/small.crate", 0)), "small.bell")] * 2)


class Keys(SimpleTestCase):
    def test_every_usual_spelling_gives_the_same_bytes(self):
        key = bytes(range(240, 256))
        for text in (
            "f0f1f2f3f4f5f6f7f8f9fafbfcfdfeff",
            "0xF0F1F2F3F4F5F6F7F8F9FAFBFCFDFEFF",
            "  F0 F1 F2 F3 F4 F5 F6 F7 F8 F9 FA FB FC FD FE FF ",
            "{ 0xf0, 0xf1, 0xf2, 0xf3, 0xf4, 0xf5, 0xf6, 0xf7, 0xf8, 0xf9, 0xfa, 0xfb, 0xfc, 0xfd, 0xfe, 0xff }",
            '"f0:f1:f2:f3:f4:f5:f6:f7:f8:f9:fa:fb:fc:fd:fe:ff"',
            r"\xf0\xf1\xf2\xf3\xf4\xf5\xf6\xf7\xf8\xf9\xfa\xfb\xfc\xfd\xfe\xff",
            "8PHy8/T19vf4+fr7/P3+/w==",
            "'8PHy8_T19vf4-fr7_P3-_w'",
        ):
            self.assertEqual(key_bytes(text), key, text)
        for bad in ("", "0x", "f0f", "what is this?", "zzzz!"):
            with self.assertRaises(Exception, msg=bad) as caught:
                key_bytes(bad)
            self.assertTrue(caught.exception.next)

    def test_a_key_counts_only_by_evidence(self):
        game = GameFolder(demo_game())
        chart, beside = game.open("data/hold.chart"), game.beside("data/hold.chart")
        layout = layout_named("saltglass-chart")
        wrong = [bytes(32), KEYS["1.1"], b"x" * 16]
        self.assertFalse(try_keys(layout, chart, beside, wrong).opens)
        self.assertIn("32 bytes", try_keys(layout, chart, beside, [b"x" * 16]).why)
        trial = try_keys(layout, chart, beside, [*wrong, KEYS["1.0"]])
        self.assertEqual((trial.opens, trial.chosen), (True, {"purser": 3}))

    def test_name_lists_in_their_usual_forms(self):
        layout = layout_named("saltglass-chart")
        path, id = "Log/First.txt", "67cb6ec6a1d4b1a4"
        by_path = names_by_id(layout, ["# a comment", "", path])
        (id,) = by_path
        for line in (f"{id}\t{path}", f"0x{id} = {path}", f"{id}; {path}", path.replace("/", "\\")):
            self.assertEqual(list(names_by_id(layout, [line])), [id], line)
        self.assertEqual(names_by_id(layout_named("saltglass-crate"), [path]), {})
        layouts = {e.title: load_layout(e.layout) for e in examples() if "digests" in e.title or "Sizes" in e.title}
        digests, numbers = layouts["Ids that are digests, or bytes"], layouts["Sizes that are not stored"]
        for line in ("ABC", "900150983cd2, abc"):  # MD5 of "abc" after RFC 1321, A.5
            self.assertEqual(list(names_by_id(digests, [line])), ["900150983cd2"])
        self.assertEqual(names_by_id(numbers, ["face the sea", "7 sea", "0x8 bell"]), {"007": "sea", "008": "bell"})


class Hold(WithFolder):
    """One replaced and one added entry in the locked hold; the game plays it, and refuses one wrong sum."""

    def test_the_game_plays_from_a_rebuilt_hold(self):
        game, path = GameFolder(demo_game()), "data/hold.chart"
        layout = layout_named("saltglass-chart")
        names = names_by_id(layout, (demo_game() / "data/hold names.txt").read_text().splitlines())
        known = Known(keys=lambda lo, p: {"purser": KEYS["1.0"]}, names=lambda lo, p: names if p == path else {})
        archive = Spot.file(game, path, known).opened
        self.assertEqual(sorted(names), sorted(e.path for e in archive.entries))
        tow = next(n for n, e in enumerate(archive.entries) if names[e.path] == "ambience/night.bell")
        locator = Locator(path, ((archive.entries[tow].path, tow),), "3001", 0)
        format = locator.stream(game, known).format.with_(frames=300_000, loop=None)
        pcm = noise(300_000, 2, seed=4)
        (self.folder / "p").write_bytes(CODECS[format.codec].encode(pcm, format))
        (self.folder / "new.txt").write_bytes(b"A new page of the log.\n" * 5000)
        swap = StreamSwap(locator, self.folder / "p", format, -99.0)
        plans = plan_rebuild(
            game, [swap], known=known, files=[EntryFile(path, "Log/Third.txt", None, self.folder / "new.txt")]
        )
        out = self.folder / "out"
        write_plan(plans, out)
        keys, named = {path: {"purser": KEYS["1.0"].hex()}}, {path: names}
        points = prove_in_new_process(expectation(game, out, plans, keys=keys, names=named))
        self.assertEqual([p for p in points if not p.ok], [])
        self.assertIn("added entries", [p.label for p in points])
        ferry = Ferry(game.folder, out)
        played, _, _ = ferry.play("hold/ambience/night.bell:3001", loops=1)
        heard = CODECS[format.codec].decode(source((self.folder / "p").read_bytes()), format, 0, 300_000)
        np.testing.assert_array_equal(played, heard)
        self.assertEqual(ferry._find("hold/log/third.txt")[0], b"A new page of the log.\n" * 5000)
        volume = out / "data/hold.cargo00"
        data = bytearray(volume.read_bytes())
        data[400_000] ^= 1
        volume.write_bytes(data)
        with self.assertRaises(Refused) as caught:
            Ferry(game.folder, out)
        self.assertIn("hold.cargo00: the sum is not the one", str(caught.exception))

    def test_a_forced_rebuild_of_the_hold_is_identical(self):
        game = GameFolder(demo_game())
        known = Known(keys=lambda lo, p: {"purser": KEYS["1.0"]})
        archive = Spot.file(game, "data/hold.chart", known).opened
        built = archive.rebuild({}, anew=True)
        self.assertEqual(bytes_of(built.source), (demo_game() / "data/hold.chart").read_bytes())
        for name, other in built.others.items():
            self.assertEqual(bytes_of(other.source), (demo_game() / "data" / name).read_bytes(), name)
        self.assertEqual(len(built.others), 2)
        # There and back through recompression: contents and every other byte as before.
        there = archive.rebuild({3: source(b"other text " * 200)})
        self.assertEqual(list(there.others), ["hold.cargo00"])
        temp = Path(tempfile.mkdtemp(dir=self.folder))
        shutil.copytree(demo_game() / "data", temp / "data")
        (temp / "data/hold.chart").write_bytes(bytes_of(there.source))
        for name, other in there.others.items():
            (temp / "data" / name).write_bytes(bytes_of(other.source))
        changed = Spot.file(GameFolder(temp), "data/hold.chart", known).opened
        back = changed.rebuild({3: archive.open(3)}, anew=True)
        self.assertEqual(bytes_of(back.source), (demo_game() / "data/hold.chart").read_bytes())
