"""Every worked example of the language, and three open formats described in it."""

import io
import re
import subprocess
import tarfile
from pathlib import Path

import numpy as np
import soundfile
from django.test import SimpleTestCase

from tests.examples import Example, bank_examples, examples, loaded
from tests.support import ROOT, bytes_of, noise, problem_of, source
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.bank.trial import check
from zubret_core.base import ZubretError
from zubret_core.container import DescribedArchive, NewEntry
from zubret_core.layout import load_layout
from zubret_core.source import Built

LONG = b"a longer payload than the one before it, of sixty bytes, new"
OPEN_SOUNDS = Path("/usr/share/sounds/alsa")


def opened(example: Example, files: dict[str, bytes], keys: dict[str, bytes] | None = None) -> DescribedArchive:
    def beside(name: str):
        if name not in files:
            raise ZubretError("It is not there.", file=name, next="Look for it.")
        return source(files[name], name)

    layout = loaded(example.layout, example.title)
    return DescribedArchive(
        layout, source(files[""], "data/example.bin"), beside, example.keys if keys is None else keys
    )


def written(built: Built, before: dict[str, bytes]) -> dict[str, bytes]:
    """The files as they are after a rebuild."""
    return {**before, "": bytes_of(built.source), **{n: bytes_of(b.source) for n, b in built.others.items()}}


def contents(archive: DescribedArchive) -> dict[str, bytes]:
    for n in range(len(archive.entries)):
        archive.check(n)
    return {e.path: bytes_of(archive.open(n)) for n, e in enumerate(archive.entries)}


class WorkedExamples(SimpleTestCase):
    def test_each_gives_what_it_says(self):
        self.assertGreaterEqual(len(examples()), 20)
        page = (ROOT / "docs/layout-language.md").read_text("utf-8")
        for text in re.findall(r"```yaml\n(.*?)```", page, re.S):
            if text.startswith("zubret: 1") and "regions:" in text:
                loaded(text, "page")
        for example in examples():
            with self.subTest(example.title):
                archive = opened(example, example.files)
                self.assertEqual(contents(archive), example.gives)
                first = next(iter(example.gives))
                self.assertTrue(example.gives[first].startswith(archive.head(0, 2)) and archive.head(0, 2))

    def test_each_is_rebuilt_to_the_same_bytes(self):
        for example in examples():
            with self.subTest(example.title):
                built = opened(example, example.files).rebuild({}, anew=True)
                self.assertEqual(written(built, example.files), example.files)

    def test_swapping_there_and_back_gives_the_first_files(self):
        for example in examples():
            with self.subTest(example.title):
                first = opened(example, example.files)
                there = written(first.rebuild({0: source(LONG)}), example.files)
                second = opened(example, there)
                found = contents(second)
                path = first.entries[0].path
                self.assertEqual(found[path].rstrip(b"\0"), LONG)
                self.assertEqual({**found, path: b""}, {**example.gives, path: b""})
                back = written(second.rebuild({0: first.open(0)}, anew=True), there)
                self.assertEqual(back, example.files)

    def test_entries_are_added_where_the_format_allows_it(self):
        refused = []
        for example in examples():
            archive = opened(example, example.files)
            last = archive.entries[-1].path
            path = last[:-1] + "z" if not last.isdigit() else "009"
            try:
                built = archive.rebuild({}, added=[NewEntry(path, source(b"more"))])
            except ZubretError as e:
                refused.append((example.title, e.what))
                continue
            with self.subTest(example.title):
                found = contents(opened(example, written(built, example.files)))
                self.assertEqual(len(found), len(example.gives) + 1)
                new = next(reversed(found))
                self.assertEqual(found.pop(new), b"more")
                self.assertEqual(found, example.gives)
                if "hash:" not in example.layout:
                    self.assertEqual(new, path)
        # A nested chunk has no place of its own; a sentinel's file has no entry of that id; 1 record is a constant.
        self.assertEqual(
            [t for t, _ in refused],
            [
                "A list of links",
                "Chunks for each entry",
                "A sum behind each payload",
                "Chunks inside chunks",
                "A file that is packed as a whole",
                "Folders that hold ranges of entries",
                "Records that are no entries",
            ],
            refused,
        )

    def test_a_new_archive_of_some_entries_is_made_where_the_format_allows_it(self):
        refused = []
        for example in examples():
            archive = opened(example, example.files)
            for only in ({len(archive.entries) - 1}, {0}, set(range(1, len(archive.entries))) or {0}):
                try:
                    built = archive.rebuild({}, only=only)
                    longer = archive.rebuild({max(only): source(LONG)}, only=only)
                except ZubretError as e:
                    refused.append(example.title)
                    self.assertTrue(e.what and e.next, e)
                    continue
                with self.subTest(example.title, only=only):
                    wanted = {path: data for n, (path, data) in enumerate(example.gives.items()) if n in only}
                    self.assertEqual(contents(opened(example, written(built, {}))), wanted)
                    found = contents(opened(example, written(longer, {})))
                    self.assertEqual(list(found.values())[-1].rstrip(b"\0"), LONG)
                    self.assertEqual(list(found.items())[:-1], list(wanted.items())[:-1])
        # Payloads in files beside it, in one another, in ranges, in lists of links; a base that lies behind the new place; and a last
        # record that says where they end.
        self.assertEqual(
            sorted(set(refused)),
            [
                "A list of links",
                "A sum behind each payload",
                "A table in plain text",
                "A table in several pieces",
                "Chunks for each entry",
                "Chunks inside chunks",
                "Folders that hold ranges of entries",
                "Names in another file, tables side by side",
                "Records that are no entries",
                "Regions inside chunks",
                "Sizes that are not stored",
                "Tables of their own for each record",
                "Volumes, and ids that are hashes",
            ],
        )

    def test_a_full_volume_keeps_what_it_has_and_the_next_one_is_begun(self):
        example = next(e for e in examples() if "Volumes" in e.title)
        built = opened(example, example.files).rebuild(
            {0: source(b"x" * 62)}, added=[NewEntry("Deck/Horn", source(b"y" * 64))]
        )
        self.assertEqual(list(built.others), ["example.02", "example.03"])
        files = written(built, example.files)
        self.assertEqual((files["example.00"], files["example.01"]), (b"first\0\0\0next", b"end"))
        found = opened(example, files)
        self.assertEqual([len(c) for c in contents(found).values()], [62, 4, 3, 64])
        # FNV-1a of "deck/horn", 32 bits, worked out by the draft's own loop.
        value = 0x811C9DC5
        for byte in b"deck/horn":
            value = (value ^ byte) * 0x01000193 & 0xFFFFFFFF
        self.assertEqual(found.entries[3].path, f"{value:08x}")
        with self.assertRaises(ZubretError) as caught:
            opened(example, example.files).rebuild({0: source(b"x" * 65)})
        self.assertIn("larger than a volume", caught.exception.what)

    def test_missing_keys_wrong_keys_and_missing_volumes_say_so(self):
        locked = next(e for e in examples() if e.keys)
        self.assertIn("needs a key of 16 bytes", problem_of(self, opened, locked, locked.files, {}).what)
        self.assertIn("has 15 bytes", problem_of(self, opened, locked, locked.files, {"index": bytes(15)}).what)
        problem_of(self, opened, locked, locked.files, {"index": bytes(16)})
        example = next(e for e in examples() if "Volumes" in e.title)
        without = {n: d for n, d in example.files.items() if n != "example.01"}
        self.assertIn("example.01", problem_of(self, opened, example, without).where)
        cut = {**example.files, "example.01": b"en"}
        self.assertIn("leaves the file example.01", problem_of(self, opened, example, cut).what)

    def test_every_cut_and_every_changed_byte_is_an_error_or_harmless(self):
        """Each example cut at every place, and each byte of it set to 0 and 255: a ZubretError, or a reading."""
        for example in examples():
            data, others = example.files[""], {n: d for n, d in example.files.items() if n}
            changed = [data[:n] for n in range(len(data))]
            changed += [data[:n] + bytes([v]) + data[n + 1 :] for n in range(len(data)) for v in (0, 255)]
            for bad in changed:
                try:
                    archive = opened(example, {"": bad, **others})
                    for n in range(len(archive.entries)):
                        archive.open(n)
                except ZubretError as e:
                    self.assertTrue(e.what and e.where and e.next, f"{example.title}: {e.as_dict()}")


class WorkedBanks(SimpleTestCase):
    """Examples of banks: what each stream is, and everything that the bench checks: sums, sound, and changes there and back."""

    def test_each_gives_what_it_says_and_can_be_changed(self):
        self.assertTrue(bank_examples())
        for example in bank_examples():
            with self.subTest(example.title):
                layout = load_layout(example.layout, example.title)
                file = source(example.files[""], "data/example.bin")
                beside = lambda name, files=example.files: source(files[name], name)  # noqa: E731
                bank = DescribedBank(layout, file, beside, example.keys)
                found = {}
                for stream in bank.streams:
                    format, channels = stream.format, "channel" if stream.format.channels == 1 else "channels"
                    loop = f" loop {format.loop.start} to {format.loop.end}" if format.loop else ""
                    of = f"{format.rate} Hz {format.channels} {channels} {format.frames} frames{loop}"
                    found[f"{stream.id} = {format.codec} {of}".strip()] = bytes_of(stream.payload)
                self.assertEqual(found, example.streams)
                checked = check(layout, file, beside, example.keys)
                self.assertTrue(checked.ok, checked.problem)
                self.assertGreater(checked.tried, 0)

    def test_every_cut_and_every_changed_byte_is_an_error_or_harmless(self):
        """As of the archives; what opens is heard and changed, too."""
        for example in bank_examples():
            layout, data = load_layout(example.layout, example.title), example.files[""]
            changed = [data[:n] for n in range(len(data))]
            changed += [data[:n] + bytes([v]) + data[n + 1 :] for n in range(len(data)) for v in (0, 255)]
            for bad in changed:
                try:
                    bank = DescribedBank(layout, source(bad, "data/example.bin"), None, example.keys)
                    for stream in bank.streams:
                        stream.decode(0, stream.format.frames)
                        new = NewStream(stream.payload, stream.format)
                        bytes_of(bank.rebuild({stream.ordinal: new}, anew=True).source)
                except ZubretError as e:
                    self.assertTrue(e.what and e.where and e.next, f"{example.title}: {e.as_dict()}")


class OpenFormats(SimpleTestCase):
    """General formats described in the language, against other libraries, on open sounds (Debian's alsa-utils)."""

    def opened(self, name: str, data: bytes) -> DescribedArchive:
        layout = load_layout((ROOT / "docs/layouts" / name).read_text("utf-8"), name)
        archive = DescribedArchive(layout, source(data, "x/open.bin"))
        self.assertEqual(bytes_of(archive.rebuild({}, anew=True).source), data)
        return archive

    def test_tar_against_tar_and_tarfile(self):
        """Made by Debian's tar, changed by us, read by tarfile, which checks every header's sum."""
        data = subprocess.run(
            ["tar", "--format=ustar", "-C", OPEN_SOUNDS, "-c", "."], check=True, capture_output=True
        ).stdout
        archive = self.opened("open-tar.yaml", data)
        with tarfile.open(fileobj=io.BytesIO(data)) as theirs:
            members = theirs.getmembers()
            self.assertEqual([e.path for e in archive.entries], [m.name if m.isfile() else "./" for m in members])
            for n, m in enumerate(members):
                if m.isfile():
                    self.assertEqual(bytes_of(archive.open(n)), theirs.extractfile(m).read())
        new = NewEntry("added.txt", source(b"behind the others"))
        built = bytes_of(archive.rebuild({2: source(b"short")}, added=[new]).source)
        with tarfile.open(fileobj=io.BytesIO(built)) as theirs:
            self.assertEqual(theirs.extractfile(theirs.getmembers()[2]).read(), b"short")
            self.assertEqual(theirs.extractfile("added.txt").read(), b"behind the others")
            self.assertEqual(len(theirs.getmembers()), len(members) + 1)

    def test_wave_and_aiff_chunks_against_libsndfile(self):
        for layout, kind, tag, order in (
            ("open-riff.yaml", "WAV", "data", "<i2"),
            ("open-aiff.yaml", "AIFF", "SSND", ">i2"),
        ):
            pcm, rate = soundfile.read(OPEN_SOUNDS / "Noise.wav", dtype="int16")
            out = io.BytesIO()
            soundfile.write(out, pcm, rate, format=kind, subtype="PCM_16")
            archive = self.opened(layout, out.getvalue())
            index = next(n for n, e in enumerate(archive.entries) if e.path == tag)
            skip = 8 if kind == "AIFF" else 0  # offset and block size stand before the samples
            body = bytes_of(archive.open(index))
            self.assertTrue((np.frombuffer(body[skip:], order) == pcm).all())
            fresh = noise(1001, 1)[:, 0]
            payload = body[:skip] + fresh.astype(order).tobytes()
            again, found = soundfile.read(
                io.BytesIO(bytes_of(archive.rebuild({index: source(payload)}).source)), dtype="int16"
            )
            self.assertEqual(found, rate)
            if kind == "WAV":  # AIFF counts its frames in another chunk, too
                self.assertTrue((again == fresh).all())
