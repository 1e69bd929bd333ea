"""What is in here?: sounds are found where they stand, and nowhere else. Drafts of layouts from what is seen.

Sources: RIFF and RF64 (EBU Tech 3306), AIFF, RFC 3533 (Ogg), RFC 9639 (FLAC), ISO/IEC 11172-3; all files but MIDI and modules are
written by libsndfile.
"""

import bz2
import io
import itertools
import os
import struct
import time
import zlib
from pathlib import Path
from unittest.mock import patch

import lz4.block
import numpy as np
import soundfile
import zstandard
from django.test import SimpleTestCase
from numba import njit

from tests.support import bytes_of, demo_game, source
from zubret_core.codec import codec_of
from zubret_core.container import DescribedArchive
from zubret_core.layout import load_layout, shipped_layouts
from zubret_core.locate import Known
from zubret_core.locate.drafts import Beside, drafts
from zubret_core.locate.misses import tried
from zubret_core.sift import marks, sounds_in
from zubret_core.sift.marks import KINDS as KINDS_OF_MARKS
from zubret_core.sift.marks import MARKS, Window
from zubret_core.source import BytesSource, FileSource

KINDS = {
    "WAV": ("WAV", "PCM_16"), "RF64": ("RF64", "PCM_24"), "Wave64": ("W64", "PCM_16"), "AIFF": ("AIFF", "PCM_16"),
    "AU, 16-bit": ("AU", "PCM_16"), "CAF": ("CAF", "PCM_16"), "Ogg Vorbis": ("OGG", "VORBIS"), "FLAC": ("FLAC", "PCM_16"),
    "Ogg Opus": ("OGG", "OPUS"), "MPEG layer 3": ("MP3", "MPEG_LAYER_III"),
}  # fmt: skip
MIDI = b"MThd" + struct.pack(">IHHH", 6, 0, 1, 96) + b"MTrk" + struct.pack(">I", 8) + b"\0\x90\x40\x40\0\xff\x2f\0"
MEGABYTES = 1024 if int(os.environ.get("ZUBRET_FUZZ", "0")) > 1000 else 160
"""Of noise, and of files of Debian's packages, that are looked through."""


def tone(seconds: float, pitch: float, rate: int = 48000) -> np.ndarray:
    t = np.arange(int(rate * seconds)) / rate
    return (0.3 * np.sin(2 * np.pi * pitch * t) * np.exp(-t)).astype(np.float32)


def written(container: str, subtype: str, pcm: np.ndarray) -> bytes:
    out = io.BytesIO()
    soundfile.write(out, pcm, 48000, format=container, subtype=subtype)
    return out.getvalue()


def module() -> bytes:
    """One pattern of four channels, one sample of 64 bytes."""
    sample = bytes(22) + struct.pack(">HBBHH", 32, 0, 64, 0, 1)
    return (
        b"a tune".ljust(20, b"\0")
        + sample
        + bytes(30 * 30)
        + bytes([1, 127])
        + bytes(128)
        + b"M.K."
        + bytes(1024)
        + bytes(64)
    )


def s3m() -> bytes:
    """One order, one sample of 100 bytes, one pattern."""
    head = b"a tune".ljust(28, b"\0") + b"\x1a\x10\0\0" + struct.pack("<HHH6x", 2, 1, 1) + b"SCRM" + bytes(48)
    sample = b"\1" + bytes(12) + b"\0" + struct.pack("<HI", 15, 100)
    pattern = struct.pack("<H", 10) + bytes(8)
    start = head + b"\0\xff" + struct.pack("<HH", 7, 14)
    return (
        (start.ljust(112, b"\0") + sample.ljust(76, b"\0") + b"SCRS").ljust(224, b"\0")
        + pattern.ljust(16, b"\0")
        + bytes(100)
    )


def it() -> bytes:
    """One instrument, two samples, of which one is packed, one pattern."""
    head = b"IMPM" + bytes(28) + struct.pack("<HHHH", 1, 1, 2, 1) + bytes(152) + b"\xff"
    records = [193 + 16, 193 + 16 + 554, 193 + 16 + 634, 193 + 16 + 714]
    plain, packed = records[3] + 8, records[3] + 58
    samples = b"".join(
        b"IMPS".ljust(18, b"\0")
        + bytes([flags])
        + bytes(29)
        + struct.pack("<I", length)
        + bytes(20)
        + struct.pack("<I4x", at)
        for flags, length, at in ((1, 50, plain), (9, 40_000, packed))
    )
    blocks = struct.pack("<H", 30) + bytes(30) + struct.pack("<H", 9) + bytes(9)
    return head + struct.pack("<4I", *records) + b"IMPI".ljust(554, b"\0") + samples + bytes(8) + bytes(50) + blocks


MODULES = {"module (MOD)": module(), "module (S3M)": s3m(), "module (IT)": it()}


class Sifting(SimpleTestCase):
    def test_every_mark_is_seen_wherever_it_stands(self):
        """Against a plain search, also at both ends of what is looked at, over edges of blocks, and where there are too many for once."""
        data = bytearray(np.random.default_rng(4).bytes(70_000))
        for n in range(3000):
            mark = list(MARKS)[n % len(MARKS)]
            data[22 * n : 22 * n + 4] = mark
            data[22 * n + n % 7 + 4 : 22 * n + n % 7 + 8] = mark
        window = Window(BytesSource(bytes(data)), len(data))
        for begin, end in ((0, 1), (0, 70_000), (1, 70_000), (2046, 4097), (4089, 4096)):
            found, seen = set(), begin
            while seen < end:
                some, seen = window.candidates(seen, end)
                found |= set(some)
            wanted = {
                (at - back, kind)
                for mark, (kind, back) in MARKS.items()
                for at in range(begin, end)
                if data[at : at + 4] == mark
            }
            self.assertEqual({hit for hit in found if hit[1] in KINDS_OF_MARKS}, wanted)

    def test_every_processor_sees_the_same(self):
        data = np.frombuffer(b"".join([*MARKS, b"\xff\xfb\x90", b"\xff\xf1\x50"]) + bytes(64), np.uint8)
        last = 4 * len(MARKS)
        starts = {*range(0, last, 4), last, last + 3}
        for n in range(len(marks.LOOKUPS) + 1):
            with self.subTest(marks.LOOKUPS[n:]), patch.object(marks, "LOOKUPS", marks.LOOKUPS[n:]):
                tested = njit(lambda data, at: marks._tested(data, at))
                seen = {at + n for at in (0, 8) for n in range(64) if int(tested(data, np.uint64(at))) >> n & 1}
            self.assertEqual(seen, starts)

    def test_every_kind_is_found_where_it_stands_and_heard(self):
        rng = np.random.default_rng(3)
        files = {title: written(*how, tone(1.5, 220 + 30 * n)) for n, (title, how) in enumerate(KINDS.items())}
        files |= {"MIDI": MIDI, **MODULES}
        # A WAV file whose sound is MPEG audio: what is inside is told once.
        inner = files["MPEG layer 3"]
        head = struct.pack("<4sIHHIIHHH", b"fmt ", 18, 0x55, 1, 48000, 8000, 1, 0, 0)
        files["holder"] = b"RIFF" + struct.pack("<I", 4 + len(head) + 8 + len(inner)) + b"WAVE" + head
        files["holder"] += b"data" + struct.pack("<I", len(inner)) + inner
        whole, wanted = b"", []
        for title, data in files.items():
            whole += rng.bytes(int(rng.integers(1, 300)))
            wanted.append((len(whole), len(data), "WAV" if title == "holder" else title))
            whole += data
        whole += b"the end"
        hits = list(sounds_in(source(whole)))
        self.assertEqual([(h.at, h.length, h.title) for h in hits], wanted)
        for hit, (title, data) in zip(hits, files.items(), strict=True):
            self.assertEqual(bytes_of(hit.open(source(whole))), data)
            self.assertTrue(hit.reason and hit.ending)
            if title in KINDS:
                pcm = codec_of(hit.format).decode(hit.open(source(whole)), hit.format, 0, hit.format.frames)
                expected, rate = soundfile.read(io.BytesIO(data), always_2d=True)
                self.assertEqual((hit.format.rate, len(pcm)), (rate, len(expected)), title)

    def test_what_is_cut_short_or_flipped_is_no_whole_sound(self):
        rng = np.random.default_rng(4)
        for title, how in KINDS.items():
            data = written(*how, tone(0.5, 330))
            with self.subTest(title):
                self.assertNotIn(len(data), [h.length for h in sounds_in(source(data[:-1]))])
                at = int(rng.integers(0, 4))
                flipped = data[:at] + bytes([data[at] ^ 0xFF]) + data[at + 1 :]
                self.assertNotIn((0, len(data)), [(h.at, h.length) for h in sounds_in(source(flipped))])
        for data in (MIDI, *MODULES.values()):
            self.assertEqual(list(sounds_in(source(data[:-1]))), [])

    def test_windows_are_seamless(self):
        """A sound that begins anywhere around the end of a window is found, and one that is longer than one."""
        sound = written("WAV", "PCM_16", tone(0.2, 440))
        speech = written("MP3", "MPEG_LAYER_III", tone(0.5, 440))
        for back in (*range(0, 20), 1000, 5000):
            for data in (sound, speech):
                whole = bytes((1 << 20) - back) + data + bytes(100)
                self.assertEqual([(h.at, h.length) for h in sounds_in(source(whole))], [((1 << 20) - back, len(data))])
        long = written("FLAC", "PCM_16", np.random.default_rng(1).uniform(-1, 1, 48000 * 30).astype(np.float32))
        self.assertGreater(len(long), 2 << 20)
        self.assertEqual(
            [(h.at, h.length) for h in sounds_in(source(b"x" + long + sound))],
            [(1, len(long)), (1 + len(long), len(sound))],
        )

    def test_nothing_is_found_in_noise_programs_pictures_and_texts(self):
        """Debian's own files: what is found there must be a sound to libsndfile, too, with as many frames."""
        rng = np.random.default_rng(5)
        for _ in range(MEGABYTES // 16):
            self.assertEqual(list(sounds_in(source(rng.bytes(16 << 20)))), [])
        kinds = {
            "programs": "/usr/lib",
            "pictures": "/usr/share/icons",
            "texts": "/usr/share/doc",
            "more": "/usr/share",
        }
        for title, top in kinds.items():
            left = (MEGABYTES << 20) // (1 if title == "programs" else 8)
            for folder, _, names in os.walk(top):
                for place in sorted(Path(folder, name) for name in names):
                    if (
                        left < 0
                        or place.is_symlink()
                        or not place.is_file()
                        or place.stat().st_size > left + (64 << 20)
                    ):
                        continue
                    left -= place.stat().st_size
                    with FileSource(place) as file:
                        for hit in sounds_in(file):
                            pcm = soundfile.info(io.BytesIO(bytes_of(hit.open(file))))
                            self.assertEqual(pcm.frames, hit.format.frames, (place, hit))


TEXTS = [b"The tide of pier %d rises; " % n * (4 + n * 7 % 60) for n in range(20)]
NAMES = [f"log/pier{'x' * (n % 5)}{n:02}.txt" for n in range(20)]


def deflated(data: bytes) -> bytes:
    packer = zlib.compressobj(6, zlib.DEFLATED, -15)
    return packer.compress(data) + packer.flush()


def archive(pack, order: str = "<", base: int = 816) -> bytes:
    """A head, records of 40 bytes, payloads at multiples of 16."""
    records = payloads = b""
    for name, text in zip(NAMES, TEXTS, strict=True):
        packed = pack(text)
        records += name.encode().ljust(24, b"\0") + struct.pack(
            order + "IIII", base + len(payloads), len(packed), len(text), 7
        )
        payloads += packed + bytes(-len(packed) % 16)
    return b"PACK" + struct.pack(order + "III", 20, 16, 0) + records + payloads


def named(order: str) -> bytes:
    """Names that end in zero, three numbers behind each."""
    records, payloads, base = b"", b"", 12 + sum(len(n) + 13 for n in NAMES)
    for name, text in zip(NAMES, TEXTS, strict=True):
        packed = zlib.compress(text)
        records += name.encode() + b"\0" + struct.pack(order + "III", base + len(payloads), len(text), len(packed))
        payloads += packed
    return b"NAMD" + struct.pack(order + "II", 20, base) + records + payloads


def at_the_end() -> bytes:
    """Places and sizes of 64 bits behind the payloads."""
    records = payloads = b""
    for text in TEXTS:
        records += struct.pack("<QQ", 16 + len(payloads), len(text))
        payloads += text
    return b"TAIL" + struct.pack("<IQ", 20, 16 + len(payloads)) + payloads + records


def pooled(place: str, absolute: bool, told: bool, order: str) -> bytes:
    """An archive whose records point to their names, the last name first."""
    starts, names = {}, b""
    for n in reversed(range(len(NAMES))):
        starts[n] = len(names)
        names += NAMES[n].encode() + b"\0"
    length = 12 * len(TEXTS)
    table = 32 + (-(-len(names) // 4) * 4 if place == "front" else 0)
    begin = table + length + (len(names) if place == "behind" else 0)
    begin += -begin % 16
    payloads, spans = b"", []
    for text in TEXTS:
        spans.append((begin + len(payloads), len(text)))
        payloads += text + bytes(-len(text) % 16)
    pool = {"front": 32, "behind": table + length, "end": begin + len(payloads)}[place]
    records = b"".join(struct.pack(f"{order}III", starts[n] + pool * absolute, *span) for n, span in enumerate(spans))
    head = b"POOL" + struct.pack(f"{order}IIII", len(TEXTS), *((table, pool, len(names)) if told else (2**32 - 1,) * 3))
    out = bytearray(begin + len(payloads) + (len(names) if place == "end" else 0))
    for at, piece in ((0, head), (pool, names), (table, records), (begin, payloads)):
        out[at : at + len(piece)] = piece
    return bytes(out)


def packed_table(pack, fixed: bool, front: bool, told: bool, order: str) -> bytes:
    """An archive whose table is packed, with payloads packed by zlib behind it or in front of it."""
    payloads = [zlib.compress(text) for text in TEXTS]
    begin, table = 32, b""
    while True:  # the table's length decides where payloads stand behind it, and these what the table says
        at, records = begin, b""
        for name, text, payload in zip(NAMES, TEXTS, payloads, strict=True):
            records += name.encode().ljust(32, b"\0") if fixed else name.encode() + b"\0"
            records += struct.pack(f"{order}III", at, len(payload), len(text))
            at += -(-len(payload) // 16) * 16
        table = pack(records)
        behind = 32 + -(-len(table) // 16) * 16 if front else 32
        if behind == begin:
            break
        begin = behind
    head = b"PTAB" + struct.pack(f"{order}II", len(TEXTS), 32 if front else at)
    head += struct.pack(f"{order}II", len(table), len(records)) if told else b""
    body = b"".join(p + bytes(-len(p) % 16) for p in payloads)
    table += bytes(-len(table) % 16) if front else b""
    return head.ljust(32, b"\0") + (table + body if front else body + table)


class Drafts(SimpleTestCase):
    def test_archives_are_drafted_as_they_are_packed(self):
        """The first draft gives every entry as it was packed, by its name where it has one, explains all, and gives the file back."""
        made = {
            "zlib": archive(zlib.compress), "deflate": archive(deflated), "big": archive(zlib.compress, ">"),
            "lz4": archive(lambda t: lz4.block.compress(t, store_size=False)),
            "sized": archive(lambda t: len(t).to_bytes(4, "little") + zlib.compress(t)),
            "named": named(">"), "named, little": named("<"), "end": at_the_end(),
        }  # fmt: skip
        for title, data in made.items():
            with self.subTest(title):
                best = drafts("hold.dat", source(data))[0]
                self.assertGreater(best.share, 0.99)
                found = DescribedArchive(load_layout(best.text), source(data))
                self.assertEqual([bytes_of(found.open(n)) for n in range(len(found.entries))], TEXTS)
                if title != "end":
                    self.assertEqual([e.path for e in found.entries], NAMES)
                self.assertEqual(bytes_of(found.rebuild({}, anew=True).source), data)
                self.assertTrue(all(line for line in best.evidence) and best.evidence)

    def drafted(self, data: bytes, moves: bool = True) -> None:
        """The first draft explains all, gives names and contents and the file back; and where what stands behind may move, reads what it
        wrote with a longer entry."""
        best = drafts("hold.dat", source(data))[0]
        self.assertGreater(best.share, 0.99)
        found = DescribedArchive(load_layout(best.text), source(data))
        self.assertEqual([e.path for e in found.entries], NAMES)
        self.assertEqual([bytes_of(found.open(n)) for n in range(len(found.entries))], TEXTS)
        self.assertEqual(bytes_of(found.rebuild({}, anew=True).source), data)
        if moves:
            longer = bytes_of(found.rebuild({1: source(b"longer" * 900)}).source)
            again = DescribedArchive(load_layout(best.text), source(longer))
            self.assertEqual(([e.path for e in again.entries], bytes_of(again.open(1))), (NAMES, b"longer" * 900))

    def test_names_may_stand_apart_from_the_table(self):
        """In front of it, behind it, or at the end; counted from the file's beginning or from their own; with and without numbers of the
        head that say where they are."""
        for k, (place, absolute, told) in enumerate(
            itertools.product(("front", "behind", "end"), (True, False), (True, False))
        ):
            order = "<>"[k // 2 % 2]
            data = pooled(place, absolute, told, order)
            with self.subTest(place, absolute=absolute, told=told, order=order):
                self.drafted(data, moves=place != "end" or told)  # else nothing says where the names go

    def test_a_table_may_be_packed(self):
        """Behind the payloads or in front of them, by what the head says or up to the end, with names of one length or of any."""
        for pack, fixed, front, told, order in (
            (zlib.compress, True, False, True, "<"), (zlib.compress, True, True, True, ">"),
            (zstandard.ZstdCompressor().compress, False, False, False, "<"), (bz2.compress, False, False, True, ">"),
        ):  # fmt: skip
            data = packed_table(pack, fixed, front, told, order)
            with self.subTest(pack=pack, fixed=fixed, front=front):
                self.drafted(data)

    def test_a_table_may_point_into_a_file_beside_it(self):
        """Packed payloads by a table in a file of its own, then places in sectors, then names of any length; a file that is no part of it
        stands there, too. Seen from the payloads, the other file is named."""
        whole, sectors, close = archive(zlib.compress, base=0), bytearray(), bytearray()
        index, named_index = b"TABL" + struct.pack(">I", 20), b"NAMD" + struct.pack("<I", 20)
        for n, text in enumerate(TEXTS):
            index += struct.pack(">III", 700 + n, len(sectors) // 2048, len(text))
            named_index += NAMES[n].encode() + b"\0" + struct.pack("<II", len(close), len(text))
            sectors += text + bytes(-len(text) % 2048)
            close += text + bytes(-len(text) % 16)
        for head, payloads in ((whole[:816], whole[816:]), (index, bytes(sectors)), (named_index, bytes(close))):
            files = {"Hold.idx": head, "hold.DAT": payloads, "more.bin": np.random.default_rng(2).bytes(300_000)}
            beside = Beside(
                {name: len(data) for name, data in files.items()}, lambda name, of=files: source(of[name], name)
            )
            best = drafts("Hold.idx", source(head, "Hold.idx"), beside)[0]
            found = DescribedArchive(load_layout(best.text), source(head, "Hold.idx"), beside.open)
            self.assertEqual([bytes_of(found.open(n)) for n in range(len(found.entries))], TEXTS)
            built = found.rebuild({}, anew=True)
            self.assertEqual((bytes_of(built.source), bytes_of(built.others["hold.DAT"].source)), (head, payloads))
            there = drafts("hold.DAT", source(payloads, "x/hold.DAT"), beside)[0]
            self.assertEqual((there.beside, there.items, there.text), ("Hold.idx", 20, ""))

    def test_large_tables_are_found_whole_and_soon(self):
        """Of 40,000 entries, in front and behind, with names of fixed and of any length."""
        rng = np.random.default_rng(9)
        sizes = rng.integers(20, 60, 40_000)
        names = [f"snd/{n:05}{'x' * (n % 7)}.wav".encode() for n in range(len(sizes))]
        payloads = rng.bytes(int(sizes.sum()))
        for fixed, front in ((True, True), (True, False), (False, True)):
            texts = [name.ljust(28, b"\0") if fixed else name + b"\0" for name in names]
            length = sum(map(len, texts)) + 8 * len(texts)
            places = (12 + length if front else 12) + np.cumsum(sizes) - sizes
            table = b"".join(
                text + struct.pack("<II", at, size)
                for text, at, size in zip(texts, places.tolist(), sizes.tolist(), strict=True)
            )
            head = b"MANY" + struct.pack("<II", len(sizes), 12 if front else 12 + len(payloads))
            begun = time.monotonic()
            best = drafts("many.pak", source(head + (table + payloads if front else payloads + table)))[0]
            self.assertEqual((best.items, round(best.share, 3)), (len(sizes), 1.0))
            self.assertEqual(best.places, frozenset(places.tolist()))
            self.assertLess(time.monotonic() - begun, 60)

    def test_nothing_is_drafted_from_noise_and_nothing_fails(self):
        rng = np.random.default_rng(7)
        for n in range(6):
            data = bytes(rng.integers(0, (256, 3)[n % 2], int(rng.integers(0, 20_000)), dtype=np.uint8))
            for draft in drafts("x", source(data)):
                DescribedArchive(load_layout(draft.text), source(data))
        for nothing in (b"", b"x", rng.bytes(200_000)):
            self.assertEqual(drafts("x", source(nothing)), [])

    def test_near_misses_are_told_by_what_misses(self):
        """A mark with one other byte, another version, a file that is cut."""
        known = Known(list(shipped_layouts()))

        data = (demo_game() / "data/sea.crate").read_bytes()
        whole = tried(source(data, "data/sea.crate"), known, None, "data/sea.crate")[0]
        self.assertEqual((whole.layout.id, whole.fits, whole.against), ("saltglass-crate", True, ""))
        other = tried(source(b"SFCX" + data[4:], "data/sea.crate"), known, None, "data/sea.crate")[0]
        self.assertEqual((other.layout.id, other.fits, other.offset), ("saltglass-crate", False, 0))
        self.assertIn("53 46 43 58 and not 53 46 43 52", other.against)
        newer = tried(source(data[:4] + b"\4" + data[5:], "data/sea.crate"), known, None, "data/sea.crate")[0]
        self.assertEqual((newer.layout.id, newer.reads, newer.marks), ("saltglass-crate", False, (4, 4)))
        self.assertIn("head.version", newer.against)
        cut = tried(source(data[: len(data) // 2], "data/sea.crate"), known, None, "data/sea.crate")
        self.assertTrue(all(t.against for t in cut))
