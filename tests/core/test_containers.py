"""Containers and finding sound: ZIP files of a general tool, real sound files, nested banks."""

import io
import random
import subprocess
import zipfile
from itertools import pairwise
from pathlib import Path

import soundfile

from tests.support import (
    WithFolder,
    demo_game,
    edited,
    noise,
    problem_of,
    resummed_bell,
    small_bell,
    small_crate,
    source,
)
from zubret_core.base import ZubretError, to_int16
from zubret_core.container import GameFolder, LooseFile, ZipArchive
from zubret_core.locate import Locator, Locked, banks_of, open_archive, open_bank
from zubret_core.source import BytesSource, DiskCache, FileSource, SliceSource
from zubret_core.source.chain import Segment, condensed

OPEN_SOUNDS = Path("/usr/share/sounds/alsa")  # Debian's alsa-utils: spoken channel names, freely licensed


class Zip(WithFolder):
    """ZIP after APPNOTE 6.3.10, against Debian's zip and Python's zipfile."""

    def packed(self, *options: str) -> Path:
        """Real open sound files, packed by Debian's zip."""
        place = self.folder / "open.zip"
        subprocess.run(["zip", "-q", "-r", *options, place, "."], cwd=OPEN_SOUNDS, check=True)
        return place

    def test_open_sounds_packed_by_a_general_tool_are_found_and_decoded(self):
        with FileSource(self.packed()) as file:
            archive = open_archive(file)
            found = list(banks_of(archive))
            names = sorted(p.name for p in OPEN_SOUNDS.glob("*.wav"))
            self.assertEqual(sorted(b.name for b in found), names)
            self.assertGreaterEqual(len(names), 8)
            for bank in found:
                stream = bank.streams[0]
                truth, rate = soundfile.read(OPEN_SOUNDS / bank.name, dtype="int16", always_2d=True)
                self.assertEqual((stream.format.rate, stream.format.frames), (rate, len(truth)))
                middle = len(truth) // 2
                self.assertTrue((to_int16(stream.decode(middle, 500)) == truth[middle : middle + 500]).all())

    def test_rebuilding_copies_unchanged_members_as_stored(self):
        for options in ((), ("-0",), ("-fd",)):  # deflated, stored, with data descriptors
            place = self.packed(*options)
            data = place.read_bytes()
            archive = ZipArchive(source(data, "open.zip"))
            same = archive.rebuild({}).source
            self.assertEqual(same.read(0, same.size), data)
            index = next(n for n, e in enumerate(archive.entries) if e.path.endswith("Noise.wav"))
            new = b"RIFF" + bytes(50_000)
            built = archive.rebuild({index: source(new)}).source
            out = self.folder / "new.zip"
            out.write_bytes(built.read(0, built.size))
            with zipfile.ZipFile(out) as theirs, zipfile.ZipFile(place) as before:
                self.assertIsNone(theirs.testzip())
                self.assertEqual(theirs.namelist(), before.namelist())
                self.assertEqual(theirs.read("Noise.wav"), new)
                for info in before.infolist():
                    if info.filename != "Noise.wav":
                        self.assertEqual(theirs.read(info.filename), before.read(info.filename))
                        self.assertEqual(theirs.getinfo(info.filename).date_time, info.date_time)
            checked = subprocess.run(["zip", "-T", out], capture_output=True, text=True)
            self.assertEqual(checked.returncode, 0, checked.stdout)

    def test_there_and_back_gives_the_first_file(self):
        """Stored members: there is nothing to compress differently."""
        data = self.packed("-0").read_bytes()
        archive = ZipArchive(source(data))
        old = archive.open(2).read(0, archive.entries[2].size)
        there = archive.rebuild({2: source(b"other" * 1000)}).source
        back = ZipArchive(source(there.read(0, there.size))).rebuild({2: source(old)}).source
        self.assertEqual(back.read(0, back.size), data)

    def test_bytes_before_and_behind_the_archive_are_kept(self):
        data = b"#!/bin/sh self-extracting\n" + self.packed().read_bytes()
        archive = ZipArchive(source(data))
        built = archive.rebuild({0: source(b"changed")}).source
        out = built.read(0, built.size)
        self.assertTrue(out.startswith(b"#!/bin/sh"))
        with zipfile.ZipFile(FileSource(self._kept(out))._file) as theirs:
            self.assertIsNone(theirs.testzip())
            self.assertEqual(theirs.read(archive.entries[0].path), b"changed")

    def _kept(self, data: bytes) -> Path:
        place = self.folder / "kept.zip"
        place.write_bytes(data)
        return place

    def test_what_is_listed_is_what_the_standard_library_lists(self):
        """Python's zipfile writes and reads 2,000 archives: all methods, both spellings of names, ZIP64 fields, comments,
        bytes in front; and with bytes of the directory changed, where both can still read it."""
        read = 0
        for seed in range(2000):
            rng, out = random.Random(seed), io.BytesIO()
            out.write(b"in front" * rng.randrange(3))
            with zipfile.ZipFile(out, "a" if out.tell() else "w") as pack:
                for n in range(rng.randrange(6)):
                    info = zipfile.ZipInfo(
                        rng.choice(["a/b", "ä", "日本", "dir/é"]) + str(n) + rng.choice(["", "", "/"])
                    )
                    info.compress_type = rng.choice([0, 8, 12, 14])
                    with pack.open(info, "w", force_zip64=rng.random() < 0.5) as member:
                        member.write(rng.randbytes(rng.randrange(50)) * 3)
                pack.comment = b"a comment" * rng.randrange(2)
            data = bytearray(out.getvalue())
            if seed % 2:
                data[rng.randrange(max(0, len(data) - 200), len(data))] ^= 1 << rng.randrange(8)
            try:
                theirs = zipfile.ZipFile(io.BytesIO(data))
                ours = ZipArchive(source(bytes(data)))
            except (zipfile.BadZipFile, NotImplementedError, ValueError, ZubretError):
                self.assertTrue(seed % 2)
                continue
            listed = [(i.filename, i.header_offset, i.compress_size, i.file_size, i.CRC) for i in theirs.infolist()
                      if i.filename and not i.is_dir()]  # fmt: skip
            self.assertEqual([(e.path, e.at, e.stored, e.size, e.crc32) for e in ours.entries], listed, seed)
            for n, entry in enumerate(() if seed % 2 else ours.entries):
                content = ours.open(n)
                self.assertEqual(content.read(0, content.size), theirs.read(entry.path), seed)
            read += 1
        self.assertGreater(read, 1300)

    def test_damage_is_an_error_in_words(self):
        data = self.packed().read_bytes()
        for size in (5, 30, len(data) // 2, len(data) - 1):
            problem_of(self, ZipArchive, source(data[:size], "cut.zip"))
        archive = ZipArchive(source(data))
        index = next(n for n, e in enumerate(archive.entries) if e.method == "deflate")
        spoilt = bytearray(data)
        spoilt[archive.entries[index].at + 5000] ^= 0xFF
        error = problem_of(self, lambda: ZipArchive(source(bytes(spoilt))).open(index).read(0, 1))
        self.assertIn("can't be unpacked", error.what)


class Finding(WithFolder):
    def test_the_demo_is_found_whole(self):
        game = GameFolder(demo_game())
        streams = {}
        for file in game.files():
            try:
                archive = open_archive(game.open(file.path))
            except Locked as e:
                self.assertEqual((file.path, e.key), ("data/hold.chart", "purser"))
                continue
            if archive:
                streams[file.path] = [s.id for b in banks_of(archive) for s in b.streams]
        self.assertEqual(
            {k: len(v) for k, v in streams.items()}, {"data/sea.crate": 42, "data/deck.zip": 5, "data/patch_01.zip": 1}
        )
        self.assertIn("0247", streams["data/sea.crate"])

    def test_loose_banks_and_sounds_are_archives_of_one(self):
        self.assertIsInstance(open_archive(source(small_bell(), "x/small.bell")), LooseFile)
        self.assertIsNone(open_archive(source(b"nothing that anybody knows")))
        self.assertIsNone(open_archive(source(b"")))
        found = list(banks_of(open_archive(source(small_bell(), "x/small.bell"))))
        self.assertEqual([(b.name, b.language, len(b.streams)) for b in found], [("small.bell", "French", 4)])

    def test_a_damaged_bank_does_not_hide_the_others(self):
        data = small_crate()
        at = data.index(b"BELL")
        archive = open_archive(source(edited(data, at + 4, "<B", 9), "sea.crate"))
        found = list(banks_of(archive))
        self.assertEqual([bool(b.error) for b in found], [True, False])
        self.assertIn("sea.crate", found[0].error.where)
        self.assertIn("head.version", found[0].error.where)

    def test_an_unknown_codec_names_the_record(self):
        bad = resummed_bell(edited(small_bell(), 48 + 32 + 12, "<B", 0x05))
        error = problem_of(self, open_bank, source(bad, "odd.bell"))
        self.assertIn("The number 5 has no meaning", error.what)
        self.assertIn("records.codec of record 1", error.where)

    def test_a_locator_finds_its_stream_or_says_that_it_is_gone(self):
        game = GameFolder(demo_game())
        good = Locator("data/sea.crate", (("music/music.bell", 2),), "0251", 2)
        self.assertEqual(good.stream(game).format.codec, "pcm16")
        self.assertEqual(str(good), "data/sea.crate › music/music.bell › 0251")
        for bad in (
            Locator("data/sea.crate", (("music/other.bell", 2),), "0251", 2),
            Locator("data/sea.crate", (("music/music.bell", 99),), "0251", 2),
            Locator("data/sea.crate", (("music/music.bell", 2),), "0251", 3),
            Locator("data/sea.crate", (("music/music.bell", 2),), "0251", 99),
        ):
            self.assertIn("no longer", problem_of(self, bad.stream, game).what)

    def test_no_path_leads_out_of_the_folder(self):
        (self.folder / "game").mkdir()
        (self.folder / "outside.txt").write_text("secret")
        (self.folder / "game" / "link.txt").symlink_to(self.folder / "outside.txt")
        (self.folder / "game" / "inside.txt").write_text("open")
        game = GameFolder(self.folder / "game")
        self.assertEqual([f.path for f in game.files()], ["inside.txt"])
        for path in ("../outside.txt", "link.txt", "/etc/passwd", "a/../../outside.txt"):
            self.assertIn("leads out", problem_of(self, game.open, path).what)


class Sources(WithFolder):
    def test_the_cache_keeps_what_was_used_last_within_its_limit(self):
        cache = DiskCache(self.folder, 250)
        made = []

        def piece(key):
            made.append(key)
            yield key.encode() * 100

        import os
        import time

        for n, key in enumerate("abc"):
            cache.get(key, piece(key), key).close()
            for file in self.folder.iterdir():  # file times are coarse: set them apart
                if time.time() - file.stat().st_mtime < 5:
                    os.utime(file, (1000 + n, 1000 + n))
        self.assertEqual(cache.get("c", piece("c"), "c").read(0, 2), b"cc")
        self.assertLessEqual(sum(f.stat().st_size for f in self.folder.iterdir()), 250)
        self.assertEqual(made, ["a", "b", "c"])
        cache.get("a", piece("a"), "a")
        self.assertEqual(made[-1], "a")
        self.assertFalse(list(self.folder.glob("*part")))

    def test_spans_outside_a_source_are_errors(self):
        whole = source(b"0123456789")
        self.assertEqual(SliceSource(whole, 3, 4).read(1, 2), b"45")
        for at, length in ((-1, 2), (9, 2), (11, 0), (0, -1)):
            problem_of(self, whole.read, at, length)
        with self.assertRaises(ZubretError):
            SliceSource(whole, 8, 3)

    def test_a_file_that_shrinks_while_it_is_read(self):
        place = self.folder / "f.bin"
        place.write_bytes(bytes(100))
        with FileSource(place) as file:
            place.write_bytes(bytes(50))
            self.assertIn("became shorter", problem_of(self, file.read, 40, 20).what)
        problem_of(self, FileSource, self.folder / "missing.bin")

    def test_a_drawing_of_many_segments_keeps_size_and_what_matters(self):
        many = [Segment("payload", n * 10, 10, item=n) for n in range(5000)]
        many[777] = Segment("unexplained", 7770, 10)
        many[4000] = Segment("new", 40_000, 10)
        few = condensed(many, 200)
        self.assertLessEqual(len(few), 201)
        self.assertEqual(sum(s.length for s in few), 50_000)
        self.assertEqual({s.kind for s in few}, {"payload", "unexplained", "new"})
        self.assertTrue(all(a.at + a.length == b.at for a, b in pairwise(few)))

    def test_a_bytes_source_is_what_it_was_given(self):
        data = noise(50).tobytes()
        self.assertEqual(b"".join(BytesSource(data).chunks(step=7)), data)
