"""Damaged files by the thousand: only a ZubretError ever comes out, soon, and in little memory."""

import io
import math
import os
import random
import resource
import struct
import subprocess
import tarfile
import time
import zipfile
import zlib
from pathlib import Path

import pycdlib
from django.test import SimpleTestCase
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from standin.chart import KEYS, chart
from standin.formats import Sound, towed_bell
from tests.core.test_packets import THEME
from tests.core.test_sift import named, packed_table, pooled
from tests.support import WithFolder, bytes_of, noise, problem_of, small_bell, small_crate, source
from zubret_core.base import ZubretError
from zubret_core.codec import CODECS
from zubret_core.container import LooseFile
from zubret_core.layout import load_layout
from zubret_core.locate import Known, Spot, banks_of, kind_of, open_archive
from zubret_core.locate.drafts import drafts
from zubret_core.locate.survey import ShutRecord, contents
from zubret_core.locate.unknown import likely_start, rank
from zubret_core.sift import sounds_in

ROUNDS = int(os.environ.get("ZUBRET_FUZZ", "150"))
"""Examples of each kind; set ZUBRET_FUZZ higher for a longer run."""
CHART, VOLUMES = chart("1.0", [("a.txt", b"text " * 90, 1), ("b.bin", noise(900).tobytes(), 2)])
BANK, TOW = towed_bell("night", [Sound(1, noise(300, 2), 44100, block=64)])


def tar(mode: str) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode=mode, format=tarfile.PAX_FORMAT) as pack:
        info = tarfile.TarInfo("a/small.bell")
        info.size, info.pax_headers = len(small_bell()), {"size": str(len(small_bell()))}
        pack.addfile(info, io.BytesIO(small_bell()))
    return out.getvalue()


def zipped(data: bytes, name: str = "x.bell") -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as pack:
        pack.writestr(name, data)
    return out.getvalue()


def disc() -> bytes:
    out, image = io.BytesIO(), pycdlib.PyCdlib()
    image.new(joliet=3, rock_ridge="1.09")
    image.add_fp(
        io.BytesIO(small_bell()), len(small_bell()), "/S.BEL;1", joliet_path="/small.bell", rr_name="small.bell"
    )
    image.write_fp(out)
    return out.getvalue()


SEEDS = {
    "small.crate": small_crate(),
    "small.bell": small_bell(),
    "hold.chart": CHART,
    "night.bell": BANK,
    "x.zip": zipped(small_crate(), "in.crate"),
    "x.tar.gz": tar("w:gz"),
    "x.tar": tar("w"),
    "x.iso": disc(),
    "sums.txt": b"SUMS 1\ncbf43926 0000000009 nine.txt\n",
}
UNKNOWN = {
    **SEEDS,
    "x.pool": pooled("end", True, True, "<"),
    "x.named": named("<"),
    "x.packed": packed_table(zlib.compress, True, False, True, "<"),
    "x.ogg": (THEME / "message.oga").read_bytes(),
    "x.raw": noise(3000).tobytes(),
}
BESIDE = {"hold.cargo00": VOLUMES[0], "night.tow": TOW}
KNOWN = Known(keys=lambda layout, path: {"purser": KEYS["1.0"]})


def beside(name: str):
    if name not in BESIDE:
        raise ZubretError("It is not there.", file=name, next="Look for it.")
    return source(BESIDE[name], name)


def spoilt(good: bytes, rng: random.Random, noise_bytes: bytes) -> bytes:
    """A file with up to five bytes, numbers or spans that are others."""
    data = bytearray(good)
    for _ in range(rng.randrange(1, 6)):
        at = rng.randrange(len(data))
        kind = rng.randrange(5)
        if kind == 0:
            data[at] = rng.randrange(256)
        elif kind == 1:
            struct.pack_into("<I", data, min(at, max(0, len(data) - 4)), rng.choice((0, 1, 0xFFFFFFFF, 1 << 31, at)))
        elif kind == 2:
            del data[at : at + rng.randrange(1, 40)]
        elif kind == 3:
            data[at:at] = noise_bytes
        else:
            data[at:] = data[at : at + rng.randrange(100)]
        if len(data) < 5:
            break
    return bytes(data)


def walk(data: bytes, name: str) -> None:
    """Everything that a survey, a listener and a taker-out would do with a file."""
    archive = open_archive(source(data, name), KNOWN, beside)
    if archive is None:
        return
    for n in range(min(8, len(archive.entries))):
        try:
            content = archive.open(n)
            content.read(0, min(content.size, 1 << 16))
            archive.check(n)
        except ZubretError:
            pass
    for bank in banks_of(archive, KNOWN):
        for stream in bank.streams[:4]:
            try:
                CODECS[stream.format.codec].decode(stream.payload, stream.format, 0, min(500, stream.format.frames))
            except ZubretError:
                pass
    if not isinstance(archive, LooseFile):
        archive.segments()
        built = archive.rebuild(
            {n: source(noise(40).tobytes()) for n in range(min(1, len(archive.entries)))}, anew=True
        )
        for _ in built.source.chunks():
            pass


class Mutations(SimpleTestCase):
    @settings(max_examples=ROUNDS, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
    @given(st.sampled_from(sorted(SEEDS)), st.integers(0, 1 << 30), st.binary(max_size=40))
    def test_mutated_files_and_random_bytes(self, name, seed, noise_bytes):
        data = spoilt(SEEDS[name], random.Random(seed), noise_bytes)
        begun = time.monotonic()
        try:
            walk(data, name)
        except ZubretError as e:
            self.assertTrue(e.what and e.next, e.as_dict())
        self.assertLess(time.monotonic() - begun, 20)

    @settings(
        max_examples=max(4, ROUNDS // 15), deadline=None, derandomize=True, suppress_health_check=list(HealthCheck)
    )
    @given(st.sampled_from(sorted(UNKNOWN)), st.integers(0, 1 << 30), st.binary(max_size=40))
    def test_what_nobody_described_is_looked_into_however_damaged(self, name, seed, noise_bytes):
        """Drafts, sounds by their signatures, readings: each is one that loads, lies inside, and can be judged."""
        data = spoilt(UNKNOWN[name], random.Random(seed), noise_bytes)
        for draft in drafts(name, source(data)):
            load_layout(draft.text)
            self.assertTrue(0 < draft.share <= 1 and draft.evidence)
        for hit in sounds_in(source(data)):
            self.assertTrue(0 <= hit.at < hit.at + hit.length <= len(data))
        for candidate in rank(source(data), likely_start(source(data)), len(data)).candidates:
            self.assertTrue(candidate.label and math.isfinite(candidate.score))

    @settings(max_examples=ROUNDS, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
    @given(st.sampled_from(sorted(SEEDS)), st.binary(max_size=400))
    def test_random_bytes_behind_a_good_beginning(self, name, tail):
        try:
            walk(SEEDS[name][: 4 + len(tail) % 60] + tail, name)
        except ZubretError as e:
            self.assertTrue(e.what and e.next, e.as_dict())

    @settings(max_examples=ROUNDS, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
    @given(st.integers(0, 1 << 30))
    def test_layouts_with_a_line_lost_doubled_or_spoilt(self, seed):
        rng = random.Random(seed)
        folder = Path(__file__).parents[2] / "zubret_core/layout/shipped"
        lines = rng.choice(sorted(folder.glob("*.yaml"))).read_text("utf-8").splitlines()
        at = rng.randrange(len(lines))
        change = rng.randrange(4)
        if change == 0:
            del lines[at]
        elif change == 1:
            lines.insert(at, lines[rng.randrange(len(lines))])
        elif change == 2:
            lines[at] = lines[at].replace(
                rng.choice((":", "{", "}", ",", "  ", "e", "u32")), rng.choice(("", "-", "x")), 1
            )
        else:
            lines[at] = "\t" + lines[at]
        try:
            load_layout("\n".join(lines), "mine.yaml")
        except ZubretError as e:
            self.assertRegex(e.where, r"^mine.yaml, field line \d+$")


class Bombs(WithFolder):
    def grown(self, work) -> int:
        """Bytes by which the process's highest memory use has grown."""
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        work()
        return (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) * 1024

    def test_a_gigabyte_of_zeros_in_a_megabyte_is_not_unpacked_to_be_looked_at(self):
        place = self.folder / "bomb.zip"
        subprocess.run(f"head -c 1000000000 /dev/zero | zip -q {place} -", shell=True, check=True)

        def look():
            archive = open_archive(source(place.read_bytes(), "bomb.zip"))
            self.assertEqual(list(banks_of(archive)), [])

        self.assertLess(self.grown(look), 100 << 20)

    def test_a_table_of_four_billion_records_in_a_kilobyte(self):
        for count in (0xFFFFFFFF, 0x7FFFFFFF):
            bad = bytearray(small_crate()[:2048])
            struct.pack_into("<II", bad, 8, count, 0)
            self.assertLess(self.grown(lambda b=bad: problem_of(self, open_archive, source(bytes(b)))), 50 << 20)

    def test_an_archive_nested_many_times_ends(self):
        data = b"the innermost"
        for n in range(40):
            data = zipped(data, f"{n}.zip")
        file = source(data, "x.zip")
        *_, last = contents(Spot.around(open_archive(file)), kind_of(file))
        self.assertIsInstance(last, ShutRecord)
        self.assertEqual(len(last.chain), 17)  # by hand as deep as one likes; a survey stops at 16

    def test_folders_in_a_ring_and_chunks_without_end(self):
        layout = load_layout("""
zubret: 1
id: ring
describes: archive
recognise: [{at: 0, bytes: "52"}]
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: u8}, {name: n, type: u8}]
  - name: folders
    after: head
    repeat: head.n
    fields: [{name: parent, type: u8, means: folder.parent}, {name: name, type: text, length: 1, means: folder.name}]
  - name: table
    after: folders
    until: end
    fields: [{name: folder, type: u8, means: entry.folder}, {name: name, type: text, length: 1, means: entry.name},
             {name: at, type: u8, means: entry.at}, {name: stored, type: u8, means: entry.stored}]
""")
        known = Known([layout])
        error = problem_of(self, open_archive, source(b"R\2\1a\0b\0x\0\0"), known)
        self.assertIn("stands inside itself", error.what)
        still = load_layout("""
zubret: 1
id: still
describes: archive
recognise: [{at: 0, bytes: "53"}]
regions:
  - name: chunk
    at: 0
    until: end
    fields: [{name: id, type: text, length: 1, means: entry.path}, {name: size, type: u8, means: entry.stored}]
    body: {size: size, nested: [S]}
""")
        deep = b""
        for _ in range(100):
            deep = b"S" + bytes([min(255, len(deep))]) + deep
        problem_of(self, open_archive, source(deep[-255:]), Known([still]))

    def test_what_is_taken_out_of_a_bomb_is_no_more_than_its_table_says(self):
        data = bytearray(small_crate())
        (sector,) = struct.unpack_from("<I", data, 12)
        struct.pack_into("<I", data, sector * 2048 + 64, 0xFFFFFFF0)  # 4 GB from a few hundred bytes
        import zlib

        count = struct.unpack_from("<I", data, 8)[0]
        struct.pack_into("<I", data, 16, zlib.crc32(bytes(data[sector * 2048 : sector * 2048 + 76 * count])))
        archive = open_archive(source(bytes(data)))
        self.assertLess(self.grown(lambda: problem_of(self, lambda: bytes_of(archive.open(0)))), 60 << 20)
