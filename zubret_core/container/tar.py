"""TAR archives, plain or packed as a whole. Headers are read and made by the standard library's tarfile.

Source: POSIX.1-2001 (pax), "ustar Interchange Format". A rebuild copies every untouched member as it stands, header
and padding, and gives a replaced one its old header with a new size and sum.
"""

from __future__ import annotations

import copy
import io
import tarfile
from collections.abc import Mapping, Sequence
from typing import Any

from ..base import ZubretError
from ..source import (
    Built,
    BytesSource,
    ChainSource,
    DiskCache,
    FillSource,
    Part,
    Segment,
    SliceSource,
    Source,
    SourceFile,
)
from ..source.steps import Chain, Packed
from .base import Entry, NewEntry, refuse_known

BLOCK = tarfile.BLOCKSIZE
PACKINGS = {b"\x1f\x8b": "gzip", b"\xfd7zXZ\0": "xz", b"\x28\xb5\x2f\xfd": "zstd", b"BZh": "bzip2"}
"""How a whole archive may be packed, by its first bytes."""
LARGEST_RATIO = 1032
"""The most unpacked bytes that one stored byte stands for before a packed archive is refused (deflate's limit)."""


def packing_of(head: bytes) -> str | None:
    """The method by which a file that begins so is packed, if it is."""
    return next((name for mark, name in PACKINGS.items() if head.startswith(mark)), None)


def is_tar(head: bytes) -> bool:
    """Whether a header of 512 bytes is one of TAR: its mark, or for old archives its sum."""
    if len(head) < BLOCK or head[148:156].strip(b"01234567 \0") or not head[148:156].strip(b" \0"):
        return False  # no octal sum stands where every header has one
    try:
        tarfile.TarInfo.frombuf(head, "utf-8", "surrogateescape")
    except tarfile.HeaderError:
        return False
    return True


def head_of(source: Source) -> bytes:
    """The first 512 bytes, unpacked where the file is packed."""
    head = source.read(0, min(BLOCK, source.size))
    method = packing_of(head)
    if method is None:
        return head
    return Chain([Packed(method)]).head(source, LARGEST_RATIO * source.size + BLOCK, BLOCK)


class TarArchive:
    """The regular files of a TAR archive; hard links share the bytes of what they point at.

    skipped: members that are no files (links, devices), with the reason.
    """

    kind = "tar"
    layout_id = "tar"

    def __init__(self, source: Source, cache: DiskCache | None = None, key: str = ""):
        self.source = source
        method = packing_of(source.read(0, min(BLOCK, source.size)))
        self._packing = Chain([Packed(method)] if method else [])
        room = LARGEST_RATIO * source.size + BLOCK
        self.plain = (
            self._packing.unpacked(source, room, exact=False, cache=cache, key=f"{key}/tar") if method else source
        )
        self.skipped: list[tuple[str, str]] = []
        self._members: list[tarfile.TarInfo] = []
        try:
            self._tar = tarfile.open(fileobj=io.BufferedReader(SourceFile(self.plain)), mode="r:")
            entries = self._read()
        except (tarfile.TarError, EOFError, ValueError, OverflowError, OSError) as e:
            raise ZubretError(
                f"The TAR archive can't be read: {e}.",
                file=source.name,
                next="It is damaged or cut short: check it against another copy.",
            ) from e
        self.entries: Sequence[Entry] = entries

    def _read(self) -> list[Entry]:
        self._all = self._tar.getmembers()
        by_name = {m.name: m for m in self._all if m.isreg()}
        out = []
        for m in self._all:
            target = by_name.get(m.linkname) if m.islnk() else m
            if m.isdir():
                continue
            if target is None or not target.isreg() or target.issparse():
                kind = "a link" if m.issym() or m.islnk() else "a sparse file" if m.issparse() else "no regular file"
                self.skipped.append((m.name, f"it is {kind}"))
                continue
            if target.offset_data + target.size > self.plain.size:
                raise EOFError(f"{m.name} leaves the file")
            self._members.append(m)
            out.append(Entry(m.name, target.offset_data, target.size, target.size, "plain", None))
        return out

    def open(self, index: int, cache: DiskCache | None = None, key: str = "") -> Source:
        entry = self.entries[index]
        return SliceSource(self.plain, entry.at, entry.stored, entry.path)

    def head(self, index: int, length: int) -> bytes:
        entry = self.entries[index]
        return self.plain.read(entry.at, min(length, entry.stored))

    def check(self, index: int) -> None:
        """Members have no sums; their headers' sums were checked when the archive was opened."""

    def sharing(self, index: int) -> list[int]:
        at = self.entries[index].at
        return [n for n, e in enumerate(self.entries) if e.at == at and n != index]

    def _records(self) -> list[tuple[tarfile.TarInfo, int, int]]:
        """Members in file order with the first byte of their headers and the byte behind their padding."""
        starts = [m.offset for m in self._all]
        end = self._tar.offset
        return [(m, a, b) for m, a, b in zip(self._all, starts, [*starts[1:], end], strict=True)]

    def segments(self) -> list[Segment]:
        if self._packing:
            return [Segment("payload", 0, self.source.size)]
        number = {id(m): n for n, m in enumerate(self._members)}
        out = []
        for m, at, end in self._records():
            data_at = min(m.offset_data, end)
            size = m.size if m.isreg() else 0
            out.append(Segment("table", at, data_at - at, m.name))
            out.append(Segment("payload", data_at, size, "", number.get(id(m), -1)))
            out.append(Segment("padding", data_at + size, end - data_at - size))
        out.append(Segment("padding", self._tar.offset, self.plain.size - self._tar.offset))
        return [s for s in out if s.length]

    def rebuild(self, changes: Mapping[int, Source], *, added: Sequence[NewEntry] = (), anew: bool = False) -> Built:
        if not changes and not added:
            return Built(self.source, self.segments(), True, 0)
        number = {id(m): n for n, m in enumerate(self._members)}
        parts: list[Part] = []
        segments: list[Segment] = []
        cursor, moved = 0, 0

        def put(kind: str, pieces: list[Part], n: int = -1) -> None:
            nonlocal cursor
            length = sum(p.length for p in pieces)
            parts.extend(pieces)
            segments.append(Segment(kind, cursor, length, "", n))
            cursor += length

        for m, at, end in self._records():
            n = number.get(id(m), -1)
            if n in changes and m.isreg():
                put("new", self._member(m, changes[n]), n)
            else:
                moved += cursor != at and n >= 0
                put("payload" if n >= 0 else "header", [Part(self.plain, at, end - at)], n)
        refuse_known(self, added)
        for n, entry in enumerate(added):
            put("new", self._member(tarfile.TarInfo(entry.path), entry.content), len(self.entries) + n)
        # Two blocks of zeros end the archive, which most tools fill up to 20 blocks.
        record = tarfile.RECORDSIZE if self.plain.size % tarfile.RECORDSIZE == 0 else BLOCK
        fill = 2 * BLOCK + -(cursor + 2 * BLOCK) % record
        put("padding", [Part(FillSource(0, fill), 0, fill)])
        whole: Source = ChainSource(parts, self.source.name)
        if self._packing:
            whole = self._packing.packed(whole)
            segments = [Segment("new", 0, whole.size)]
        return Built(whole, segments, moved == 0, moved)

    def _member(self, old: tarfile.TarInfo, new: Source) -> list[Part]:
        info = copy.copy(old)
        info.size = new.size
        info.pax_headers = {k: v for k, v in old.pax_headers.items() if k != "size"}
        form: Any = tarfile.PAX_FORMAT if info.pax_headers or new.size >= 8**11 else tarfile.GNU_FORMAT
        ustar = self.plain.read(old.offset + 257, 8) == b"ustar\x0000" if old in self._all else False
        if ustar and form == tarfile.GNU_FORMAT and len(info.name.encode("utf-8", "surrogateescape")) <= 100:
            form = tarfile.USTAR_FORMAT
        head = info.tobuf(form, "utf-8", "surrogateescape")
        gap = -new.size % BLOCK
        return [Part(BytesSource(head), 0, len(head)), Part(new, 0, new.size), Part(FillSource(0, gap), 0, gap)]
