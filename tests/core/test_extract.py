"""Taking out: names that no file system can hold, going on after a cut, a disk that fills up, a process that is killed."""

import json
import os
import shutil
import signal
import subprocess
import sys
import tarfile
import time
import zipfile
from pathlib import Path
from unittest import mock

from standin.formats import crate
from tests.support import ROOT, WithFolder, noise, problem_of
from zubret_core.base import Cancelled
from zubret_core.container import GameFolder
from zubret_core.extract import Item, extract, extract_zip, read_manifest, safe_path, targets_for
from zubret_core.locate import Spot
from zubret_core.locate.known import Known
from zubret_core.source import PART


class Names(WithFolder):
    def test_names_that_would_lead_elsewhere_or_that_no_system_holds(self):
        for path, safe in {
            "music/open water.bell": "music/open water.bell",
            "../../etc/passwd": "etc/passwd",
            "/etc/passwd": "etc/passwd",
            "C:\\Windows\\system.ini": "Windows/system.ini",
            "a/./b//c": "a/b/c",
            "..": "_",
            "": "_",
            'what?<>:"|*.wav': "what_______.wav",
            "con": "_con",
            "a/LPT1.txt": "a/_LPT1.txt",
            "trailing. . ": "trailing_",
            "line\nbreak\0": "line_break_",
            b"\xff\xfe.txt".decode("utf-8", "surrogateescape"): "%FF%FE.txt",
        }.items():
            target = safe_path(path)
            self.assertEqual(target.path, safe, path)
            self.assertEqual(bool(target.note), path not in (safe, "a/./b//c"), path)
        long = safe_path("x" * 400 + ".bell").path
        self.assertTrue(len(long) <= 255 and long.endswith(".bell"))

    def test_all_targets_are_different_even_where_capitals_do_not_count(self):
        paths = ["a/Tune.wav", "a/tune.wav", "a", "a/tune.wav/b", "b/tune.wav", "zubret manifest.jsonl"]
        for flat in (False, True):
            targets = targets_for(paths, flat=flat)
            lower = [t.path.lower() for t in targets]
            self.assertEqual(len(set(lower)), len(paths))
            for t in lower:
                self.assertFalse(any(o.startswith(f"{t}/") for o in lower), lower)
        self.assertEqual([t.path for t in targets_for(paths[:2])], ["a/Tune.wav", "a/tune (2).wav"])

    def test_a_tar_full_of_tricks_writes_only_inside(self):
        place = self.folder / "game" / "evil.tar"
        place.parent.mkdir()
        with tarfile.open(place, "w") as tar:
            for name in ("../outside.txt", "/abs.txt", "ok/../../up.txt", "nul"):
                info = tarfile.TarInfo(name)
                tar.addfile(info)
            link = tarfile.TarInfo("link")
            link.type, link.linkname = tarfile.SYMTYPE, "/etc"
            tar.addfile(link)
        game = GameFolder(place.parent)
        archive = Spot.file(game, "evil.tar", Known()).opened
        targets = targets_for(e.path for e in archive.entries)
        items = [Item("evil.tar", (n,), 0, t.path) for n, t in enumerate(targets)]
        extract(game, items, self.folder / "out")
        written = {p.relative_to(self.folder).as_posix() for p in self.folder.rglob("*.txt")}
        self.assertEqual(written, {"out/outside.txt", "out/abs.txt", "out/ok/up.txt"})


class Taking(WithFolder):
    def setUp(self):
        super().setUp()
        self.contents = {f"s/{n:03}.bin": noise(300 + n, seed=n).tobytes() for n in range(300)}
        self.contents["large.bin"] = noise(1 << 21).tobytes()
        (self.folder / "game").mkdir()
        data = crate("x", [(p, d, n % 2 == 0) for n, (p, d) in enumerate(self.contents.items())])
        (self.folder / "game" / "x.crate").write_bytes(data)
        self.game, self.out = GameFolder(self.folder / "game"), self.folder / "out"
        self.items = [Item("x.crate", (n,), len(d), p, p) for n, (p, d) in enumerate(self.contents.items())]

    def check(self) -> None:
        found = {p: (self.out / p).read_bytes() for p in self.contents}
        self.assertEqual(found, self.contents)
        self.assertEqual(sorted(read_manifest(self.out)), sorted(self.contents))
        self.assertEqual(list(self.out.rglob("*part")), [])

    def test_a_cancel_leaves_whole_files_and_the_next_run_the_rest(self):
        seen = []

        def stop(done: int, total: int, note: str) -> None:
            seen.append((done, total))
            if done:
                raise Cancelled

        with self.assertRaises(Cancelled):
            extract(self.game, self.items, self.out, progress=stop)
        self.assertEqual(seen[0], (0, sum(map(len, self.contents.values()))))
        for path in read_manifest(self.out):
            self.assertEqual((self.out / path).read_bytes(), self.contents[path])
        before = len(read_manifest(self.out))
        report = extract(self.game, self.items, self.out)
        self.assertEqual((report.skipped, report.files), (before, len(self.contents) - before))
        self.check()

    def test_an_entry_that_fails_is_listed_and_the_rest_come_out(self):
        place = self.folder / "game" / "x.crate"
        data = bytearray(place.read_bytes())
        archive = Spot.file(self.game, "x.crate", Known()).opened
        data[archive.entries[4].at + 20] ^= 0xFF
        place.write_bytes(data)
        for report in (
            extract(self.game, self.items, self.out),
            extract_zip(self.game, self.items, self.folder / "out.zip"),
        ):
            self.assertEqual([f["target"] for f in report.failed], ["s/004.bin"])
            self.assertTrue(report.failed[0]["what"] and report.failed[0]["next"])
            self.assertEqual(report.files, len(self.contents) - 1)
        with zipfile.ZipFile(self.folder / "out.zip") as pack:
            self.assertIsNone(pack.testzip())
            self.assertEqual(pack.read("large.bin"), self.contents["large.bin"])
            lines = pack.read("zubret manifest.jsonl").decode().splitlines()
        self.assertEqual({json.loads(line)["path"] for line in lines}, self.contents.keys() - {"s/004.bin"})

    def test_a_stored_member_with_a_wrong_sum_is_not_taken_out(self):
        """APPNOTE 4.4.7: the directory gives the CRC-32 of every member, stored ones, too."""
        with zipfile.ZipFile(self.folder / "game" / "x.zip", "w") as pack:
            for name, size in (("small", 100), ("large", 3 << 20), ("whole", 50)):
                pack.writestr(name, bytes(size))
            ends = {i.filename: i.header_offset + 30 + len(i.filename) + i.file_size for i in pack.infolist()}
        data = bytearray((self.folder / "game" / "x.zip").read_bytes())
        for name in ("small", "large"):
            data[ends[name] - 1] ^= 1
        (self.folder / "game" / "x.zip").write_bytes(data)
        items = [Item("x.zip", (n,), size, name, name) for n, (name, size) in enumerate(
            (("small", 100), ("large", 3 << 20), ("whole", 50)))]  # fmt: skip
        for report in (extract(self.game, items, self.out), extract_zip(self.game, items, self.folder / "out.zip")):
            self.assertEqual({f["target"] for f in report.failed}, {"small", "large"})
            self.assertIn("checksum", report.failed[0]["what"])
        self.assertEqual({p.name for p in self.out.iterdir()}, {"whole", "zubret manifest.jsonl"})
        with zipfile.ZipFile(self.folder / "out.zip") as pack:
            self.assertEqual(pack.namelist(), ["whole", "zubret manifest.jsonl"])

    def test_too_little_room_is_known_before_and_a_full_disk_told(self):
        usage = shutil.disk_usage(self.folder)
        with mock.patch("shutil.disk_usage", return_value=usage._replace(free=1000)):
            error = problem_of(self, extract, self.game, self.items, self.out)
        self.assertIn("1,000 free", error.what)
        self.assertFalse(self.out.exists())
        # A file size limit stands for a disk that fills up in the middle: writing fails with EFBIG.
        code = f"""
import resource, signal, sys
sys.path.insert(0, {str(ROOT)!r})
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
from pathlib import Path
from zubret_core.container import GameFolder
from zubret_core.extract import Item, extract
resource.setrlimit(resource.RLIMIT_FSIZE, (1 << 20, 1 << 20))
r = extract(GameFolder(Path({str(self.folder / "game")!r})), [Item("x.crate", (300,), {1 << 22}, "large.bin")], Path({str(self.out)!r}))
print(r.failed[0]["what"])
"""
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        self.assertIn("can't be written", done.stdout, done.stderr)
        self.assertEqual([p.name for p in self.out.iterdir()], ["zubret manifest.jsonl"])

    def test_a_killed_process_leaves_what_the_next_one_completes(self):
        items = json.dumps([[i.chain[0], i.size, i.target] for i in self.items])
        code = f"""
import json, sys
sys.path.insert(0, {str(ROOT)!r})
from pathlib import Path
from zubret_core.container import GameFolder
from zubret_core.extract import Item, extract
items = [Item("x.crate", (n,), size, t, t) for n, size, t in json.loads({items!r})]
extract(GameFolder(Path({str(self.folder / "game")!r})), items, Path({str(self.out)!r}))
"""
        program = subprocess.Popen([sys.executable, "-c", code])
        deadline = time.monotonic() + 30
        while not list(self.out.glob("s/*.bin")) and time.monotonic() < deadline:
            time.sleep(0.002)
        os.kill(program.pid, signal.SIGKILL)
        program.wait()
        report = extract(self.game, self.items, self.out)
        self.assertEqual(report.failed, [])
        self.check()
        # Cut at the worst moment: a large file is whole, and a small one begun, but neither is listed.
        (self.out / "zubret manifest.jsonl").unlink()
        (self.out / "s/001.bin").write_bytes(self.contents["s/001.bin"][:100])
        self.assertEqual(extract(self.game, self.items, self.out).failed, [])
        self.check()

    def test_nothing_that_zubret_did_not_write_is_written_over(self):
        (self.out / "s").mkdir(parents=True)
        Path(self.out / "s/001.bin").write_bytes(b"mine")
        Path(self.out / "large.bin").write_bytes(b"mine, too")
        Path(self.out / "large.bin.part").write_bytes(b"mine as well")
        Path(self.out / "s" / f"0f{PART}").write_bytes(b"left by a cut")
        report = extract(self.game, self.items, self.out)
        self.assertEqual(sorted(f["target"] for f in report.failed), ["large.bin", "s/001.bin"])
        self.assertEqual((self.out / "s/001.bin").read_bytes(), b"mine")
        self.assertEqual((self.out / "large.bin").read_bytes(), b"mine, too")
        self.assertEqual((self.out / "large.bin.part").read_bytes(), b"mine as well")
        self.assertEqual(list(self.out.rglob(f"*{PART}")), [])
