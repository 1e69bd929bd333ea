"""ZIP archives. Listing and unpacking by the standard library's zipfile; writing back is ours.

Source: PKWARE APPNOTE.TXT 6.3.10, sections 4.3.7 (local file header), 4.3.12 (central directory
header), 4.3.14 to 4.3.16 (end records, ZIP64), 4.5.3 (ZIP64 extra field). A rebuild copies every
untouched member's local record and data as stored, and patches only offsets, sizes and sums; laid anew, records are
written from the directory and only the data is copied.
"""

from __future__ import annotations

import io
import struct
import zipfile
import zlib
from collections.abc import Collection, Mapping, Sequence
from tempfile import TemporaryFile
from typing import NamedTuple

from ..base import ZubretError
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
from .base import Container, Entry, NewEntry

_METHODS = {0: "plain", 8: "deflate", 12: "bzip2", 14: "lzma"}
_LOCAL = struct.Struct("<4s5H3I2H")
_CENTRAL = struct.Struct("<4s6H3I5H2I")
_END = struct.Struct("<4s4H2IH")
_END64 = struct.Struct("<4sQ2H2I4Q")
_LOCATOR = struct.Struct("<4sIQI")
_ALL_ONES, _LARGEST = 0xFFFFFFFF, 0xFFFFFFFE


class ZipArchive(Container):
    """The members of a ZIP file, folders left out."""

    kind = "zip"
    layout_id = "zip"

    def __init__(self, source: Source):
        self.source = source
        try:
            self._zip = zipfile.ZipFile(io.BufferedReader(SourceFile(source)))
            self._infos = [i for i in self._zip.infolist() if i.filename and not i.is_dir()]
        except (zipfile.BadZipFile, NotImplementedError, ValueError, struct.error) as e:
            raise ZubretError(
                f"The ZIP file can't be read: {e}.",
                file=source.name,
                next="It is damaged or cut short: check it against another copy.",
            ) from e
        self.entries: Sequence[Entry] = [
            Entry(
                i.filename, i.header_offset, i.compress_size, i.file_size, _METHODS.get(i.compress_type, "other"), i.CRC
            )
            for i in self._infos
        ]

    def open(self, index: int, cache: DiskCache | None = None, key: str = "") -> Source:
        info, entry = self._infos[index], self.entries[index]
        if info.compress_type == zipfile.ZIP_STORED and not info.flag_bits & 1:
            return SliceSource(self.source, self._data_at(info), entry.stored, entry.path)
        return spooled(self._unpacked(info), entry.size, entry.path, cache, key)

    def _unpacked(self, info: zipfile.ZipInfo):
        try:
            with self._zip.open(info) as member:
                while piece := member.read(1 << 20):
                    yield piece
        except (zipfile.BadZipFile, zlib.error, EOFError, RuntimeError, NotImplementedError, OSError) as e:
            raise ZubretError(
                f"The member can't be unpacked: {e}.",
                file=info.filename,
                next="It is damaged or encrypted: check the archive against another copy.",
            ) from e

    def _data_at(self, info: zipfile.ZipInfo) -> int:
        header = _LOCAL.unpack(self.source.read(info.header_offset, _LOCAL.size))
        if header[0] != b"PK\3\4":
            raise ZubretError("A local file header was expected here.", file=info.filename, offset=info.header_offset)
        return info.header_offset + _LOCAL.size + header[9] + header[10]

    def head(self, index: int, length: int) -> bytes:
        try:
            with self._zip.open(self._infos[index]) as member:
                return member.read(length)
        except (zipfile.BadZipFile, zlib.error, EOFError, RuntimeError, NotImplementedError, OSError):
            return b""

    def check(self, index: int) -> None:
        """ZubretError unless the member's unpacked bytes have the CRC-32 that the directory gives."""
        found = crc32_of(self.open(index))
        if found != self.entries[index].crc32:
            raise ZubretError(
                f"The checksum is {found:08x}, but the directory says {self.entries[index].crc32:08x}.",
                file=self.entries[index].path,
                next="The member is damaged: check the archive against another copy.",
            )

    def sharing(self, index: int) -> list[int]:
        return []

    def spans(self) -> Sequence[tuple[str, int, int]]:
        return [("", self._data_at(i), i.compress_size) for i in self._infos]

    def is_plain(self, index: int) -> bool:
        info = self._infos[index]
        return info.compress_type == zipfile.ZIP_STORED and not info.flag_bits & 1

    def _records(self) -> list[tuple[zipfile.ZipInfo, int, int]]:
        """Local records in file order: member, first byte, the byte after."""
        infos = sorted(self._zip.infolist(), key=lambda i: i.header_offset)
        ends = [*(i.header_offset for i in infos), self._zip.start_dir][1:]
        return [(info, info.header_offset, end) for info, end in zip(infos, ends, strict=True)]

    def segments(self) -> list[Segment]:
        number = {id(i): n for n, i in enumerate(self._infos)}
        out = [
            Segment("payload" if id(i) in number else "header", at, end - at, "", number.get(id(i), -1))
            for i, at, end in self._records()
        ]
        out.append(Segment("table", self._zip.start_dir, self.source.size - self._zip.start_dir, "directory"))
        return out

    def rebuild(
        self,
        changes: Mapping[int, Source],
        *,
        added: Sequence[NewEntry] = (),
        anew: bool | Collection[str] = False,
    ) -> Built:
        number = {id(i): n for n, i in enumerate(self._infos)}
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
        first = records[0][1] if records else self._zip.start_dir
        if first:  # bytes before the first member, as in a self-extracting archive
            put("unexplained", [Part(self.source, 0, first)])
        for info, at, end in records:
            n = number.get(id(info), -1)
            if n in changes:
                pieces, sizes = self._new_record(info, changes[n])
                places.append(_Placed(info, put("new", pieces, n), *sizes, True))
            else:
                moved += cursor != at
                pieces = self._same_record(info, end) if anew else [Part(self.source, at, end - at)]
                start = put("payload" if n >= 0 else "header", pieces, n)
                places.append(_Placed(info, start, info.CRC, info.compress_size, info.file_size, False))
        self.refuse_known(added)
        for n, entry in enumerate(added):
            info = zipfile.ZipInfo(entry.path)
            info.compress_type, info.create_system = zipfile.ZIP_DEFLATED, 3
            pieces, sizes = self._new_record(info, entry.content)
            places.append(_Placed(info, put("new", pieces, len(self._infos) + n), *sizes, True))
        table = self._directory(places, cursor)
        parts.append(Part(Written(table, "directory"), 0, len(table)))
        segments.append(Segment("table", cursor, len(table), "directory"))
        return Built(ChainSource(parts, self.source.name), segments, moved == 0, moved)

    def _new_record(self, info: zipfile.ZipInfo, new: Source) -> tuple[list[Part], tuple[int, int, int]]:
        """Local header and data of a member: the old header's name, time, flags and method where there is one.

        Also its CRC, stored and unpacked bytes. The standard library compresses, in the member's own method.
        """
        if _METHODS.get(info.compress_type) is None:
            raise ZubretError(
                "A member in this compression can't be written back.",
                file=info.filename,
                next="Pack the archive again with deflate, or remove this swap.",
            )
        pack = TemporaryFile()
        with zipfile.ZipFile(pack, "w") as one:
            fresh = zipfile.ZipInfo(info.filename, info.date_time)
            fresh.compress_type, fresh.file_size = info.compress_type, new.size
            with one.open(fresh, "w", force_zip64=new.size >= 1 << 31) as out:
                for piece in new.chunks():
                    out.write(piece)
            made = one.infolist()[0]
        whole = OpenFile(pack, f"{info.filename}, packed")
        header = _LOCAL.unpack(whole.read(0, _LOCAL.size))
        data_at = _LOCAL.size + header[9] + header[10]
        sizes = made.CRC, made.compress_size, made.file_size
        if info in self._zip.filelist:
            head = self._local_header(info, *sizes)
        else:
            head = whole.read(0, data_at)
        return [_header(head, info.filename), Part(whole, data_at, made.compress_size)], sizes

    def _same_record(self, info: zipfile.ZipInfo, end: int) -> list[Part]:
        """An untouched member's record, written from what the directory says of it; only its data is copied.

        A data descriptor (4.3.9) has 8-byte sizes where the header has a ZIP64 field; its mark is optional.
        """
        sizes = info.CRC, info.compress_size, info.file_size
        head = self._local_header(info, *sizes, streamed=bool(info.flag_bits & 8))
        data_at = self._data_at(info)
        cursor = data_at + info.compress_size
        tail = b""
        if info.flag_bits & 8:
            extra = head[_LOCAL.size + _LOCAL.unpack(head[: _LOCAL.size])[9] :]
            mark = self.source.read(cursor, min(4, max(0, end - cursor)))
            form = "<I2Q" if 1 in _extra_kinds(extra) else "<3I"
            tail = (mark if mark == b"PK\7\x08" else b"") + struct.pack(form, *sizes)
            cursor += len(tail)
        if cursor > end:
            raise ZubretError(
                "The member leaves its place.",
                file=info.filename,
                offset=info.header_offset,
                next="The archive is damaged: check it against another copy.",
            )
        pieces = [Part(self.source, data_at, info.compress_size), _header(tail, info.filename)]
        return [_header(head, info.filename), *pieces, Part(self.source, cursor, end - cursor)]

    def _local_header(
        self, info: zipfile.ZipInfo, crc: int, stored: int, size: int, *, streamed: bool = False
    ) -> bytes:
        """A member's local header with other sums and sizes; where `streamed` these stand behind the data instead."""
        old = self.source.read(info.header_offset, _LOCAL.size)
        fields = list(_LOCAL.unpack(old))
        behind = self.source.read(info.header_offset + _LOCAL.size, fields[9] + fields[10])
        name, extra = behind[: fields[9]], behind[fields[9] :]
        if streamed:
            return old + behind
        fields[2] &= ~8  # no data descriptor: sizes stand in the header
        fields[6] = crc
        (fields[8], fields[7]), extra = _saturated((fields[8], fields[7]), (size, stored), extra)
        fields[10] = len(extra)
        return _LOCAL.pack(*fields) + name + extra

    def _directory(self, places: list[_Placed], start: int) -> bytes:
        """The central directory and the end records, for members at their new places."""
        old = self.source.read(self._zip.start_dir, self.source.size - self._zip.start_dir)
        end_at = old.rfind(b"PK\5\6")
        if end_at < 0:
            raise ZubretError("The end of the directory was not found.", file=self.source.name, next="Survey again.")
        end = list(_END.unpack_from(old, end_at))
        end64_at = old.rfind(b"PK\6\6", 0, end_at)
        end64 = list(_END64.unpack_from(old, end64_at)) if end64_at >= 0 else None
        # Bytes that stand before the archive proper.
        shift = self._zip.start_dir - (end64[9] if end64 else end[6])
        by_member = {id(p.info): p for p in places}
        out, at = bytearray(), 0
        for info in self._zip.infolist():
            fields = list(_CENTRAL.unpack_from(old, at))
            behind = old[at + _CENTRAL.size : at + _CENTRAL.size + fields[10] + fields[11] + fields[12]]
            at += _CENTRAL.size + len(behind)
            out += _central(fields, behind, by_member.pop(id(info)), shift)
        for placed in by_member.values():
            name, flags = placed.info.filename.encode(), 0 if placed.info.filename.isascii() else 0x800
            fields = [b"PK\1\2", 0x0314, 20, flags, placed.info.compress_type, 0, 33, 0, 0, 0, len(name), 0, 0, 0, 0]
            out += _central([*fields, 0o600 << 16, 0], name, placed, shift)
        between = old[at : end64_at if end64 else end_at]
        size, count, offset = len(out) + len(between), len(places), start - shift
        out += between
        if end64 is None and (max(size, offset) > _LARGEST or count > 0xFFFE):
            end64 = [b"PK\6\6", _END64.size - 12, 45, 45, 0, 0, 0, 0, 0, 0]
        if end64:
            end64[6:10] = count, count, size, offset
            tail = old[end64_at + _END64.size : end_at] if end64_at >= 0 else _LOCATOR.pack(b"PK\6\7", 0, 0, 1)
            locator = list(_LOCATOR.unpack_from(tail, len(tail) - _LOCATOR.size))
            locator[2] = offset + len(out)
            out += _END64.pack(*end64) + tail[: -_LOCATOR.size] + _LOCATOR.pack(*locator)
        for n, value, most in ((3, count, 0xFFFF), (4, count, 0xFFFF), (5, size, _ALL_ONES), (6, offset, _ALL_ONES)):
            end[n] = most if end64 and (end[n] == most or value >= most) else value
        return bytes(out) + _END.pack(*end) + old[end_at + _END.size :]


def _header(data: bytes, name: str) -> Part:
    return Part(Written(data, f"header of {name}"), 0, len(data))


class _Placed(NamedTuple):
    """A member where it will stand; fresh: its data was written anew."""

    info: zipfile.ZipInfo
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
        fields[3] &= ~8
    old, new = (fields[9], fields[8], fields[16]), (placed.size, placed.stored, placed.at - shift)
    was_wide = _ALL_ONES in old
    (fields[9], fields[8], fields[16]), extra = _saturated(old, new, extra)
    fields[11] = len(extra)
    if not was_wide and _ALL_ONES in (fields[9], fields[8], fields[16]):
        fields[2] = max(fields[2], 45)
    return _CENTRAL.pack(*fields) + name + extra + comment


def _extra_kinds(extra: bytes) -> set[int]:
    """The kinds of extra fields (4.5.1)."""
    out, at = set(), 0
    while at + 4 <= len(extra):
        kind, length = struct.unpack_from("<HH", extra, at)
        out.add(kind)
        at += 4 + length
    return out


def _saturated(old: tuple[int, ...], new: tuple[int, ...], extra: bytes) -> tuple[list[int], bytes]:
    """Numbers for 32-bit fields, and the extra field with those that stand in ZIP64 form (APPNOTE 4.5.3).

    A number that stood there before stays there, so that a member in which nothing changed keeps its bytes.
    """
    wide = [o == _ALL_ONES or n > _LARGEST for o, n in zip(old, new, strict=True)]
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
    return [_ALL_ONES if w else n for n, w in zip(new, wide, strict=True)], out
