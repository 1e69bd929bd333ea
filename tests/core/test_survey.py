"""The walk of a survey: many small banks read together are what each is by itself, and nothing bad ends it."""

import os
import random
import re
import shutil
import tempfile
import zipfile
from pathlib import Path

from django.test import SimpleTestCase

from standin.formats import PCM, Sound, bell, crate
from tests.support import bytes_of, demo_game, edited, noise, resummed_bell, small_bell, source
from zubret_core.bank import many
from zubret_core.container import GameFile, GameFolder
from zubret_core.layout import load_layout
from zubret_core.locate import BankRecord, Known, Spot, kind_of, open_archive
from zubret_core.locate.survey import ArchiveRecord, ShutRecord, contents, digests, look_at, opened
from zubret_core.source import same_bytes


def facts(record) -> tuple:
    """All that a survey keeps of a bank."""
    streams = [
        (s.ordinal, s.id, s.name, s.format, s.at, s.stored, s.language, s.shares, s.keeps) for s in record.streams
    ]
    return (
        record.entry,
        record.path,
        record.layout_id,
        record.language,
        streams,
        record.error and record.error.as_dict(),
    )


class Together(SimpleTestCase):
    def banks(self) -> bytes:
        """Small banks of every kind, and damaged ones between them."""
        rng, files = random.Random(5), []
        for n in range(240):
            sounds = [Sound(n * 10 + k, noise(rng.randrange(20, 400), rng.randrange(1, 3), seed=k), 24000, codec=PCM)
                      for k in range(rng.randrange(1, 5))]  # fmt: skip
            if rng.random() < 0.3:
                sounds.append(Sound(n * 10 + 9, sounds[0].pcm, 24000, codec=PCM, same_as=sounds[0].id))
            data = bell(f"b{n}", sounds, rng.choice(("", "French", "German")))
            if n % 7 == 3:
                at = rng.randrange(4, 48 + 32)
                data = edited(data, at, "<B", data[at] ^ (1 << rng.randrange(8)))
                data = (
                    resummed_bell(data)
                    if n % 2 and data[32:36] == data[32:36] and data[33:36] == b"\0\0\0" and data[32] < 6
                    else data
                )
            files.append((f"b/{n:03}.bell", data, False))
        files.append(
            ("b/long.bell", bell("long", [Sound(k, noise(20, seed=k), 24000, codec=PCM) for k in range(40)]), False)
        )
        files.append(("b/empty.bin", b"nothing at all", False))
        return crate("many", files)

    def test_what_is_read_together_is_what_each_is_by_itself(self):
        file = source(self.banks(), "many.crate")
        archive = open_archive(file)
        together = [facts(r) for r in contents(Spot.around(archive), kind_of(file)) if isinstance(r, BankRecord)]
        kept, many.MOST = many.survey_many, many.MOST
        from zubret_core.locate import survey

        survey.survey_many = lambda layout, heads, sizes, opens: [None] * len(heads)
        try:
            alone = [facts(r) for r in contents(Spot.around(archive), kind_of(file)) if isinstance(r, BankRecord)]
        finally:
            survey.survey_many = kept
        self.assertEqual(len(together), 241)
        for one, other in zip(together, alone, strict=True):
            self.assertEqual(one, other)
        self.assertGreater(sum(f[5] is not None for f in alone), 8)
        self.assertGreater(sum(any(s[7] for s in f[4]) for f in alone), 20)
        first = next(r for r in contents(Spot.around(archive), kind_of(file)) if isinstance(r, BankRecord))
        self.assertTrue(same_bytes(first.streams[0].payload, Spot.around(archive).entry(0).bank.streams[0].payload))


BELL = (Path(__file__).parents[2] / "zubret_core/layout/shipped/saltglass-bell.yaml").read_text("utf-8")


class Robust(SimpleTestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)

    def records(self, known: Known) -> list:
        folder, out = GameFolder(self.folder), []
        for file in folder.files():
            with look_at(folder, file, known) as seen:
                out.append(seen)
                if seen.spot is not None:
                    found = opened(seen.spot, seen.kind)
                    out += [found] if isinstance(found, ShutRecord) else list(contents(seen.spot, seen.kind))
        return out

    def test_one_bad_file_bank_or_layout_is_a_record_and_ends_nothing(self):
        """A layout that breaks in ways that nobody foresaw is stood in for by one whose reader raises."""
        layout = load_layout(BELL)
        (self.folder / "a.bell").write_bytes(small_bell())
        (self.folder / "b.crate").write_bytes(
            crate("x", [("one.bell", small_bell(), False), ("two.txt", b"t" * 20, False)])
        )
        (self.folder / "c.zip").write_bytes(b"PK\x05\x06" + bytes(18))
        (self.folder / "d.bell").write_bytes(small_bell()[:100])
        known = Known()
        broken = next(lo for lo in known.layouts if lo.id == layout.id)
        broken.memory.pop("records", None)
        broken.memory["records"] = object()  # a shape that no reader can use
        try:
            records = self.records(known)
        finally:
            broken.memory.pop("records")
        banks = [r for r in records if isinstance(r, BankRecord)]
        self.assertEqual(len(banks), 3)
        self.assertIn("Zubret made a mistake here (AttributeError", banks[0].error.what)
        self.assertEqual([r.what for r in records if hasattr(r, "evidence")], ["archive"] * 4)
        again = self.records(Known())
        self.assertEqual([r.error is None for r in again if isinstance(r, BankRecord)], [True, True, False])
        self.assertEqual(len([r for r in again if isinstance(r, ArchiveRecord)]), 4)

    def test_a_sound_that_a_layout_may_claim_is_left_to_it(self):
        def leaves(marks: str) -> bool:
            return Known([load_layout(re.sub(r"recognise: .*", f"recognise: {marks}", BELL))]).leaves_wav

        for marks, left in (
            ('[{at: 0, bytes: "52 49 46 46"}]', False),
            ('[{at: 0, bytes: "52 49 46 58"}]', True),
            ('[{at: 4, bytes: "01 02 03 04 57 41"}]', False),
            ('[{at: 4, bytes: "01 02 03 04 58"}]', True),
            ('[{at: 40, bytes: "01"}, {at: 14, bytes: "21"}]', True),
            ('[{at: -4, bytes: "4f 57 4e 21"}]', False),
        ):
            self.assertIs(leaves(marks), left, marks)

    def test_what_is_odd_is_told_with_its_reason_and_ends_nothing(self):
        """As another user than root, whom no right is kept from."""
        for name in ("a", "shut", "shut/inside", "z"):
            (self.folder / name).mkdir()
        zipfile.ZipFile(self.folder / "a" / "empty.zip", "w").close()
        (self.folder / "a" / "loop").symlink_to("loop")
        (self.folder / "a" / "nowhere").symlink_to("gone.bin")
        (self.folder / "a" / "out").symlink_to("/etc/hostname")
        (self.folder / "a" / "back").symlink_to("../z")
        Path(os.fsdecode(os.fsencode(self.folder) + b"/a/\xff.bin")).write_bytes(b"x")
        for name in ("closed.bin", "z/last.bell"):
            (self.folder / name).write_bytes(small_bell())
        os.mkfifo(self.folder / "z" / "pipe")
        self.folder.chmod(0o755)
        for name in ("shut", "closed.bin"):
            (self.folder / name).chmod(0)
        user = os.geteuid()
        os.seteuid(user or 65534)
        try:
            folder = GameFolder(self.folder)
            found = {f.path: look_at(folder, f, Known()) for f in folder.everything()}
        finally:
            os.seteuid(user)
            (self.folder / "shut").chmod(0o700)
        told = {path: (seen.what, seen.evidence.split(":")[0].split(".")[0]) for path, seen in found.items()}
        shut = "unreadable"
        self.assertEqual(told["closed.bin"][0], shut)
        self.assertIn("Permission denied", found["closed.bin"].evidence)
        self.assertEqual(told["shut"], (shut, "This folder can't be listed"))
        self.assertEqual(told["a/loop"], (shut, "This can't be looked at"))
        self.assertEqual(told["a/nowhere"], (shut, "This can't be looked at"))
        self.assertEqual(told["a/out"], (shut, "This link leads out of the game's folder, so it is not followed"))
        self.assertEqual(
            told["a/\udcff.bin"], (shut, "This file's name is no UTF-8 text, so nothing can be told of it")
        )
        self.assertEqual((told["a/empty.zip"][0], told["z/last.bell"][0], len(told)), ("archive", "archive", 8))
        listed = next(f for f in folder.files() if f.path == "z/last.bell")
        (self.folder / "z/last.bell").rename(self.folder / "z/kept")
        (self.folder / "z/last.bell").symlink_to("/etc/hostname")  # behind the survey's back
        self.assertIn("can't be opened", look_at(folder, listed, Known()).evidence)
        self.assertIsNone(folder.edges(listed, 9))
        empty = Spot.file(folder, "a/empty.zip")
        (record,) = contents(empty, found["a/empty.zip"].kind)
        self.assertEqual((len(record.archive.entries), record.index()[0][0]), (0, (0, 22)))
        self.assertEqual(
            bytes_of(empty.archive.rebuild({}, anew=True).source), (self.folder / "a/empty.zip").read_bytes()
        )

    def test_digests_of_the_demo_are_those_of_its_bytes(self):
        import xxhash

        spot = Spot.file(GameFolder(demo_game()), "data/deck.zip")
        found = {d.entry: d.value for d in digests(spot)}
        for n in range(len(spot.archive.entries)):
            self.assertEqual(found[n], xxhash.xxh3_64_intdigest(spot.archive.data(n)))
        self.assertIsInstance(next(iter(GameFolder(demo_game()).files())), GameFile)
