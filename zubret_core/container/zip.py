"""ZIP archives. Members are unpacked and packed by the standard library's zipfile; the directory and writing back are ours.

Source: PKWARE APPNOTE.TXT 6.3.10, sections 4.3.7 (local file header), 4.3.9 (data descriptor), 4.3.12 (central directory
header), 4.3.14 to 4.3.16 (end records, ZIP64), 4.5.3 (ZIP64 extra field). A rebuild copies every
untouched member's local record and data as stored, and patches only offsets, sizes and sums; laid anew, records are
written from the directory and only the data is copied.
"""

from __future__ import annotations

import struct
import zipfile
import zlib
from collections.abc import Collection, Iterator, Mapping, Sequence
from lzma import LZMAError
from typing import NamedTuple

import numpy as np

from ..base import ZubretError, nameless, tell
from ..source import (
    Built,
    ChainSource,
    DiskCache,
    OpenFile,
    Part,
    Segment,
    SliceSource,
    Source,
    SourceFile,
    Written,
    crc32_of,
    spooled,
)
from .base import Container, EntryTable, NewEntry
from .zip_directory import ALL_ONES, CENTRAL, END, END64, LOCATOR, Directory, Member, extra_fields

_METHODS = {0: "plain", 8: "deflate", 12: "bzip2", 14: "lzma"}
_LOCAL = struct.Struct("<4s5H3I2H")
_LARGEST = 0xFFFFFFFE
_ENCRYPTED, _STREAMED, _UTF8 = 1, 8, 0x800
"""Bits of the flags (4.4.4)."""
_FAULTS = (zipfile.BadZipFile, zlib.error, EOFError, RuntimeError, NotImplementedError, OSError, ValueError, LZMAError)


class ZipArchive(Container):
    """The members of a ZIP file, folders left out."""

    kind = "zip"
    layout_id = "zip"

    def __init__(self, source: Source):
        self.source = source
        self._directory = directory = Directory(source)
        self._files = np.array([n for n, name in enumerate(directory.names) if name and name[-1] != "/"], np.int64)
        names = {m: _METHODS.get(m, "other") for m in np.unique(directory.method).tolist()}
        self.table = EntryTable(
            [directory.names[n] for n in self._files.tolist()],
            directory.at[self._files],
            directory.stored[self._files],
            directory.size[self._files],
            [names[m] for m in directory.method[self._files].tolist()],
            directory.crc[self._files],
            "",
        )
        self.entries = self.table

    def _member(self, index: int) -> Member:
        return self._directory.member(int(self._files[index]))

    def open(self, index: int, cache: DiskCache | None = None, key: str = "") -> Source:
        member = self._member(index)
        if _is_plain(member):
            return SliceSource(self.source, self._data_at(member), member.stored, member.name)
        return spooled(self._unpacked(member), member.size, member.name, cache, key)

    def _unpacked(self, member: Member) -> Iterator[bytes]:
        try:
            done = 0
            with self._reader(member) as content:
                while piece := content.read(1 << 20):
                    done += len(piece)
                    tell(done, member.size, f"unpacking {member.name}")
                    yield piece
        except _FAULTS as e:
            raise ZubretError(
                f"The member can't be unpacked: {e}.",
                file=member.name,
                next="It is damaged or encrypted: check the archive against another copy.",
            ) from e

    def _reader(self, member: Member) -> zipfile.ZipExtFile:
        """The member's unpacked bytes as a file, whose sum is taken at its end."""
        if member.flags & _ENCRYPTED:
            raise RuntimeError("it is encrypted")
        info = zipfile.ZipInfo(member.name)
        info.compress_type, info.compress_size, info.file_size = member.method, member.stored, member.size
        info.CRC, info.flag_bits = member.crc, member.flags
        stored = SliceSource(self.source, self._data_at(member), member.stored, member.name)
        return zipfile.ZipExtFile(SourceFile(stored), "r", info)

    def _data_at(self, member: Member) -> int:
        """Where the member's data begins, behind its local header."""
        header = _LOCAL.unpack(self.source.read(member.at, _LOCAL.size))
        at = member.at + _LOCAL.size
        if header[0] != b"PK\3\4":
            raise ZubretError("A local file header was expected here.", file=member.name, offset=member.at)
        if header[9] != len(member.raw) or self.source.read(at, header[9]) != member.raw:
            raise ZubretError(
                "The directory and the member's own header give different names.",
                file=member.name,
                offset=member.at,
                next="The archive is damaged: check it against another copy.",
            )
        return at + header[9] + header[10]

    def head(self, index: int, length: int) -> bytes:
        member = self._member(index)
        try:
            if _is_plain(member):
                return self.source.read(self._data_at(member), min(length, member.stored))
            with self._reader(member) as content:
                return content.read(length)
        except (*_FAULTS, ZubretError):
            return b""

    def check(self, index: int, content: Source | None = None) -> None:
        """ZubretError unless the member's unpacked bytes have the CRC-32 that the directory gives."""
        member, found = self._member(index), crc32_of(content or self.open(index))
        if found != member.crc:
            raise ZubretError(
                f"The checksum is {found:08x}, but the directory says {member.crc:08x}.",
                file=member.name,
                next="The member is damaged: check the archive against another copy.",
            )

    def sharing(self, index: int) -> list[int]:
        return []

    def spans(self) -> Sequence[tuple[str, int, int]]:
        return [("", self._data_at(m), m.stored) for m in map(self._member, range(len(self._files)))]

    def is_plain(self, index: int) -> bool:
        return _is_plain(self._member(index))

    def path(self, index: int) -> str:
        return self.table.column("path")[index]

    def sizes(self) -> Sequence[int]:
        return self.table.column("size")

    def _records(self) -> list[tuple[int, int, int]]:
        """Local records in file order: number in the directory, first byte, the byte after."""
        order = np.argsort(self._directory.at, kind="stable")
        starts = self._directory.at[order].tolist()
        ends = [*starts, self._directory.ends.start][1:]
        return list(zip(order.tolist(), starts, ends, strict=True))

    def _numbers(self) -> dict[int, int]:
        """Entries by their numbers in the directory."""
        return {n: index for index, n in enumerate(self._files.tolist())}

    def segments(self) -> list[Segment]:
        number, start = self._numbers(), self._directory.ends.start
        out = [
            Segment("payload" if n in number else "header", at, end - at, "", number.get(n, -1))
            for n, at, end in self._records()
        ]
        out.append(Segment("table", start, self.source.size - start, "directory"))
        return out

    def index_pieces(self) -> list[tuple[int, int]]:
        start = self._directory.ends.start
        return [(start, self.source.size - start)]

    def rebuild(
        self,
        changes: Mapping[int, Source],
        *,
        added: Sequence[NewEntry] = (),
        anew: bool | Collection[str] = False,
        only: Collection[int] | None = None,
    ) -> Built:
        number = self._numbers()
        parts: list[Part] = []
        segments: list[Segment] = []
        places: list[_Placed] = []
        cursor, moved = 0, 0

        def put(kind: str, pieces: list[Part], n: int = -1) -> int:
            nonlocal cursor
            at, length = cursor, sum(p.length for p in pieces)
            parts.extend(pieces)
            segments.append(Segment(kind, at, length, "", n))
            cursor += length
            return at

        records = self._records()
        first = records[0][1] if records else self._directory.ends.start
        if only is not None:
            records, first = [r for r in records if number.get(r[0], -1) in only], 0
        if first:  # bytes before the first member, as in a self-extracting archive
            put("unexplained", [Part(self.source, 0, first)])
        for record, at, end in records:
            n, member = number.get(record, -1), self._directory.member(record)
            if n in changes:
                pieces, sizes = self._new_record(member, changes[n])
                places.append(_Placed(record, member, put("new", pieces, n), *sizes, True))
            else:
                moved += cursor != at
                pieces = (
                    self._same_record(member, end) if anew or only is not None else [Part(self.source, at, end - at)]
                )
                start = put("payload" if n >= 0 else "header", pieces, n)
                places.append(_Placed(record, member, start, member.crc, member.stored, member.size, False))
        self.refuse_known(added)
        for n, entry in enumerate(added):
            flags = 0 if entry.path.isascii() else _UTF8
            member = Member(entry.path, entry.path.encode(), -1, 0, 0, 0, zipfile.ZIP_DEFLATED, flags)
            pieces, sizes = self._new_record(member, entry.content)
            places.append(_Placed(-1, member, put("new", pieces, len(self._files) + n), *sizes, True))
        table = self._new_directory(places, cursor)
        parts.append(Part(Written(table, "directory"), 0, len(table)))
        segments.append(Segment("table", cursor, len(table), "directory"))
        return Built(ChainSource(parts, self.source.name), segments, moved == 0, moved)

    def _new_record(self, member: Member, new: Source) -> tuple[list[Part], tuple[int, int, int]]:
        """Local header and data of a member: the old header's name, time, flags and method where there is one.

        Also its CRC, stored and unpacked bytes. The standard library compresses, in the member's own method.
        """
        if _METHODS.get(member.method) is None:
            raise ZubretError(
                "A member in this compression can't be written back.",
                file=member.name,
                next="Pack the archive again with deflate, or remove this swap.",
            )
        pack = nameless()
        with zipfile.ZipFile(pack, "w") as one:
            fresh = zipfile.ZipInfo(member.name)
            fresh.compress_type, fresh.file_size, fresh.create_system = member.method, new.size, 3
            with one.open(fresh, "w", force_zip64=new.size >= 1 << 31) as out:
                done = 0
                for piece in new.chunks():
                    out.write(piece)
                    done += len(piece)
                    tell(done, new.size, f"packing {member.name}")
            made = one.infolist()[0]
        whole = OpenFile(pack, f"{member.name}, packed")
        header = _LOCAL.unpack(whole.read(0, _LOCAL.size))
        data_at = _LOCAL.size + header[9] + header[10]
        sizes = made.CRC, made.compress_size, made.file_size
        head = self._local_header(member, *sizes) if member.at >= 0 else whole.read(0, data_at)
        return [_header(head, member.name), Part(whole, data_at, made.compress_size)], sizes

    def _same_record(self, member: Member, end: int) -> list[Part]:
        """An untouched member's record, written from what the directory says of it; only its data is copied.

        A data descriptor (4.3.9) has 8-byte sizes where the header has a ZIP64 field; its mark is optional.
        """
        sizes = member.crc, member.stored, member.size
        streamed = bool(member.flags & _STREAMED)
        head = self._local_header(member, *sizes, streamed=streamed)
        data_at = self._data_at(member)
        cursor = data_at + member.stored
        tail = b""
        if streamed:
            extra = head[_LOCAL.size + _LOCAL.unpack(head[: _LOCAL.size])[9] :]
            mark = self.source.read(cursor, min(4, max(0, end - cursor)))
            form = "<I2Q" if any(kind == 1 for kind, _ in extra_fields(extra)) else "<3I"
            tail = (mark if mark == b"PK\7\x08" else b"") + struct.pack(form, *sizes)
            cursor += len(tail)
        if cursor > end:
            raise ZubretError(
                "The member leaves its place.",
                file=member.name,
                offset=member.at,
                next="The archive is damaged: check it against another copy.",
            )
        pieces = [Part(self.source, data_at, member.stored), _header(tail, member.name)]
        return [_header(head, member.name), *pieces, Part(self.source, cursor, end - cursor)]

    def _local_header(self, member: Member, crc: int, stored: int, size: int, *, streamed: bool = False) -> bytes:
        """A member's local header with other sums and sizes; where `streamed` these stand behind the data instead."""
        old = self.source.read(member.at, _LOCAL.size)
        fields = list(_LOCAL.unpack(old))
        behind = self.source.read(member.at + _LOCAL.size, fields[9] + fields[10])
        name, extra = behind[: fields[9]], behind[fields[9] :]
        if streamed:
            return old + behind
        fields[2] &= ~_STREAMED  # no data descriptor: sizes stand in the header
        fields[6] = crc
        (fields[8], fields[7]), extra = _saturated((fields[8], fields[7]), (size, stored), extra)
        fields[10] = len(extra)
        return _LOCAL.pack(*fields) + name + extra

    def _new_directory(self, places: list[_Placed], start: int) -> bytes:
        """The central directory and the end records, for members at their new places."""
        ends = self._directory.ends
        shift = ends.shift
        by_record = {p.record: p for p in places if p.record >= 0}
        out = bytearray()
        for n in range(len(self._directory)):
            if n in by_record:
                out += _central(*self._directory.record(n), by_record[n], shift)
        for placed in places:
            if placed.record < 0:
                name, flags = placed.member.raw, placed.member.flags
                fields = [b"PK\1\2", 0x0314, 20, flags, placed.member.method, 0, 33, 0, 0, 0, len(name), 0, 0, 0, 0]
                out += _central([*fields, 0o600 << 16, 0], name, placed, shift)
        between = self._directory.behind()
        size, count, offset = len(out) + len(between), len(places), start - shift
        out += between
        behind = self.source.read(ends.end_at, self.source.size - ends.end_at)
        end, end64 = list(END.unpack(behind[: END.size])), None
        tail = LOCATOR.pack(b"PK\6\7", 0, 0, 1)
        if ends.end64_at >= 0:
            old = self.source.read(ends.end64_at, ends.end_at - ends.end64_at)
            end64, tail = list(END64.unpack(old[: END64.size])), old[END64.size :]
        elif max(size, offset) > _LARGEST or count > 0xFFFE:
            end64 = [b"PK\6\6", END64.size - 12, 45, 45, 0, 0, 0, 0, 0, 0]
        if end64:
            end64[6:10] = count, count, size, offset
            locator = list(LOCATOR.unpack(tail[-LOCATOR.size :]))
            locator[2] = offset + len(out)
            out += END64.pack(*end64) + tail[: -LOCATOR.size] + LOCATOR.pack(*locator)
        for n, value, most in ((3, count, 0xFFFF), (4, count, 0xFFFF), (5, size, ALL_ONES), (6, offset, ALL_ONES)):
            end[n] = most if end64 and (end[n] == most or value >= most) else value
        return bytes(out) + END.pack(*end) + behind[END.size :]


def _is_plain(member: Member) -> bool:
    return member.method == zipfile.ZIP_STORED and not member.flags & _ENCRYPTED


def _header(data: bytes, name: str) -> Part:
    return Part(Written(data, f"header of {name}"), 0, len(data))


class _Placed(NamedTuple):
    """A member where it will stand; record: its number in the old directory, or -1; fresh: its data was written anew."""

    record: int
    member: Member
    at: int
    crc: int
    stored: int
    size: int
    fresh: bool


def _central(fields: list, behind: bytes, placed: _Placed, shift: int) -> bytes:
    """A directory record with new place and sizes; `behind` is its name, extra fields and comment."""
    name, extra = behind[: fields[10]], behind[fields[10] : fields[10] + fields[11]]
    comment = behind[fields[10] + fields[11] :]
    fields[7] = placed.crc
    if placed.fresh:
        fields[3] &= ~_STREAMED
    old, new = (fields[9], fields[8], fields[16]), (placed.size, placed.stored, placed.at - shift)
    was_wide = ALL_ONES in old
    (fields[9], fields[8], fields[16]), extra = _saturated(old, new, extra)
    fields[11] = len(extra)
    if not was_wide and ALL_ONES in (fields[9], fields[8], fields[16]):
        fields[2] = max(fields[2], 45)
    return CENTRAL.pack(*fields) + name + extra + comment


def _saturated(old: tuple[int, ...], new: tuple[int, ...], extra: bytes) -> tuple[list[int], bytes]:
    """Numbers for 32-bit fields, and the extra field with those that stand in ZIP64 form (APPNOTE 4.5.3).

    A number that stood there before stays there, so that a member in which nothing changed keeps its bytes.
    """
    wide = [o == ALL_ONES or n > _LARGEST for o, n in zip(old, new, strict=True)]
    values = b"".join(struct.pack("<Q", n) for n, w in zip(new, wide, strict=True) if w)
    out, at, done = b"", 0, not values
    while at + 4 <= len(extra):
        kind, length = struct.unpack_from("<HH", extra, at)
        block = extra[at : at + 4 + length]
        if kind == 1 and values:
            rest = block[4 + len(values) :]  # a disk number may follow
            block, done = struct.pack("<HH", 1, len(values) + len(rest)) + values + rest, True
        out += block
        at += 4 + length
    out += extra[at:]
    if not done:
        out += struct.pack("<HH", 1, len(values)) + values
    return [ALL_ONES if w else n for n, w in zip(new, wide, strict=True)], out
