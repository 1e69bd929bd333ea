"""ZIP archives. Listing and unpacking by the standard library's zipfile; writing back is ours.

Source: PKWARE APPNOTE.TXT 6.3.10, sections 4.3.7 (local file header), 4.3.12 (central directory
header), 4.3.16 (end of central directory). A rebuild copies every untouched member's local
record and data as stored, and patches only offsets, sizes and sums.
"""

from __future__ import annotations

import io
import struct
import zipfile
import zlib
from collections.abc import Mapping, Sequence

from ..base import ZubretError
from ..source import (
    Built,
    BytesSource,
    ChainSource,
    DiskCache,
    Part,
    Segment,
    SliceSource,
    Source,
    SourceFile,
    crc32_of,
    spooled,
)
from .base import Entry
from .deflate import deflated

_METHODS = {0: "plain", 8: "deflate", 12: "bzip2", 14: "lzma"}
_LOCAL = struct.Struct("<4s5H3I2H")
_CENTRAL = struct.Struct("<4s6H3I5H2I")
_END = struct.Struct("<4s4H2IH")
_LARGEST = 0xFFFFFFFE


class ZipArchive:
    """The members of a ZIP file, folders left out."""

    kind = "zip"
    layout_id = "zip"

    def __init__(self, source: Source):
        self.source = source
        try:
            self._zip = zipfile.ZipFile(io.BufferedReader(SourceFile(source)))
        except (zipfile.BadZipFile, NotImplementedError, ValueError, struct.error) as e:
            raise ZubretError(
                f"The ZIP file can't be read: {e}.",
                file=source.name,
                next="It is damaged or cut short: check it against another copy.",
            ) from e
        self._infos = [i for i in self._zip.infolist() if not i.is_dir()]
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

    def _records(self) -> list[tuple[zipfile.ZipInfo, int, int]]:
        """Local records in file order: member, first byte, the byte after."""
        infos = sorted(self._zip.infolist(), key=lambda i: i.header_offset)
        ends = [i.header_offset for i in infos[1:]] + [self._zip.start_dir]
        return [(info, info.header_offset, end) for info, end in zip(infos, ends, strict=True)]

    def segments(self) -> list[Segment]:
        number = {id(i): n for n, i in enumerate(self._infos)}
        out = [
            Segment("payload" if id(i) in number else "header", at, end - at, "", number.get(id(i), -1))
            for i, at, end in self._records()
        ]
        out.append(Segment("table", self._zip.start_dir, self.source.size - self._zip.start_dir, "directory"))
        return out

    def rebuild(self, changes: Mapping[int, Source], *, anew: bool = False) -> Built:
        directory = self.source.read(self._zip.start_dir, self.source.size - self._zip.start_dir)
        end_at = directory.rfind(b"PK\5\6")
        if b"PK\6\6" in directory[:end_at] or end_at < 0:
            raise ZubretError(
                "This is a ZIP64 archive; swaps in it can't be written.",
                file=self.source.name,
                next="Pack it again without ZIP64 if it is smaller than 4 GB.",
            )
        number = {id(i): n for n, i in enumerate(self._infos)}
        parts: list[Part] = []
        segments: list[Segment] = []
        places: dict[int, tuple[int, zipfile.ZipInfo | None]] = {}
        cursor, moved = 0, 0
        records = self._records()
        first = records[0][1] if records else self._zip.start_dir
        if first:  # bytes before the first member, as in a self-extracting archive
            parts.append(Part(self.source, 0, first))
            segments.append(Segment("unexplained", 0, first))
            cursor = first
        for info, at, end in records:
            n = number.get(id(info), -1)
            start = cursor
            if n in changes:
                record, new_info = self._new_record(info, changes[n])
                parts.extend(record)
                cursor += sum(p.length for p in record)
                places[id(info)] = (start, new_info)
                segments.append(Segment("new", start, cursor - start, "", n))
            else:
                parts.append(Part(self.source, at, end - at))
                cursor += end - at
                places[id(info)] = (start, None)
                moved += start != at
                segments.append(Segment("payload" if n >= 0 else "header", start, end - at, "", n))
        table = self._new_directory(directory, end_at, places, cursor)
        parts.append(Part(BytesSource(table), 0, len(table)))
        segments.append(Segment("table", cursor, len(table), "directory"))
        return Built(ChainSource(parts, self.source.name), segments, moved == 0, moved)

    def _new_record(self, info: zipfile.ZipInfo, new: Source) -> tuple[list[Part], zipfile.ZipInfo]:
        """Local header and data of a replaced member: same name, time, flags and method."""
        if info.compress_type not in (0, 8):
            raise ZubretError(
                "A member in this compression can't be written back.",
                file=info.filename,
                next="Pack the archive again with deflate, or remove this swap.",
            )
        data = deflated(new, 6, -15) if info.compress_type == 8 else new
        if max(data.size, new.size) > _LARGEST:
            raise ZubretError("A ZIP member ends at 4 GB.", file=info.filename, next="Shorten the replacement.")
        old = self.source.read(info.header_offset, _LOCAL.size)
        fields = list(_LOCAL.unpack(old))
        name_and_extra = self.source.read(info.header_offset + _LOCAL.size, fields[9] + fields[10])
        crc = crc32_of(new)
        fields[2] &= ~8  # no data descriptor: sizes stand in the header
        fields[6:9] = crc, data.size, new.size
        head = _LOCAL.pack(*fields) + name_and_extra
        changed = zipfile.ZipInfo(info.filename)
        changed.CRC, changed.compress_size, changed.file_size = crc, data.size, new.size
        return [Part(BytesSource(head), 0, len(head)), Part(data, 0, data.size)], changed

    def _new_directory(
        self, old: bytes, end_at: int, places: dict[int, tuple[int, zipfile.ZipInfo | None]], start: int
    ) -> bytes:
        out, at = bytearray(old), 0
        infos = self._zip.infolist()
        shift = 0
        for info in infos:
            fields = list(_CENTRAL.unpack_from(old, at))
            new_at, changed = places[id(info)]
            shift = info.header_offset - fields[16]  # bytes that stand before the archive proper
            fields[16] = new_at - shift
            if changed:
                fields[3] &= ~8
                fields[7:10] = changed.CRC, changed.compress_size, changed.file_size
            if fields[16] > _LARGEST:
                raise ZubretError(
                    "The rebuilt ZIP would pass 4 GB.", file=self.source.name, next="Shorten the replacement."
                )
            _CENTRAL.pack_into(out, at, *fields)
            at += _CENTRAL.size + fields[10] + fields[11] + fields[12]
        end = list(_END.unpack_from(old, end_at))
        end[6] = start - shift
        _END.pack_into(out, end_at, *end)
        return bytes(out)
