"""The central directory of a ZIP file as columns: 200,000 members take one walk, and no object each.

Source: PKWARE APPNOTE.TXT 6.3.10, sections 4.3.12 (central directory header), 4.3.14 to 4.3.16 (end records, ZIP64),
4.4.4 (general purpose bits), 4.5.1 and 4.5.3 (extra fields, ZIP64), appendix D (character encoding).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..base import ZubretError
from ..source import Source

CENTRAL = struct.Struct("<4s6H3I5H2I")
END = struct.Struct("<4s4H2IH")
END64 = struct.Struct("<4sQ2H2I4Q")
LOCATOR = struct.Struct("<4sIQI")
ALL_ONES = 0xFFFFFFFF
_LONGEST_COMMENT = 0xFFFF
_FIXED = np.dtype(
    [
        ("mark", "<u4"), ("made", "<u2"), ("needs", "<u2"), ("flags", "<u2"), ("method", "<u2"), ("time", "<u4"),
        ("crc", "<u4"), ("stored", "<u4"), ("size", "<u4"), ("name", "<u2"), ("extra", "<u2"), ("comment", "<u2"),
        ("disk", "<u2"), ("inner", "<u2"), ("outer", "<u4"), ("at", "<u4"),
    ]
)  # fmt: skip
"""A directory record's fixed part (4.3.12)."""
assert _FIXED.itemsize == CENTRAL.size


class Member(NamedTuple):
    """A record of the directory. name: as people read it; raw: its bytes; at: byte offset of its local record; stored, size:
    bytes packed and unpacked; method, flags: as in 4.4.4 and 4.4.5."""

    name: str
    raw: bytes
    at: int
    stored: int
    size: int
    crc: int
    method: int
    flags: int


@dataclass(frozen=True)
class EndRecords:
    """start: where the directory begins; shift: bytes that stand before the archive proper; end_at, end64_at: where the
    end records stand (end64_at -1: there is none of ZIP64)."""

    start: int
    size: int
    count: int
    shift: int
    end_at: int
    end64_at: int


class Directory:
    """All records of a directory, in its order. at, stored, size: int64; crc: uint32; method, flags: uint16."""

    def __init__(self, source: Source):
        self.source, self.ends = source, end_records(source)
        data = source.read(self.ends.start, self.ends.size)
        self._data = np.frombuffer(data, np.uint8)
        self._starts = starts = np.fromiter(_walk(data), np.int64)
        head = self._data[starts[:, None] + np.arange(CENTRAL.size)] if len(starts) else np.zeros((0, 46), np.uint8)
        fixed = np.ascontiguousarray(head).view(_FIXED)[:, 0]
        self._name_bytes, self._extra_bytes = fixed["name"].copy(), fixed["extra"].copy()
        self.crc, self.method, self.flags = fixed["crc"].copy(), fixed["method"].copy(), fixed["flags"].copy()
        self.at, self.stored, self.size = (fixed[n].astype(np.int64) for n in ("at", "stored", "size"))
        self._widen(fixed)
        self.at += self.ends.shift
        self.names = list(self._names(data))
        whole = not len(starts) or int(starts[-1]) + CENTRAL.size + len(self.record(-1)[1]) <= len(data)
        if len(starts) < self.ends.count or not whole:
            raise _damaged(source, "its directory is cut short or damaged")

    def __len__(self) -> int:
        return len(self._starts)

    def member(self, n: int) -> Member:
        """One record."""
        numbers = (int(c[n]) for c in (self.at, self.stored, self.size, self.crc, self.method, self.flags))
        return Member(self.names[n], self._raw(n), *numbers)

    def record(self, n: int) -> tuple[list, bytes]:
        """A record as it stands: the numbers of its fixed part, and name, extra fields and comment."""
        at = int(self._starts[n])
        fields = list(CENTRAL.unpack(self._data[at : at + CENTRAL.size].tobytes()))
        at += CENTRAL.size
        return fields, self._data[at : at + fields[10] + fields[11] + fields[12]].tobytes()

    def behind(self) -> bytes:
        """What stands between the last record and the end records."""
        last = len(self) - 1
        end = 0 if last < 0 else int(self._starts[last]) + CENTRAL.size + len(self.record(last)[1])
        return self._data[end:].tobytes()

    def _raw(self, n: int) -> bytes:
        at = int(self._starts[n]) + CENTRAL.size
        return self._data[at : at + int(self._name_bytes[n])].tobytes()

    def _names(self, data: bytes) -> Iterator[str]:
        """Names in UTF-8 where bit 11 of the flags says so, else in code page 437; a NUL ends one (common practice)."""
        starts = self._starts + CENTRAL.size
        ends = starts + self._name_bytes
        for start, end, flags in zip(starts.tolist(), ends.tolist(), self.flags.tolist(), strict=True):
            raw = data[start:end]
            text = raw.decode("utf-8", "surrogateescape") if flags & 0x800 else raw.decode("cp437")
            yield text.partition("\0")[0] if "\0" in text else text

    def _widen(self, fixed: NDArray) -> None:
        """Numbers of 32 bits that are all ones stand in the ZIP64 extra field instead, in this order."""
        columns = (self.size, self.stored, self.at)
        for n in np.flatnonzero(np.logical_or.reduce([c == ALL_ONES for c in columns])).tolist():
            at = int(self._starts[n]) + CENTRAL.size + int(self._name_bytes[n])
            extra = self._data[at : at + int(self._extra_bytes[n])].tobytes()
            wide = [c for c in columns if c[n] == ALL_ONES]
            body = next((b for kind, b in extra_fields(extra) if kind == 1), b"")
            if len(body) < 8 * len(wide):
                raise _damaged(self.source, "a member's ZIP64 field is missing or too short")
            for column, (value,) in zip(wide, struct.iter_unpack("<Q", body[: 8 * len(wide)]), strict=True):
                column[n] = min(value, 1 << 62)


def extra_fields(extra: bytes) -> Iterator[tuple[int, bytes]]:
    """Kind and body of each extra field (4.5.1); what is cut short is left out."""
    at = 0
    while at + 4 <= len(extra):
        kind, length = struct.unpack_from("<HH", extra, at)
        if at + 4 + length > len(extra):
            return
        yield kind, extra[at + 4 : at + 4 + length]
        at += 4 + length


def end_records(source: Source) -> EndRecords:
    """The end of the central directory, of ZIP64 where there is one; ZubretError where the file is no ZIP."""
    tail_at = max(0, source.size - END.size - _LONGEST_COMMENT)
    tail = source.read(tail_at, source.size - tail_at)
    found = tail.rfind(b"PK\5\6")
    if found < 0 or found + END.size > len(tail):
        raise _damaged(source, "the end of its directory was not found")
    end_at = tail_at + found
    _, _, _, _, count, size, offset, _ = END.unpack_from(tail, found)
    end64_at, before = -1, end_at
    if end_at >= LOCATOR.size:
        mark, disk64, far, disks = LOCATOR.unpack(source.read(end_at - LOCATOR.size, LOCATOR.size))
        if mark == b"PK\6\7":
            if disk64 or disks > 1:
                raise _damaged(source, "it is one part of a ZIP file of several")
            end64_at = _end64_at(source, far, end_at)
            fields = END64.unpack(source.read(end64_at, END64.size))
            count, size, offset = fields[7:]
            before = end64_at
    start = before - size
    if start < 0 or start < offset:
        raise _damaged(source, "its directory does not fit into it, as if it were one part of several")
    return EndRecords(start, size, count, start - offset, end_at, end64_at)


def _end64_at(source: Source, said: int, end_at: int) -> int:
    """Where the end record of ZIP64 stands: at the place that its locator gives, or right before that, where something
    stands before the archive proper."""
    usual = end_at - LOCATOR.size - END64.size
    for at in (said, usual):
        if 0 <= at <= usual and source.read(at, 4) == b"PK\6\6":
            return at
    raise _damaged(source, "the end of its ZIP64 directory was not found")


def _damaged(source: Source, why: str) -> ZubretError:
    return ZubretError(
        f"The ZIP file can't be read: {why}.",
        file=source.name,
        next="It is damaged or cut short: check it against another copy.",
    )


_LENGTHS = struct.Struct("<3H")


def _walk(data: bytes) -> Iterator[int]:
    """Where each record begins. The number of records that the end record gives may have wrapped (common practice of
    writers that know no ZIP64), so the walk goes on to the first thing that is none."""
    at = 0
    while at + CENTRAL.size <= len(data) and data.startswith(b"PK\1\2", at):
        yield at
        at += CENTRAL.size + sum(_LENGTHS.unpack_from(data, at + 28))
