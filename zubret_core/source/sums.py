"""Checksums and digests over sources, by the names that layouts use.

Sources: CRC parameters after R. Williams, "A Painless Guide to CRC Error Detection Algorithms" (1993), names and
check values after the CRC RevEng catalogue; Adler-32 RFC 1950 section 9; MD5 RFC 1321; SHA-1 and SHA-256
FIPS 180-4; xxHash after its specification 0.2.0; FNV-1a after draft-eastlake-fnv.
"""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cache, partial

import numpy as np
import xxhash
from numba import njit
from numpy.typing import NDArray

from ..base import Progress, tell
from .base import BytesSource, Source


@dataclass(frozen=True)
class Crc:
    """A CRC by its parameters: width in bits (8 to 64), polynomial, start, reflection of input and output, last XOR."""

    width: int
    poly: int
    init: int = 0
    refin: bool = False
    refout: bool = False
    xorout: int = 0


@dataclass(frozen=True)
class Words:
    """A sum of whole numbers: bytes of each (1 to 8), high byte first or not, what is done with them (added, subtracted, xored) from
    `init` on, and what the outcome is XORed with at last. What is missing of the last number is zeros. Common practice."""

    width: int
    big: bool
    does: str
    init: int = 0
    xorout: int = 0


CRCS = {
    "crc32": Crc(32, 0x04C11DB7, 0xFFFFFFFF, True, True, 0xFFFFFFFF),
    "crc32c": Crc(32, 0x1EDC6F41, 0xFFFFFFFF, True, True, 0xFFFFFFFF),
    "crc32-bzip2": Crc(32, 0x04C11DB7, 0xFFFFFFFF, False, False, 0xFFFFFFFF),
    "crc16": Crc(16, 0x8005, 0, True, True, 0),
    "crc16-ccitt": Crc(16, 0x1021, 0xFFFF, False, False, 0),
    "crc64-xz": Crc(64, 0x42F0E1EBA9EA3693, 0xFFFFFFFFFFFFFFFF, True, True, 0xFFFFFFFFFFFFFFFF),
}
"""CRCs by name: CRC-32/ISO-HDLC, /ISCSI, /BZIP2, CRC-16/ARC, /IBM-3740, CRC-64/XZ of the catalogue."""


def _reversed(value: int, bits: int) -> int:
    return int(f"{value:0{bits}b}"[::-1], 2)


@cache
def _table(width: int, poly: int) -> NDArray[np.uint64]:
    """The remainders of all bytes, reflected: one table serves both directions."""
    mirrored, out = _reversed(poly, width), np.zeros(256, np.uint64)
    for n in range(256):
        value = n
        for _ in range(8):
            value = value >> 1 ^ (mirrored if value & 1 else 0)
        out[n] = value
    return out


@cache
def _mirror() -> NDArray[np.uint8]:
    return np.array([_reversed(n, 8) for n in range(256)], np.uint8)


@njit(cache=True)
def _crc_run(data, table, value):
    for byte in data:
        value = value >> np.uint64(8) ^ table[np.int64((value ^ np.uint64(byte)) & np.uint64(255))]
    return value


def crc_of(pieces: Iterable[bytes], how: Crc) -> int:
    """A CRC of the pieces taken together."""
    table = _table(how.width, how.poly)
    value = np.uint64(_reversed(how.init, how.width))
    for piece in pieces:
        data = np.frombuffer(piece, np.uint8)
        value = np.uint64(_crc_run(data if how.refin else _mirror()[data], table, value))
    number = int(value)
    return (number if how.refout else _reversed(number, how.width)) ^ how.xorout


def words_of(pieces: Iterable[bytes], how: Words) -> int:
    """A sum of whole numbers over the pieces taken together."""
    shape = np.dtype(f"{'>' if how.big else '<'}u{how.width}")
    total, rest = 0, b""

    def take(words: NDArray) -> int:
        if how.does == "xored":
            return total ^ int(np.bitwise_xor.reduce(words, initial=0))
        return total + int(words.sum(dtype=np.uint64))

    for piece in pieces:
        data = rest + bytes(piece) if rest else piece
        whole = len(data) - len(data) % how.width
        total, rest = take(np.frombuffer(data, shape, whole // how.width)), bytes(data[whole:])
    if rest:
        total = take(np.frombuffer(rest.ljust(how.width, b"\0"), shape))
    outcome = {"added": how.init + total, "subtracted": how.init - total, "xored": how.init ^ total}[how.does]
    return (outcome ^ how.xorout) & (1 << 8 * how.width) - 1


@njit(cache=True)
def _fnv1a_run(data, value, prime):
    for byte in data:
        value = (value ^ np.uint64(byte)) * prime
    return value


@njit(cache=True)
def _djb2_run(data, value):
    for byte in data:
        value = value * np.uint64(33) + np.uint64(byte)
    return value


def _fnv1a(bits: int) -> Callable[[Iterable[bytes]], int]:
    start, prime = {32: (0x811C9DC5, 0x01000193), 64: (0xCBF29CE484222325, 0x100000001B3)}[bits]

    def update(piece: bytes, value: int) -> int:
        return int(_fnv1a_run(np.frombuffer(piece, np.uint8), np.uint64(value), np.uint64(prime))) & (1 << bits) - 1

    return _running(update, start)


def _djb2(piece: bytes, value: int) -> int:
    return int(_djb2_run(np.frombuffer(piece, np.uint8), np.uint64(value))) & 0xFFFFFFFF


def _running(update: Callable[[bytes, int], int], start: int) -> Callable[[Iterable[bytes]], int]:
    def run(pieces: Iterable[bytes]) -> int:
        value = start
        for piece in pieces:
            value = update(piece, value)
        return value

    return run


def _digest(make: Callable) -> Callable[[Iterable[bytes]], bytes]:
    def run(pieces: Iterable[bytes]) -> bytes:
        value = make()
        for piece in pieces:
            value.update(piece)
        return value.digest()

    return run


def _number(make: Callable) -> Callable[[Iterable[bytes]], int]:
    digest = _digest(make)
    return lambda pieces: int.from_bytes(digest(pieces), "big")


def _bytes_added(pieces: Iterable[bytes]) -> int:
    return sum(int(np.frombuffer(p, np.uint8).sum(dtype=np.uint64)) for p in pieces)


SUMS: dict[str, Callable[[Iterable[bytes]], int | bytes]] = {
    "crc32": _running(zlib.crc32, 0),
    "adler32": _running(zlib.adler32, 1),
    "xxh32": _number(xxhash.xxh32),
    "xxh64": _number(xxhash.xxh64),
    "xxh3-64": _number(xxhash.xxh3_64),
    "added": _bytes_added,
    "fnv1a-32": _fnv1a(32),
    "fnv1a-64": _fnv1a(64),
    "djb2": _running(_djb2, 5381),
    "md5": _digest(hashlib.md5),
    "sha1": _digest(hashlib.sha1),
    "sha256": _digest(hashlib.sha256),
    **{name: partial(crc_of, how=how) for name, how in CRCS.items() if name != "crc32"},
}
"""Every sum by name; a number, or bytes for the digests. "added" is the plain sum of all bytes; djb2 (times 33, from 5381) is common
practice."""


Rule = str | Crc | Words
"""One of SUMS by its name, or a sum by its parameters."""


def sum_over(how: Rule, pieces: Iterable[bytes]) -> int | bytes:
    """The sum of pieces taken together."""
    if isinstance(how, Crc):
        return crc_of(pieces, how)
    return words_of(pieces, how) if isinstance(how, Words) else SUMS[how](pieces)


def sum_of(how: Rule, source: Source, progress: Progress = tell) -> int | bytes:
    """The sum of all bytes of a source; how far it is goes to whoever listens on this thread, if to nobody else."""

    def pieces():
        done = 0
        # What is in memory is not copied for it.
        chunks = source.views() if isinstance(source, BytesSource) else source.chunks()
        for piece in chunks:
            yield piece
            done += len(piece)
            progress(done, source.size, f"checksum of {source.name}")

    return sum_over(how, pieces())


def crc32_of(source: Source, progress: Progress = tell) -> int:
    """CRC-32 of all bytes (CRC-32/ISO-HDLC, as in ZIP and PNG; RFC 1952 section 8)."""
    value = sum_of("crc32", source, progress)
    assert isinstance(value, int)
    return value


def warm() -> None:
    """Compile."""
    for name in ("crc32c", "crc16-ccitt", "fnv1a-32", "djb2"):
        SUMS[name]([b"\0"])
