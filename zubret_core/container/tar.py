"""TAR archives, plain or packed as a whole. Headers are read and made by the standard library's tarfile.

Source: POSIX.1-2001 (pax), "ustar Interchange Format". A rebuild writes the size and
sum of every header from their meaning and carries all else over; a replaced member keeps its header but for these.
"""

from __future__ import annotations

import io
import struct
import tarfile
from collections.abc import Collection, Mapping, Sequence

from ..base import ZubretError
from ..source import (
    Built,
    ChainSource,
    DiskCache,
    FillSource,
    Part,
    Segment,
    SliceSource,
    Source,
    SourceFile,
    Written,
    same_bytes,
)
from ..source.steps import Chain, Packed
from .base import Container, Entry, NewEntry, cannot_choose

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


class TarArchive(Container):
    """The regular files of a TAR archive; hard links share the bytes of what they point at.

    skipped: members that are no files (links, devices), with the reason.
    """

    kind = "tar"
    layout_id = "tar"

    def __init__(self, source: Source, cache: DiskCache | None = None, key: str = ""):
        self.source, self._cache = source, cache
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

    def check(self, index: int, content: Source | None = None) -> None:
        """Members have no sums; their headers' sums were checked when the archive was opened."""

    def sharing(self, index: int) -> list[int]:
        at = self.entries[index].at
        return [n for n, e in enumerate(self.entries) if e.at == at and n != index]

    def spans(self) -> Sequence[tuple[str, int, int]] | None:
        return None if self._packing else [("", e.at, e.stored) for e in self.entries]

    def unpacked(self, part: str) -> Source:
        return self.plain

    def is_plain(self, index: int) -> bool:
        return not self._packing

    def _records(self) -> list[tuple[tarfile.TarInfo, int, int]]:
        """Members in file order with the first byte of their headers and the byte behind their padding."""
        starts = [m.offset for m in self._all]
        end = self._tar.offset
        ends = [*starts[1:], end] if starts else []  # an archive may have no member
        return [(m, a, b) for m, a, b in zip(self._all, starts, ends, strict=True)]

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

    def rebuild(
        self,
        changes: Mapping[int, Source],
        *,
        added: Sequence[NewEntry] = (),
        anew: bool | Collection[str] = False,
        only: Collection[int] | None = None,
    ) -> Built:
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

        records = self._records()
        if only is not None:
            if any(not self._members[n].isreg() for n in only):  # a link, whose bytes stand elsewhere
                raise cannot_choose(self.source.name)
            records = [r for r in records if number.get(id(r[0]), -1) in only]
        elif records and records[0][1]:  # a global header
            put("header", [Part(self.plain, 0, records[0][1])])
        for m, at, end in records:
            n = number.get(id(m), -1)
            if n < 0 or not m.isreg():  # folders and links; sparse files, whose map is not ours to write
                moved += cursor != at and n >= 0
                put("payload" if n >= 0 else "header", [Part(self.plain, at, end - at)], n)
                continue
            new = changes.get(n)
            moved += cursor != at and new is None
            content = SliceSource(self.plain, m.offset_data, m.size) if new is None else new
            head = _header(self.plain.read(at, m.offset_data - at), m.size, content.size)
            fill = Part(FillSource(0, -content.size % BLOCK), 0, -content.size % BLOCK)
            behind = m.offset_data + m.size
            if new is None:
                fill = Part(self.plain, behind, end - behind)
            put("payload" if new is None else "new", [_part(head), Part(content, 0, content.size), fill], n)
        self.refuse_known(added)
        for n, entry in enumerate(added):
            info = tarfile.TarInfo(entry.path)
            info.size = entry.content.size
            fill = Part(FillSource(0, -info.size % BLOCK), 0, -info.size % BLOCK)
            head = info.tobuf(tarfile.GNU_FORMAT, "utf-8", "surrogateescape")
            put("new", [_part(head), Part(entry.content, 0, info.size), fill], len(self.entries) + n)
        if cursor == self._tar.offset and only is None:
            put("padding", [Part(self.plain, cursor, self.plain.size - cursor)])
        else:  # two blocks of zeros end the archive, which most tools fill up to 20 blocks
            record = tarfile.RECORDSIZE if self.plain.size % tarfile.RECORDSIZE == 0 else BLOCK
            fill_size = 2 * BLOCK + -(cursor + 2 * BLOCK) % record
            put("padding", [Part(FillSource(0, fill_size), 0, fill_size)])
        whole: Source = ChainSource(parts, self.source.name)
        if not self._packing:
            return Built(whole, segments, moved == 0, moved)
        if not changes and not added and same_bytes(whole, self.plain):  # what did not change is not packed again
            return Built(self.source, self.segments(), True, 0)
        packed = self._packing.packed(whole, self.source, self._cache)
        built = Built(packed, [Segment("new", 0, packed.size)], moved == 0, moved)
        built.unpacked["*"] = whole, self.plain
        return built


def _part(data: bytes) -> Part:
    return Part(Written(data, "header"), 0, len(data))


def _header(old: bytes, old_size: int, size: int) -> bytes:
    """A member's header blocks with another size and new sums; all else, and the way numbers are spelt, stays.

    Extended headers (POSIX.1-2001, pax Interchange Format) in front of the member's own may give the size as well.
    """
    out, at = b"", 0
    while True:
        head = old[at : at + BLOCK]
        at += BLOCK
        if head[156:157] not in _IN_FRONT:
            # Where an extended header gives the size, the member's own may hold anything.
            return out + (_sized(head, size) if _number(head[124:136]) == old_size else head) + old[at:]
        length = _number(head[124:136])
        body = old[at : at + length]
        at += length + -length % BLOCK
        if head[156:157] in (tarfile.XHDTYPE, tarfile.SOLARIS_XHDTYPE):
            body = _pax_sized(body, size)
        out += _sized(head, len(body)) + body + bytes(-len(body) % BLOCK)


_IN_FRONT = (
    tarfile.XHDTYPE, tarfile.SOLARIS_XHDTYPE, tarfile.XGLTYPE, tarfile.GNUTYPE_LONGNAME, tarfile.GNUTYPE_LONGLINK,
)  # fmt: skip
"""Types of blocks that belong to the member behind them."""


def _sized(head: bytes, size: int) -> bytes:
    """A header block with a size and its sum, in the spelling that stands there."""
    field, sum_field = head[124:136], head[148:156]
    kind = "B" if _number(sum_field) == _sum(head, "B") else "b"  # the oldest tools added signed bytes
    digits = field.rstrip(b" \0")
    spelt = b"%0*o" % (len(digits), size)
    if field[0] & 0x80 or len(spelt) > 11:  # base 256: common practice of GNU tar and others
        spelt, digits = b"\x80" + size.to_bytes(11, "big"), field
    elif digits.startswith(b" "):
        spelt = (b"%o" % size).rjust(len(digits))
    head = head[:124] + spelt + field[len(spelt) :] + head[136:]
    value = _sum(head, kind)
    digits = sum_field.rstrip(b" \0")
    text = (b"%o" % value).rjust(len(digits), b" " if digits.startswith(b" ") else b"0")
    return head[:148] + text + sum_field[len(text) :] + head[156:]


def _number(field: bytes) -> int:
    """An octal number, or one in base 256."""
    if field[0] & 0x80:
        return int.from_bytes(field[1:], "big")
    return int(field.rstrip(b" \0") or b"0", 8)


def _sum(head: bytes, kind: str) -> int:
    """The sum of a header's bytes, its own field taken as blanks; kind: "B" unsigned, "b" signed."""
    return sum(struct.unpack(f"148{kind}8x356{kind}", head)) + 8 * ord(" ")


def _pax_sized(body: bytes, size: int) -> bytes:
    """Extended header records, `<length> <keyword>=<value>\\n` each, with another size where they give one."""
    out, at = b"", 0
    while at < len(body):
        length = int(body[at : body.index(b" ", at)])
        record = body[at : at + length]
        at += length
        if record.split(b" ", 1)[1].startswith(b"size="):
            rest = b" size=%d\n" % size
            total = len(rest) + 1
            while total != len(b"%d" % total) + len(rest):
                total = len(b"%d" % total) + len(rest)
            record = b"%d" % total + rest
        out += record
    return out
