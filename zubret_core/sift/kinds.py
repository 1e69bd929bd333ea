"""Whether a sound really stands where its signature does: each kind by what its own document says must be so.

A validator gets a source and a place, and gives the bytes that the sound takes and what it is, or None. It never takes what is
cut short, or what only begins right.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from typing import NamedTuple

import numpy as np

from ..codec.ogg import FIRST, HEAD, LAST, page_at
from ..source import Source
from .flac import frames_end

MOST_CHUNKS = 10_000
MOST_PAGES = 1 << 24
_AU = {1: "8-bit mu-law", 2: "8-bit", 3: "16-bit", 4: "24-bit", 5: "32-bit", 6: "float", 7: "double", 27: "8-bit A-law"}
_W64 = bytes.fromhex("2e91cf11a5d628db04c10000")
"""The end of the identifiers of the first chunk; those of the others end otherwise in two bytes."""
_W64_REST = bytes.fromhex("f3acd3118cd100c04f8edb8a")
_OGG = {b"\x01vorbis": "Ogg Vorbis", b"OpusHead": "Ogg Opus", b"\x7fFLAC": "Ogg FLAC", b"Speex   ": "Ogg Speex"}


class Valid(NamedTuple):
    """Bytes from the beginning, what it is, and the usual ending of its name. file: it can be opened as an audio file; pieces: how
    many chunks, pages or frames have been found right; ends: whether its end is there."""

    length: int
    title: str
    ending: str
    file: bool = True
    pieces: int = 0
    ends: bool = True


def _chunks(
    source: Source, at: int, end: int, head: str, even: int = 2, own: int = 0
) -> Iterator[tuple[bytes, int, int]] | None:
    """Id, place and length of the chunks that fill [at, end) to the last byte; None where they don't. head: how an id and a length
    stand; own: bytes of its own head that a length counts, too."""
    shape = struct.Struct(head)
    out: list[tuple[bytes, int, int]] = []
    while at < end:
        if at + shape.size > end or len(out) > MOST_CHUNKS:
            return None
        name, size = shape.unpack(source.read(at, shape.size))
        body = at + shape.size
        size -= own
        if size < 0 or body + size > end:
            return None
        out.append((name, body, size))
        at = body + size
        at = min(end, at + -at % even if even == 8 else at + (size % even))
    return iter(out)


def riff(source: Source, at: int) -> Valid | None:
    """RIFF of the form WAVE, and RF64 (EBU Tech 3306): the chunks add up to what the head says."""
    if at + 12 > source.size:
        return None
    mark, size, form = struct.unpack("<4sI4s", source.read(at, 12))
    big = mark == b"RIFX"
    if form != b"WAVE":
        return None
    if mark == b"RF64":
        return _rf64(source, at)
    size = int.from_bytes(size.to_bytes(4, "little"), "big") if big else size
    end = at + 8 + size
    if end > source.size:
        return None
    found = _chunks(source, at + 12, end, ">4sI" if big else "<4sI")
    return _wave(found, 8 + size, "WAV")


def _wave(found: Iterator[tuple[bytes, int, int]] | None, length: int, title: str) -> Valid | None:
    chunks = {name: size for name, _, size in found or ()}
    if chunks.get(b"fmt ", 0) < 14 or not chunks.get(b"data"):
        return None
    return Valid(length, title, ".wav", True, len(chunks))


def _rf64(source: Source, at: int) -> Valid | None:
    head = source.read(at, min(44, source.size - at))
    if len(head) < 44 or head[12:16] != b"ds64":
        return None
    size, data = struct.unpack_from("<QQ", head, 20)
    end, place = at + 8 + size, at + 12
    seen: set[bytes] = set()
    if end > source.size:
        return None
    while place + 8 <= end and len(seen) < 64:
        name, length = struct.unpack("<4sI", source.read(place, 8))
        length = data if name == b"data" and length == 0xFFFFFFFF else length
        seen.add(name)
        place += 8 + length + (length & 1)
    whole = place in (end, end + 1) and {b"ds64", b"fmt ", b"data"} <= seen
    return Valid(8 + size, "RF64", ".wav", True, len(seen)) if whole else None


def w64(source: Source, at: int) -> Valid | None:
    """Wave64: identifiers of 16 bytes, lengths of eight that count their own head, chunks at multiples of eight."""
    if at + 40 > source.size:
        return None
    head = source.read(at, 40)
    (size,) = struct.unpack_from("<Q", head, 16)
    if head[4:16] != _W64 or head[24:28] != b"wave" or head[28:40] != _W64_REST or at + size > source.size:
        return None
    place = at + 40
    seen: set[bytes] = set()
    while place + 24 <= at + size and len(seen) < 64:
        name, length = struct.unpack("<16sQ", source.read(place, 24))
        if length < 24 or place + length > at + size:
            return None
        seen.add(name[:4])
        place += length + -length % 8
    return Valid(size, "Wave64", ".w64", True, len(seen)) if {b"fmt ", b"data"} <= seen else None


def form(source: Source, at: int) -> Valid | None:
    """AIFF and AIFF-C: chunks of a FORM, high byte first, that add up."""
    if at + 12 > source.size:
        return None
    _, size, kind = struct.unpack(">4sI4s", source.read(at, 12))
    if kind not in (b"AIFF", b"AIFC") or at + 8 + size > source.size:
        return None
    chunks = {name: length for name, _, length in _chunks(source, at + 12, at + 8 + size, ">4sI") or ()}
    if chunks.get(b"COMM", 0) < 18 or chunks.get(b"SSND", 0) <= 8:
        return None
    return Valid(8 + size, "AIFF" if kind == b"AIFF" else "AIFF-C", ".aiff", True, len(chunks))


def au(source: Source, at: int) -> Valid | None:
    """The .au of workstations: a head whose numbers are all possible, with a length."""
    if at + 24 > source.size:
        return None
    _, start, size, coding, rate, channels = struct.unpack(">4s5I", source.read(at, 24))
    possible = 24 <= start <= 4096 and coding in _AU and 1000 <= rate <= 768_000 and 1 <= channels <= 32
    if not possible or not size or size == 0xFFFFFFFF or at + start + size > source.size:
        return None
    return Valid(start + size, f"AU, {_AU[coding]}", ".au", True, 1)


def caf(source: Source, at: int) -> Valid | None:
    """Core Audio's container: its chunks as far as they are known, with a description first and sound."""
    if at + 8 > source.size or source.read(at + 4, 4) != b"\0\1\0\0":
        return None
    place = at + 8
    seen: list[bytes] = []
    while place + 12 <= source.size and len(seen) < 64:
        name, size = struct.unpack(">4sq", source.read(place, 12))
        known = name in (
            b"desc",
            b"data",
            b"pakt",
            b"chan",
            b"kuki",
            b"free",
            b"info",
            b"mark",
            b"regn",
            b"inst",
            b"uuid",
        )
        known = known or name in (b"strg", b"umid", b"midi", b"ovvw", b"peak", b"edct")
        if not known or not 0 <= size <= source.size - place - 12 or (not seen and name != b"desc"):
            break
        seen.append(name)
        place += 12 + size
    return Valid(place - at, "CAF", ".caf", True, len(seen)) if b"data" in seen else None


def ogg(source: Source, at: int) -> Valid | None:
    """Pages whose checksums are right, from the first of a stream to the last one (RFC 3533)."""
    place, pages, title = at, 0, ""
    open_streams: set[int] = set()
    while place + HEAD.size <= source.size and pages < MOST_PAGES:
        page = page_at(source, place)
        if page is None or (not pages and not page.flags & FIRST):
            break
        if page.flags & FIRST:
            if pages and not open_streams:
                break  # the next file
            open_streams.add(page.serial)
            title = title or next((t for mark, t in _OGG.items() if page.body.startswith(mark)), "")
        elif page.serial not in open_streams:
            break
        if page.flags & LAST:
            open_streams.discard(page.serial)
        place += HEAD.size + len(page.segments) + len(page.body)
        pages += 1
    if pages < 2 or not title:
        return None
    return Valid(place - at, title, ".opus" if title == "Ogg Opus" else ".ogg", True, pages, not open_streams)


def flac(source: Source, at: int) -> Valid | None:
    """FLAC (RFC 9639): blocks of metadata, the first of which describes the stream, and frames whose two checksums are right."""
    place, last, blocks = at + 4, False, 0
    total = 0
    while not last and blocks < 128:
        if place + 4 > source.size:
            return None
        head = source.read(place, 4)
        last, kind, size = bool(head[0] & 0x80), head[0] & 0x7F, int.from_bytes(head[1:], "big")
        if (blocks == 0) != (kind == 0) or kind == 127 or place + 4 + size > source.size or (not blocks and size != 34):
            return None
        if not blocks:
            total = int.from_bytes(source.read(place + 4 + 13, 5), "big") & 0xFFFFFFFFF
        place += 4 + size
        blocks += 1
    end, frames = frames_end(source, place, total)
    return Valid(end - at, "FLAC", ".flac", True, frames) if frames else None


def midi(source: Source, at: int) -> Valid | None:
    """A standard MIDI file: a head, and as many tracks as it says. It holds notes and no sound."""
    if at + 14 > source.size:
        return None
    _, size, kind, tracks, division = struct.unpack(">4sIHHH", source.read(at, 14))
    if size != 6 or kind > 2 or not 0 < tracks <= 4096 or not division or (kind == 0 and tracks != 1):
        return None
    place = at + 14
    for _ in range(tracks):
        if place + 8 > source.size:
            return None
        name, size = struct.unpack(">4sI", source.read(place, 8))
        if name != b"MTrk" or place + 8 + size > source.size or size < 4:
            return None
        place += 8 + size
        if source.read(place - 3, 3) != b"\xff\x2f\0":  # the end of a track
            return None
    return Valid(place - at, "MIDI", ".mid", False, tracks)


def mod(source: Source, at: int) -> Valid | None:
    """A module of 31 samples: lengths, volumes and the order of its patterns are possible, and all of it is there (common practice)."""
    if at < 0 or at + 1084 > source.size:
        return None
    head = source.read(at, 1084)
    mark = head[1080:1084]
    channels = {b"6CHN": 6, b"8CHN": 8}.get(mark, 4)
    length, order = head[950], head[952:1080]
    samples = np.frombuffer(head[20:950], np.uint8).reshape(31, 30)
    if not 1 <= length <= 128 or max(order) > 127 or (samples[:, 24] > 15).any() or (samples[:, 25] > 64).any():
        return None
    words = samples[:, 22:24].astype(int) @ [256, 1]
    size = 1084 + (max(order) + 1) * 256 * channels + 2 * int(words.sum())
    if not words.any() or at + size > source.size:
        return None
    return Valid(size, "module (MOD)", ".mod", False, 31)


def xm(source: Source, at: int) -> Valid | None:
    """An extended module: its patterns, instruments and samples follow one another (common practice)."""
    head = source.read(at, min(80, source.size - at))
    if len(head) < 80 or head[:17] != b"Extended Module: " or head[37] != 0x1A or head[58:60] != b"\4\1":
        return None
    size, _, _, _, patterns, instruments = struct.unpack_from("<IHHHHH", head, 60)
    place = at + 60 + size

    def numbers(shape: str, at: int) -> tuple[int, ...] | None:
        width = struct.calcsize(shape)
        return struct.unpack(shape, source.read(at, width)) if at + width <= source.size else None

    for _ in range(patterns):
        found = numbers("<IBHH", place)
        if found is None or found[0] < 9:
            return None
        place += found[0] + found[3]
    for _ in range(instruments):
        found = numbers("<I", place)
        count = numbers("<H", place + 27)
        if found is None or count is None or found[0] < 29:
            return None
        width = (numbers("<I", place + 29) or (40,))[0] if count[0] else 0
        place += found[0]
        sounds = 0
        for n in range(count[0]):
            length = numbers("<I", place + n * width)
            if length is None:
                return None
            sounds += length[0]
        place += count[0] * width + sounds
    if place > source.size or not 0 < patterns <= 256 or not instruments <= 256:
        return None
    return Valid(place - at, "module (XM)", ".xm", False, instruments)


def s3m(source: Source, at: int) -> Valid | None:
    """A module whose places count in 16 bytes: all patterns and instruments are where its tables say (common practice)."""
    if at < 0:
        return None
    file = _Places(source, at)
    head = file.read(0, 96)
    if head is None or head[28:30] != b"\x1a\x10":
        return None
    orders, instruments, patterns = struct.unpack_from("<HHH", head, 32)
    table = file.read(96 + orders, 2 * (instruments + patterns))
    if not table or not 0 < patterns <= 256 or instruments > 256 or orders > 256:
        return None
    places = [16 * place for place in struct.unpack(f"<{instruments + patterns}H", table)]
    for place in places[:instruments]:
        record = file.read(place, 80)
        if record is None or (record[0] and record[76:79] != b"SCR"):
            return None
        if record[0] == 1:
            segment, (length,) = record[13] << 16 | record[14] | record[15] << 8, struct.unpack_from("<I", record, 16)
            file.take(16 * segment, length << (record[31] >> 2 & 1) << (record[31] >> 1 & 1))
    for place in filter(None, places[instruments:]):
        size = file.read(place, 2)
        file.take(place, struct.unpack("<H", size)[0] if size else source.size)
    return file.valid("module (S3M)", ".s3m", instruments)


def it(source: Source, at: int) -> Valid | None:
    """A module with instruments, samples and patterns at places that its tables say, samples packed or not (common practice)."""
    file = _Places(source, at)
    head = file.read(0, 192)
    if head is None:
        return None
    orders, instruments, samples, patterns = struct.unpack_from("<HHHH", head, 32)
    table = file.read(192 + orders, 4 * (instruments + samples + patterns))
    if not table or not 0 < patterns <= 256 or max(instruments, samples) > 256 or orders > 256:
        return None
    places = struct.unpack(f"<{instruments + samples + patterns}I", table)
    if head[46] & 1:
        file.take(*reversed(struct.unpack_from("<HI", head, 54)))
    for place in places[:instruments]:
        record = file.read(place, 554)
        if record is None or record[:4] != b"IMPI":
            return None
    for place in places[instruments : instruments + samples]:
        record = file.read(place, 80)
        if record is None or record[:4] != b"IMPS":
            return None
        flags, (length,), (there,) = (
            record[18],
            struct.unpack_from("<I", record, 48),
            struct.unpack_from("<I", record, 72),
        )
        if not flags & 1:
            continue
        if flags & 8:  # packed: blocks of 32,768 bytes, each behind its length
            for _ in range(-(-length // (0x4000 if flags & 2 else 0x8000)) << (flags >> 2 & 1)):
                size = file.read(there, 2)
                if size is None:
                    return None
                there += 2 + struct.unpack("<H", size)[0]
            file.take(there, 0)
        else:
            file.take(there, length << (flags >> 1 & 1) << (flags >> 2 & 1))
    for place in filter(None, places[instruments + samples :]):
        size = file.read(place, 8)
        file.take(place, 8 + struct.unpack_from("<H", size)[0] if size else source.size)
    return file.valid("module (IT)", ".it", samples)


class _Places:
    """What a module takes of a source from `at` on: its end is the end of the last thing to which its tables point."""

    def __init__(self, source: Source, at: int):
        self._source, self._at, self._end = source, at, 0

    def read(self, place: int, size: int) -> bytes | None:
        """Bytes of it, which count as taken; None where they are not all there."""
        self.take(place, size)
        there = self._at + place
        return self._source.read(there, size) if there + size <= self._source.size else None

    def take(self, place: int, size: int) -> None:
        """Something stands there."""
        self._end = max(self._end, place + size)

    def valid(self, title: str, ending: str, pieces: int) -> Valid | None:
        """The module; None where not all is there."""
        return Valid(self._end, title, ending, False, pieces) if self._at + self._end <= self._source.size else None


VALID: dict[str, Callable[[Source, int], Valid | None]] = {
    "riff": riff, "w64": w64, "form": form, "au": au, "caf": caf, "ogg": ogg, "flac": flac, "midi": midi, "mod": mod, "xm": xm,
    "s3m": s3m, "it": it,
}  # fmt: skip
