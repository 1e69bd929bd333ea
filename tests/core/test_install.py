"""Installing into a folder and going back: cut at every step, on a full disk, over what others have changed."""

import errno
import hashlib
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
from collections import Counter
from pathlib import Path
from unittest import mock

from django.test import SimpleTestCase

from zubret_core.base import ZubretError
from zubret_core.container import GameFolder
from zubret_core.install import Ledger, Store, Wanted, forecast, install, let_go, look, restore, settle

RUNS = int(os.environ.get("ZUBRET_KILLS", "300"))
"""Installs that are killed; `ZUBRET_KILLS=1000` asks for more."""
TOUCHES = {"write", "replace", "link", "unlink", "mkdir", "rmdir", "fsync", "chmod", "utime", "open"}
"""Calls that change something on a disk, or are about to."""
ROOM = TOUCHES - {"unlink", "rmdir", "open"}
"""Those that a full disk refuses."""


def tree(folder: Path) -> dict[str, str]:
    """Every file below a folder, with the digest of its bytes, and every folder."""
    return {
        str(place.relative_to(folder)): hashlib.sha256(place.read_bytes()).hexdigest() if place.is_file() else "folder"
        for place in sorted(folder.rglob("*"))
    }


class At:
    """Does something at one of the calls that touch a disk, before it happens."""

    def __init__(self, number: int, act, names=TOUCHES):
        self.left, self.act, self.names = number, act, names

    def __call__(self, frame, event, called):
        if event != "c_call" or called.__name__ not in self.names or "zubret_core" not in _caller(frame):
            return
        self.left -= 1
        if self.left == 0:
            sys.setprofile(None)
            self.act()


def _caller(frame) -> str:
    while frame and ("pathlib" in frame.f_code.co_filename or "<frozen" in frame.f_code.co_filename):
        frame = frame.f_back
    return frame.f_code.co_filename if frame else ""


def full():
    raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))


def die():
    os.kill(os.getpid(), signal.SIGKILL)


class Installing(SimpleTestCase):
    def setUp(self):
        memory = Path("/dev/shm")  # where flushing costs nothing; what is tested is the order
        folder = tempfile.TemporaryDirectory(dir=memory if memory.is_dir() else None)
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name).resolve()
        self.place, self.store = self.folder / "game", Store(self.folder / "store")
        for path, size in {
            "data/sea.crate": 9000,
            "data/old.sum": 64,
            "data/voices.crate": 5000,
            "game.ini": 40,
        }.items():
            (self.place / path).parent.mkdir(parents=True, exist_ok=True)
            (self.place / path).write_bytes(random.Random(path).randbytes(size))
        self.before = tree(self.place)
        self.new = self.folder / "new"
        self.new.mkdir()
        self.mods = [
            # One replaces, sets aside, edits a text and adds below new folders; the other some of these, and others.
            {"data/sea.crate": 9500, "data/old.sum": None, "game.ini": 60, "over/ferry/voice/1.wav": 700},
            {"data/sea.crate": 9000, "data/voices.crate": 10, "over/ferry/2.wav": 80, "patch_07.zip": 3000},
            # The four ways in which a game takes changes: in place, where a seal has to go; a new archive with what it needs beside
            # it; loose files, for which an archive goes; an overlay folder, which a text file names.
            {"data/sea.crate": 9500, "data/old.sum": None},
            {"patch_07.zip": 3000, "patch_07.pass": 6},
            {"data/voices.crate": None, "data/loose/voice/1.wav": 700, "data/loose/voice/2.wav": 80},
            {"game.ini": 60, "over/ferry/voice/1.wav": 700},
        ]

    def wanted(self, number: int) -> dict[str, Wanted]:
        found = {}
        for path, size in self.mods[number].items():
            new = self.new / f"{number} {path.replace('/', ' ')}"
            if size is not None and not new.exists():
                new.write_bytes(random.Random(f"{number}{path}").randbytes(size))
            found[path] = Wanted(new if size is not None else None, f"mod {number}")
        return found

    def game(self) -> GameFolder:
        return GameFolder(self.place)

    def as_wanted(self, number: int | None) -> dict[str, str]:
        """What the folder has to be when a mod is installed, by hand: the original, and the mod's files laid over it."""
        place = self.folder / "by hand"
        shutil.rmtree(place, ignore_errors=True)
        shutil.copytree(self.folder / "untouched", place)
        for path, want in ({} if number is None else self.wanted(number)).items():
            (place / path).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(want.new, place / path) if want.new else (place / path).unlink()
        return tree(place)

    def test_a_kill_at_any_step_leads_forward_or_back_and_the_original_comes_back(self):
        shutil.copytree(self.place, self.folder / "untouched")
        states = {n: self.as_wanted(n) for n in (None, *range(len(self.mods)))}
        ways = [(a, b) for a in states for b in states if a != b and (None in (a, b) or (a + b) % 2)]
        steps = {way: self.touches(*way) for way in ways}
        rng, ended = random.Random(12), Counter()
        for _ in range(RUNS):
            begun, wanted = way = rng.choice(ways)
            self.clean()
            if begun is not None:
                install(self.game(), self.store, self.wanted(begun))
            at = rng.randrange(1, steps[way] + 1)
            with self.subTest(begun=begun, wanted=wanted, at=at):
                self.killed(wanted, At(at, die))
                for path in {
                    *states[begun],
                    *states[wanted],
                }:  # each file is the one or the other, also before anybody looks
                    if not (place := self.place / path).is_dir():
                        is_now = hashlib.sha256(place.read_bytes()).hexdigest() if place.exists() else None
                        self.assertIn(is_now, [states[begun].get(path), states[wanted].get(path)], path)
                if rng.random() < 0.5:  # and killed once more, while that is brought to an end
                    self.killed(wanted, At(rng.randrange(1, 30), die), settle)
                settle(self.game(), self.store)
                now = next((n for n in (wanted, begun) if tree(self.place) == states[n]), "neither")
                ended["forward" if now == wanted else "back" if now == begun else "neither"] += 1
                self.assertNotEqual(now, "neither")
                known = {} if now is None else dict.fromkeys(self.mods[now], "installed")
                self.assertEqual({f.path: f.state for f in look(self.game(), self.store, True)}, known)
                restore(self.game(), self.store)
                self.assertEqual(tree(self.place), self.before)
                self.assertEqual(set(tree(self.store.root)) - {"lock", "ledger.json", "originals", "leaving"}, set())
        self.assertGreater(min(ended["forward"], ended["back"]), RUNS // 20)
        print(f"killed {RUNS} times: {dict(ended)}")

    def clean(self):
        for place in (self.place, self.store.root):
            shutil.rmtree(place, ignore_errors=True)
        shutil.copytree(self.folder / "untouched", self.place)

    def touches(self, begun: int | None, wanted: int | None) -> int:
        """How many calls an install makes that touch a disk."""
        self.clean()
        if begun is not None:
            install(self.game(), self.store, self.wanted(begun))
        counter = At(0, lambda: None)
        game, what = self.game(), {} if wanted is None else self.wanted(wanted)
        sys.setprofile(counter)
        try:
            install(game, self.store, what)
        finally:
            sys.setprofile(None)
        self.assertEqual(tree(self.place), self.as_wanted(wanted))
        return -counter.left

    def killed(self, wanted: int | None, at: At, work=None):
        """In a process of its own, which dies."""
        game, what = self.game(), {} if wanted is None else self.wanted(wanted)
        child = os.fork()
        if not child:
            sys.setprofile(at)
            try:
                work(game, self.store) if work else install(game, self.store, what)
            finally:
                os._exit(0)
        os.waitpid(child, 0)

    def test_a_full_disk_at_any_write_changes_nothing(self):
        shutil.copytree(self.place, self.folder / "untouched")
        for begun, wanted in ((None, 0), (0, 1), (1, None)):
            for number in range(1, 200):
                self.clean()
                if begun is not None:
                    install(self.game(), self.store, self.wanted(begun))
                before, game, what = tree(self.place), self.game(), {} if wanted is None else self.wanted(wanted)
                fault = At(number, full, ROOM)
                sys.setprofile(fault)
                try:
                    install(game, self.store, what)
                except ZubretError as e:
                    self.assertIn("disk is full", e.what)
                finally:
                    sys.setprofile(None)
                settle(self.game(), self.store)
                self.assertIn(tree(self.place), (before, self.as_wanted(wanted)), number)
                if fault.left > 0:
                    break
            self.assertGreater(number, 20)

    def test_what_others_changed_is_told_and_never_overwritten(self):
        install(self.game(), self.store, self.wanted(0))
        (self.place / "data/sea.crate").write_bytes(b"an update of the game")
        there = tree(self.place)
        for work in (
            lambda: restore(self.game(), self.store),
            lambda: install(self.game(), self.store, self.wanted(1)),
        ):
            with self.assertRaisesRegex(ZubretError, "changed by something else.*data/sea.crate"):
                work()
            self.assertEqual(tree(self.place), there)
        states = {f.path: f.state for f in look(self.game(), self.store)}
        self.assertEqual((states["data/sea.crate"], states["game.ini"]), ("changed", "installed"))
        let_go(self.store, ["data/sea.crate"])
        restore(self.game(), self.store)
        updated = hashlib.sha256(b"an update of the game").hexdigest()
        self.assertEqual(tree(self.place), {**self.before, "data/sea.crate": updated})

    def test_damaged_backups_links_and_names_are_refused_before_anything_happens(self):
        install(self.game(), self.store, self.wanted(0))
        backup = self.store.backup("data/sea.crate")
        os.utime(backup, ns=(backup.stat().st_atime_ns, backup.stat().st_mtime_ns))
        data = bytearray(backup.read_bytes())
        data[100] ^= 1
        backup.write_bytes(data)
        os.utime(backup, ns=(0, self.store.ledger().places["data/sea.crate"].original.mtime_ns))  # as a disk does it
        there = tree(self.place)
        with self.assertRaisesRegex(ZubretError, "backup of this file was changed"):
            restore(self.game(), self.store)
        self.assertEqual(tree(self.place), there)
        self.assertFalse(next(f for f in look(self.game(), self.store, True) if f.path == "data/sea.crate").backup)

        (self.place / "away").symlink_to(self.folder / "new")
        (self.place / "inside").symlink_to(self.place / "data")
        some = Wanted(self.new / "0 game.ini")
        for path, why in {
            "away/x.wav": "leads out",
            "../x.wav": "leads out",
            "inside/sea.crate": "goes over a link",
            "data": "There is a folder",
            "data/SEA.crate": "differ in case",
        }.items():
            with self.assertRaisesRegex(ZubretError, why):
                install(self.game(), self.store, {**self.wanted(0), path: some})
        self.assertEqual({k: v for k, v in tree(self.place).items() if k not in ("away", "inside")}, there)
        (self.store.root / "ledger.json").unlink()
        with self.assertRaisesRegex(ZubretError, "not the list of what was installed"):
            install(self.game(), self.store, self.wanted(1))

    def test_where_no_second_name_can_be_given_files_are_copied(self):
        with mock.patch("os.link", side_effect=OSError(errno.EXDEV, "another disk")):
            for number in (0, 1):
                install(self.game(), self.store, self.wanted(number))
                self.assertEqual({f.state for f in look(self.game(), self.store, True)}, {"installed"})
                original = self.store.ledger().places["data/sea.crate"].original
                self.assertTrue(original.fits(self.store.backup("data/sea.crate"), True))
            restore(self.game(), self.store)
        self.assertEqual(tree(self.place), self.before)

    def test_two_at_once_and_room(self):
        with self.store.held(), self.assertRaisesRegex(ZubretError, "already"):
            restore(self.game(), self.store)
        coming = forecast(self.game(), self.store, self.wanted(0))
        self.assertEqual((coming.most, coming.end, coming.backups), (9500 + 60 + 700,) * 2 + (0,))
        self.assertEqual([f.what for f in coming.files], ["set aside", "replaced", "replaced", "added"])
        same = self.folder / "same"
        shutil.copy(self.place / "data/voices.crate", same)
        install(self.game(), self.store, {**self.wanted(0), "data/voices.crate": Wanted(same)})
        self.assertNotIn("data/voices.crate", self.store.ledger().places)  # it is what it was
        self.assertFalse(self.store.backup("data/voices.crate").exists())
        self.assertEqual(forecast(self.game(), self.store, {}).end, -(9500 + 60 + 700))
        self.assertEqual(self.store.ledger().folders, ["over/ferry/voice", "over/ferry", "over"])
        original = self.store.backup("data/sea.crate")
        self.assertEqual(original.stat().st_nlink, 1)  # it is the old file itself
        sums = subprocess.run(["sha256sum", original], capture_output=True, text=True, check=True).stdout
        self.assertEqual(self.store.ledger().places["data/sea.crate"].original.sha256, sums.split()[0])
        restore(self.game(), self.store)
        self.assertEqual(tree(self.place), self.before)
        self.assertEqual(self.store.ledger(), Ledger())
