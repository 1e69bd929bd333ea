"""Ogg pages, written and read.

Source: RFC 3533, 6 (page format); Vorbis I specification, A.2 (which header stands on which page, granule positions);
RFC 7845, 3 and 4. The checksum is CRC-32 with the polynomial 04C11DB7, not reflected, begun with 0 and not inverted.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import ZubretError
from ..source import Source

HEAD = struct.Struct("<4sBBqIIIB")
CONTINUED, FIRST, LAST = 1, 2, 4
NOTHING_ENDS = -1
"""The granule position of a page on which no packet ends."""
FULL = 4096
"""Bytes of packets after which a page is closed, as the format's own documents advise (RFC 3533, 6: "around 4-8 kB")."""
MOST_SEGMENTS = 255
LONGEST_PAGE = HEAD.size + MOST_SEGMENTS + 255 * MOST_SEGMENTS
SERIAL = 0x5A554252
LONGEST_PACKET = 1 << 24
"""Bytes of a packet at most that goes over several pages."""


def _table() -> NDArray[np.uint32]:
    """CRC of each byte followed by 0 to 7 zeros, for eight bytes at a time."""
    table = np.zeros((8, 256), np.uint32)
    for byte in range(256):
        value = byte << 24
        for _ in range(8):
            value = (value << 1 ^ (0x04C11DB7 if value & 0x80000000 else 0)) & 0xFFFFFFFF
        table[0, byte] = value
    for n in range(1, 8):
        before = table[n - 1]
        table[n] = (before << np.uint32(8)) ^ table[0, before >> np.uint32(24)]
    return table


_CRC = _table()


@njit(cache=True)
def crc_of(data, start, end, table):
    """The checksum of data[start:end], whose own field holds zeros."""
    crc = np.uint32(0)
    at = start
    while at + 8 <= end:
        crc ^= (
            np.uint32(data[at]) << np.uint32(24)
            | np.uint32(data[at + 1]) << np.uint32(16)
            | np.uint32(data[at + 2]) << np.uint32(8)
            | np.uint32(data[at + 3])
        )
        crc = (
            table[7, crc >> np.uint32(24)]
            ^ table[6, crc >> np.uint32(16) & np.uint32(255)]
            ^ table[5, crc >> np.uint32(8) & np.uint32(255)]
            ^ table[4, crc & np.uint32(255)]
            ^ table[3, data[at + 4]]
            ^ table[2, data[at + 5]]
            ^ table[1, data[at + 6]]
            ^ table[0, data[at + 7]]
        )
        at += 8
    while at < end:
        crc = np.uint32(crc << np.uint32(8) & np.uint32(0xFFFFFFFF)) ^ table[0, (crc >> np.uint32(24)) ^ data[at]]
        at += 1
    return crc


@njit(cache=True)
def fill_page(out, at, flags, granule, serial, number, data, starts, sizes, table):
    """Write the page that holds the packets data[starts[i]:starts[i] + sizes[i]] into out from `at`; returns its end."""
    segments = at + 27
    count = 0
    for n in range(len(sizes)):
        left = sizes[n]
        while left >= 255:
            out[segments + count] = 255
            left -= 255
            count += 1
        out[segments + count] = left
        count += 1
    out[at], out[at + 1], out[at + 2], out[at + 3] = 79, 103, 103, 83  # OggS
    out[at + 4], out[at + 5] = 0, flags
    for byte in range(8):
        out[at + 6 + byte] = granule >> 8 * byte & 255
    for byte in range(4):
        out[at + 14 + byte] = serial >> 8 * byte & 255
        out[at + 18 + byte] = number >> 8 * byte & 255
        out[at + 22 + byte] = 0
    out[at + 26] = count
    end = segments + count
    for n in range(len(sizes)):
        for byte in range(sizes[n]):
            out[end + byte] = data[starts[n] + byte]
        end += sizes[n]
    crc = crc_of(out, at, end, table)
    for byte in range(4):
        out[at + 22 + byte] = crc >> np.uint32(8 * byte) & np.uint32(255)
    return end


def page_of(flags: int, granule: int, number: int, data: NDArray, starts: NDArray, sizes: NDArray) -> bytes:
    """One page of whole packets, which are data[start:start + size]; at most 255 segments of 255 bytes."""
    out = np.empty(HEAD.size + MOST_SEGMENTS + int(sizes.sum()), np.uint8)
    end = fill_page(out, 0, flags, granule, SERIAL, number, data, starts, sizes, _CRC)
    return out[:end].tobytes()


def header_pages(headers: Sequence[bytes]) -> list[bytes]:
    """The pages of header packets: the first has a page to itself, and the last one ends its page.

    A header that is longer than a page goes on on the next ones.
    """
    pages = [_page(FIRST, 0, 0, [len(headers[0])], headers[0])]
    segments: list[int] = []
    for header in headers[1:]:
        segments += [255] * (len(header) // 255) + [len(header) % 255]
    body = b"".join(headers[1:])
    at, continued = 0, False
    for n in range(0, len(segments), MOST_SEGMENTS):
        these = segments[n : n + MOST_SEGMENTS]
        size = sum(these)
        ends = any(s < 255 for s in these)
        flags = CONTINUED if continued else 0
        pages.append(_page(flags, 0 if ends else NOTHING_ENDS, len(pages), these, body[at : at + size], laced=True))
        at, continued = at + size, these[-1] == 255
    return pages


def _page(flags: int, granule: int, number: int, sizes: list[int], body: bytes, laced: bool = False) -> bytes:
    lacing = sizes if laced else [x for s in sizes for x in [255] * (s // 255) + [s % 255]]
    page = bytearray(HEAD.pack(b"OggS", 0, flags, granule, SERIAL, number, 0, len(lacing)) + bytes(lacing) + body)
    crc = crc_of(np.frombuffer(page, np.uint8), 0, len(page), _CRC)
    struct.pack_into("<I", page, 22, int(crc))
    return bytes(page)


@dataclass(frozen=True)
class Page:
    """One page as read: flags, granule position (-1: no packet ends here), its segments' lengths and its bytes."""

    flags: int
    granule: int
    serial: int
    number: int
    segments: bytes
    body: bytes


def page_at(source: Source, at: int) -> Page | None:
    """The page that stands at a place; None where there is none, or where its checksum is wrong."""
    head = source.read(at, min(LONGEST_PAGE, source.size - at))
    if len(head) < HEAD.size:
        return None
    mark, version, flags, granule, serial, number, crc, count = HEAD.unpack_from(head)
    segments = head[HEAD.size : HEAD.size + count]
    begin = HEAD.size + count
    body = head[begin : begin + sum(segments)]
    if mark != b"OggS" or version or len(segments) < count or len(body) < sum(segments):
        return None
    whole = np.frombuffer(head[:22] + bytes(4) + head[26:begin] + body, np.uint8)
    if int(crc_of(whole, 0, len(whole), _CRC)) != crc:
        return None
    return Page(flags, granule, serial, number, segments, body)


def pages_of(source: Source) -> Iterator[Page]:
    """All pages of an Ogg file, their checksums checked; ZubretError where there is none or it is wrong."""
    at = 0
    while at < source.size:
        page = page_at(source, at)
        if page is None:
            raise _broken(source, at, "There is no Ogg page with a right checksum here.")
        yield page
        at += HEAD.size + len(page.segments) + len(page.body)


class OggPages:
    """The pages of an Ogg file's first logical stream, found once without reading what stands on them; begins: the byte offset
    behind its headers."""

    def __init__(self, source: Source):
        self.name, self._source = source.name, source
        self._places: list[tuple[int, bytes, bool]] = []
        ends: list[int] = []
        at, serial = 0, None
        while at + HEAD.size <= source.size:
            head = source.read(at, min(HEAD.size + MOST_SEGMENTS, source.size - at))
            mark, version, flags, granule, number, _, _, count = HEAD.unpack_from(head)
            if mark != b"OggS" or version or len(head) < HEAD.size + count:
                raise _broken(source, at, "There is no Ogg page here.")
            segments = head[HEAD.size : HEAD.size + count]
            serial = number if serial is None else serial
            if number == serial:
                self._places.append((at + HEAD.size + count, segments, bool(flags & CONTINUED)))
                ends.append(granule if granule != NOTHING_ENDS else (ends[-1] if ends else 0))
            at += HEAD.size + count + sum(segments)
        self._first, self.headers = self._find_headers()
        self.begins = self._places[self._first - 1][0] + sum(self._places[self._first - 1][1])
        self.ends = np.maximum.accumulate(np.array(ends[self._first :] or [0], np.int64))

    def _find_headers(self) -> tuple[int, list[bytes]]:
        """The page behind the headers, and these; headers end their page."""
        headers: list[bytes] = []
        for n in range(len(self._places)):
            headers += self._ending(n)
            wanted = 2 if headers and headers[0].startswith(b"OpusHead") else 3
            if len(headers) >= wanted:
                return n + 1, headers[:wanted]
        raise _broken(self._source, 0, "The Ogg file has no headers.")

    def packets(self, page: int) -> list[bytes]:
        """The packets that end on a page behind the headers."""
        return self._ending(self._first + page)

    def _ending(self, n: int) -> list[bytes]:
        at, segments, continued = self._places[n]
        body = self._source.read(at, min(sum(segments), max(0, self._source.size - at)))
        out, begun, place = [], b"", 0
        while continued and n > 0 and len(begun) < LONGEST_PACKET:
            n -= 1
            before, sizes, continued = self._places[n]
            whole = max((i + 1 for i, size in enumerate(sizes) if size < 255), default=0)
            begun = self._source.read(before + sum(sizes[:whole]), sum(sizes[whole:])) + begun
            continued = continued and not whole
        for size in segments:
            begun += body[place : place + size]
            place += size
            if size < 255:
                out.append(begun)
                begun = b""
        return out


def _broken(source: Source, at: int, what: str) -> ZubretError:
    return ZubretError(what, file=source.name, offset=at, next="The file is damaged: export it again.")


def packets_of(source: Source) -> tuple[list[bytes], int]:
    """The packets of an Ogg file's first logical stream, and the granule position of its last page."""
    packets, granules = zip(*packets_in(source), strict=True)
    return list(packets), granules[-1]


def packets_in(source: Source) -> Iterator[tuple[bytes, int]]:
    """The same one after the other, each with the granule position of the page on which it ends."""
    begun, serial = b"", None
    for page in pages_of(source):
        serial = page.serial if serial is None else serial
        if page.serial != serial:
            continue
        at = 0
        for size in page.segments:
            begun += page.body[at : at + size]
            at += size
            if size < 255:
                yield begun, page.granule
                begun = b""


def warm() -> None:
    """Compile the kernels."""
    one = np.frombuffer(b"\0", np.uint8)
    page_of(0, 0, 0, one, np.zeros(1, np.int64), np.ones(1, np.int64))
    crc_of(one, 0, 1, _CRC)
