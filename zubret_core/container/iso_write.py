"""Writing ISO 9660 images: files of other lengths, and every number that says where something stands.

Sources: ECMA-119, 4th edition: sections 7.2.3 and 7.3.3 (numbers in both byte orders), 8.4 and 8.5 (volume
descriptors), 9.1 (directory records), 9.4 (path tables). System Use Sharing Protocol 1.12, section 5.1 (CE); Rock
Ridge 1.12, section 4.1.5 (CL, PL).

A file keeps its sectors as long as the new bytes fit; otherwise all that stands behind moves by whole sectors.
Everything that is not such a number is carried over.
"""

from __future__ import annotations

import struct
from bisect import bisect_left, bisect_right
from collections.abc import Iterator, Mapping

from ..base import ZubretError
from ..source import ChainSource, FillSource, Part, Source, Written

SECTOR = 2048
_FIRST = 16
_MOST_DESCRIPTORS = 64
_BOOT, _PRIMARY, _SUPPLEMENTARY, _END = 0, 1, 2, 255
_UDF = (b"NSR02", b"NSR03")
_OTHERS = (b"CD001", b"BEA01", b"TEA01", b"BOOT2", b"CDW02")
_TABLES = ((140, "<"), (144, "<"), (148, ">"), (152, ">"))
_MULTI_EXTENT = 0x80
_PLACES = (b"CE", b"CL", b"PL")
"""System use entries that begin with a place in both byte orders."""

Extent = tuple[int, int]
"""Where a file's bytes begin, and how many there are."""


def rewritten(image: Source, changes: Mapping[Extent, Source], anew: bool) -> tuple[ChainSource, dict[Extent, int]]:
    """The image with the bytes of some files replaced, and where each of them begins now.

    With `anew` a shorter file gives back the sectors that it no longer needs. ZubretError where the image holds a
    second catalogue of places that is not written here, or where no directory knows a file.
    """
    try:
        return _Writer(image, changes, anew).written()
    except (ValueError, IndexError, struct.error) as e:
        raise ZubretError(
            f"The disc image's directories can't be written: {e}.",
            file=image.name,
            next="The image is damaged or cut short: check it against another copy.",
        ) from e


class _Writer:
    def __init__(self, image: Source, changes: Mapping[Extent, Source], anew: bool):
        self._image, self._changes, self._anew = image, changes, anew
        self._descriptors = list(self._volumes())
        self._directories: dict[int, bytes] = {}
        for _, data in self._descriptors:
            self._read_directories(_both(data, 158), _both(data, 166))
        self._used = sorted(self._starts())
        self._ends: list[int] = []
        self._shifts: list[int] = []
        self._new_lba: dict[Extent, int] = {}
        self._sectors: dict[Extent, tuple[int, int]] = {}  # what a replaced file took, and takes now
        self._lay()
        self._found: set[Extent] = set()
        self._patched: dict[int, bytes] = {}

    def _lay(self) -> None:
        """Where everything stands: behind each replaced file all moves by as many sectors as it grew."""
        shift = behind = 0
        for extent in sorted(self._changes):
            at, length = extent
            size, lba, had = self._changes[extent].size, at // SECTOR, self._room(extent)
            if lba < behind:
                raise self._cannot("two of its files share some of their bytes")
            if size >= 1 << 32:
                raise self._cannot("a file of 4 GiB or more needs several extents")
            if size == length:
                had = takes = _sectors(length)
            else:
                takes = _sectors(size) if self._anew else max(had, _sectors(size))
            self._new_lba[extent] = lba + shift
            self._sectors[extent] = had, takes
            shift += takes - had
            behind = lba + had
            self._ends.append(behind)
            self._shifts.append(shift)
        self._shift = shift
        resized = any(new.size != length for (_, length), new in self._changes.items())
        if (shift or resized) and (rival := self._rival(shift != 0)):
            raise self._cannot(f"it holds {rival} as well, which would point at the wrong bytes")

    def _room(self, extent: Extent) -> int:
        """The sectors of a file, with those behind it that are free: all zeros up to the next thing there is."""
        first, own = extent[0] // SECTOR, _sectors(extent[1])
        n = bisect_left(self._used, first + max(own, 1))
        if not own or n == len(self._used):
            return own
        free = (first + own) * SECTOR, self._used[n] * SECTOR
        empty = all(not piece.strip(b"\0") for piece in self._image.chunks(free[0], free[1] - free[0]))
        return self._used[n] - first if empty else own

    def _starts(self) -> set[int]:
        """The first sectors of all that is known to stand in the image."""
        out = set(self._directories)
        for _, data in self._descriptors:
            out |= {place for place, _ in _tables(data)}
        for data in self._directories.values():
            for record, _ in _records(data):
                out |= {_both(record, 2)} if _both(record, 10) else set()
                out |= {_both(record, at) for at in _more_places(record)}
        return out

    def _cannot(self, why: str) -> ZubretError:
        return ZubretError(
            f"The disc image can't be written with this change: {why}.",
            file=self._image.name,
            next="Use a replacement that is no longer than the original, or put the file beside the image.",
        )

    def _lba(self, old: int) -> int:
        """Where the sector stands now."""
        n = bisect_right(self._ends, old)
        return old + (self._shifts[n - 1] if n else 0)

    def written(self) -> tuple[ChainSource, dict[Extent, int]]:
        for lba, data in self._descriptors:
            self._descriptor(lba, data)
        for lba, data in self._directories.items():
            self._patched[lba * SECTOR] = b"".join(self._record(r) + fill for r, fill in _records(data))
        if lost := sorted(set(self._changes) - self._found):
            raise self._cannot(f"no directory knows the file at byte {lost[0][0]:,} as one piece")
        parts, cursor = [], 0
        regions: list[tuple[int, int, list[Part]]] = [
            (at, len(data), [Part(Written(data, "directories and descriptors"), 0, len(data))])
            for at, data in self._patched.items()
        ]
        for extent, new in self._changes.items():
            had, takes = (n * SECTOR for n in self._sectors[extent])
            had = min(had, self._image.size - extent[0])
            behind = [Part(FillSource(0, takes - new.size), 0, takes - new.size)]
            if new.size == extent[1]:
                behind = [Part(self._image, extent[0] + extent[1], had - extent[1])]
            regions.append((extent[0], had, [Part(new, 0, new.size), *behind]))
        for at, length, pieces in sorted(regions, key=lambda r: r[:2]):
            if at < cursor:
                raise self._cannot("a directory and a file share some of their bytes")
            parts += [Part(self._image, cursor, at - cursor), *pieces]
            cursor = at + length
        parts.append(Part(self._image, cursor, self._image.size - cursor))
        places = {extent: lba * SECTOR for extent, lba in self._new_lba.items()}
        return ChainSource(parts, self._image.name), places

    def _volumes(self) -> Iterator[tuple[int, bytes]]:
        """The primary and supplementary volume descriptors, with their sectors."""
        for lba in range(_FIRST, min(_FIRST + _MOST_DESCRIPTORS, self._image.size // SECTOR)):
            data = self._image.read(lba * SECTOR, SECTOR)
            if data[1:6] != b"CD001" or data[0] == _END:
                return
            if data[0] in (_PRIMARY, _SUPPLEMENTARY):
                yield lba, data

    def _rival(self, moved: bool) -> str:
        """What else in the image says how long files are or, where something moved, where they stand."""
        for lba in range(_FIRST, min(_FIRST + _MOST_DESCRIPTORS, self._image.size // SECTOR)):
            head = self._image.read(lba * SECTOR, 6)
            if head[1:] in _UDF:
                return "a UDF volume"
            if moved and head == bytes([_BOOT]) + b"CD001":
                return "a boot catalogue"
            if head[1:] not in _OTHERS:
                break
        return ""

    def _read_directories(self, lba: int, size: int) -> None:
        """A directory and all below it."""
        below = [(lba, size)]
        while below:
            lba, size = below.pop()
            if lba in self._directories:
                continue
            self._directories[lba] = data = self._image.read(lba * SECTOR, size)
            below += [(_both(r, 2), _both(r, 10)) for r, _ in _records(data) if r[25] & 2]

    def _descriptor(self, lba: int, data: bytes) -> None:
        out = bytearray(data)
        _put_both(out, 80, _both(data, 80) + self._shift)
        for at, order in _TABLES:
            place = struct.unpack_from(f"{order}I", data, at)[0]
            struct.pack_into(f"{order}I", out, at, self._lba(place))
        for place, order in _tables(data):
            self._patched[place * SECTOR] = self._path_table(place, _both(data, 132), order)
        out[156:190] = self._record(data[156:190])
        self._patched[lba * SECTOR] = bytes(out)

    def _path_table(self, lba: int, size: int, order: str) -> bytes:
        out, at = bytearray(self._image.read(lba * SECTOR, size)), 0
        while at + 8 <= size and out[at]:
            place = struct.unpack_from(f"{order}I", out, at + 2)[0]
            struct.pack_into(f"{order}I", out, at + 2, self._lba(place))
            at += 8 + out[at] + out[at] % 2
        return bytes(out)

    def _record(self, record: bytes) -> bytes:
        """A directory record with the file's new place and length."""
        out = bytearray(record)
        lba, size = _both(record, 2), _both(record, 10)
        extent = lba * SECTOR, size
        if extent in self._changes and not record[25] & (2 | _MULTI_EXTENT):
            self._found.add(extent)
            _put_both(out, 2, self._new_lba[extent])
            _put_both(out, 10, self._changes[extent].size)
        else:
            _put_both(out, 2, self._lba(lba))
        for at in _more_places(record):
            _put_both(out, at, self._lba(_both(record, at)))
        return bytes(out)


def _records(data: bytes) -> Iterator[tuple[bytes, bytes]]:
    """The records of a directory, each with the bytes behind it: records do not cross sectors."""
    at = 0
    while at < len(data):
        end = at + data[at]
        sector_end = min(at - at % SECTOR + SECTOR, len(data))
        if end > sector_end or data[at] < 34:
            raise ValueError(f"a directory record of {data[at]} bytes")
        fill = end if end < sector_end and data[end] else sector_end
        while fill < len(data) and not data[fill]:
            fill = min(fill + SECTOR, len(data))
        yield data[at:end], data[end:fill]
        at = fill


def _tables(descriptor: bytes) -> list[tuple[int, str]]:
    """The first sectors of the path tables, with their byte order; the second copies are optional."""
    places = [(struct.unpack_from(f"{order}I", descriptor, at)[0], order) for at, order in _TABLES]
    return [(place, order) for place, order in places if place]


def _more_places(record: bytes) -> Iterator[int]:
    """Where in a directory record its system use entries give places in both byte orders."""
    at = 33 + record[32] + (1 - record[32] % 2)
    while at + 4 <= len(record) and record[at + 2] >= 4:
        if record[at : at + 2] in _PLACES and record[at + 2] >= 12:
            yield at + 4
        at += record[at + 2]


def _sectors(size: int) -> int:
    return -(-size // SECTOR)


def _both(data: bytes, at: int) -> int:
    """A 32-bit number that stands low byte first and then high byte first (7.3.3)."""
    return int.from_bytes(data[at : at + 4], "little")


def _put_both(out: bytearray, at: int, value: int) -> None:
    struct.pack_into("<I", out, at, value)
    struct.pack_into(">I", out, at + 4, value)
