"""The three headers of Vorbis, as far as re-wrapping needs them.

Source: Xiph.Org, "Vorbis I specification" (2020-07-04): 2.1.4 and 9.2.1 bit packing, 3.2.1 codebooks, 4.2.2
identification header, 4.2.4 setup header, 4.3.1 packet types, 5 comments, 6.2.2 floor 0, 7.2.2 floor 1, 8.6.1 residues.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache

from ..base import ZubretError

IDENTIFICATION, COMMENT, SETUP = b"\x01vorbis", b"\x03vorbis", b"\x05vorbis"
VENDOR = b"Zubret"
_IDENTIFICATION = struct.Struct("<7sIBIiiiBB")
MOST_ENTRIES = 1 << 20
"""Entries of a codebook at most that are walked through; encoders use some thousands."""


def _wrong(what: str) -> ZubretError:
    return ZubretError(
        what, field="setup", next="It is damaged, or belongs to another bank: check the layout's codec and setup."
    )


@dataclass(frozen=True)
class Modes:
    """What tells how many frames a packet adds: block sizes in frames, and for each mode whether it is the long one."""

    short: int
    long: int
    flags: tuple[bool, ...]

    @property
    def bits(self) -> int:
        """Bits of a mode's number in a packet: ilog(modes - 1), clause 4.3.1."""
        return (len(self.flags) - 1).bit_length()


def identification(rate: int, channels: int, blocks: tuple[int, int]) -> bytes:
    """The identification header for blocks of these two sizes in frames; no bit rate is promised."""
    exponents = (blocks[0].bit_length() - 1) | (blocks[1].bit_length() - 1) << 4
    return _IDENTIFICATION.pack(IDENTIFICATION, 0, channels, rate, 0, 0, 0, exponents, 1)


def comments(texts: Mapping[str, str] | None = None, mark: bytes = COMMENT, framing: bytes = b"\1") -> bytes:
    """A comment header with these texts (clause 5.2.1); Opus has the same one behind another mark and without framing."""
    lines = [f"{name.upper()}={text}".encode() for name, text in (texts or {}).items() if text]
    out = mark + struct.pack("<I", len(VENDOR)) + VENDOR + struct.pack("<I", len(lines))
    return out + b"".join(struct.pack("<I", len(line)) + line for line in lines) + framing


def facts_of(header: bytes) -> tuple[int, int, int, int]:
    """(rate in Hz, channels, frames of a short block, of a long one) of an identification header."""
    if len(header) < _IDENTIFICATION.size or not header.startswith(IDENTIFICATION):
        raise _wrong("There is no Vorbis identification header where it should be.")
    _, version, channels, rate, _, _, _, exponents, framing = _IDENTIFICATION.unpack_from(header)
    short, long = 1 << (exponents & 15), 1 << (exponents >> 4)
    if version or not channels or not rate or not framing & 1 or not 64 <= short <= long <= 8192:
        raise _wrong("The Vorbis identification header says what can't be.")
    return rate, channels, short, long


class _Bits:
    """Bits from the lowest of each byte upwards (clause 2.1.4)."""

    def __init__(self, data: bytes):
        self._value, self._size, self._at = int.from_bytes(data, "little"), 8 * len(data), 0

    def take(self, count: int) -> int:
        if self._at + count > self._size:
            raise _wrong("The Vorbis setup header ends too early.")
        value = self._value >> self._at & (1 << count) - 1
        self._at += count
        return value

    def pass_over(self, count: int) -> None:
        if self._at + count > self._size:
            raise _wrong("The Vorbis setup header ends too early.")
        self._at += count


@lru_cache(maxsize=64)
def modes_of(identification: bytes, setup: bytes) -> Modes:
    """Block sizes and modes by the two headers. All else in the setup header is walked through, not kept."""
    _, channels, short, long = facts_of(identification)
    if not setup.startswith(SETUP):
        raise _wrong("There is no Vorbis setup header where it should be.")
    bits = _Bits(setup[len(SETUP) :])
    for _ in range(bits.take(8) + 1):
        _codebook(bits)
    bits.pass_over(16 * (bits.take(6) + 1))  # time domain transforms
    for _ in range(bits.take(6) + 1):
        _floor(bits)
    for _ in range(bits.take(6) + 1):
        _residue(bits)
    for _ in range(bits.take(6) + 1):
        _mapping(bits, channels)
    flags = []
    for _ in range(bits.take(6) + 1):
        flags.append(bool(bits.take(1)))
        bits.pass_over(16 + 16 + 8)  # window type, transform type, mapping
    if not bits.take(1):
        raise _wrong("The Vorbis setup header does not end as it should.")
    return Modes(short, long, tuple(flags))


def _codebook(bits: _Bits) -> None:
    """Clause 3.2.1."""
    if bits.take(24) != 0x564342:
        raise _wrong("A codebook of the Vorbis setup header does not begin as it should.")
    dimensions, entries = bits.take(16), bits.take(24)
    if entries > MOST_ENTRIES:
        raise _wrong(f"A codebook of {entries:,} entries is not possible.")
    if bits.take(1):  # ordered: runs of equal lengths
        bits.pass_over(5)
        done = 0
        while done < entries:
            done += bits.take((entries - done).bit_length())
    elif bits.take(1):  # sparse
        for _ in range(entries):
            if bits.take(1):
                bits.pass_over(5)
    else:
        bits.pass_over(5 * entries)
    lookup = bits.take(4)
    if lookup not in (0, 1, 2):
        raise _wrong(f"A codebook's lookup type {lookup} does not exist.")
    if lookup:
        bits.pass_over(32 + 32)
        width = bits.take(4) + 1
        bits.pass_over(1)
        values = _lookup1_values(entries, dimensions) if lookup == 1 else entries * dimensions
        bits.pass_over(values * width)


def _lookup1_values(entries: int, dimensions: int) -> int:
    """The greatest whole number whose power by `dimensions` is not above `entries` (clause 9.2.3)."""
    if not dimensions or not entries:
        return 0
    value = int(entries ** (1 / dimensions)) + 1
    while value**dimensions > entries:
        value -= 1
    return value


def _floor(bits: _Bits) -> None:
    """Clauses 6.2.2 and 7.2.2."""
    kind = bits.take(16)
    if kind == 0:
        bits.pass_over(8 + 16 + 16 + 6 + 8)
        bits.pass_over(8 * (bits.take(4) + 1))
        return
    if kind != 1:
        raise _wrong(f"A floor of type {kind} does not exist.")
    classes = [bits.take(4) for _ in range(bits.take(5))]
    sizes = []
    for _ in range(max(classes, default=-1) + 1):
        sizes.append(bits.take(3) + 1)
        subclasses = bits.take(2)
        bits.pass_over(8 if subclasses else 0)
        bits.pass_over(8 << subclasses)
    bits.pass_over(2)
    width = bits.take(4)
    bits.pass_over(width * sum(sizes[c] for c in classes))


def _residue(bits: _Bits) -> None:
    """Clause 8.6.1."""
    if bits.take(16) > 2:
        raise _wrong("A residue's type does not exist.")
    bits.pass_over(24 + 24 + 24)
    books = 0
    classes = bits.take(6) + 1
    bits.pass_over(8)
    for _ in range(classes):
        low = bits.take(3)
        high = bits.take(5) if bits.take(1) else 0
        books += low.bit_count() + high.bit_count()
    bits.pass_over(8 * books)


def _mapping(bits: _Bits, channels: int) -> None:
    """Clause 4.2.4, mappings."""
    if bits.take(16):
        raise _wrong("A mapping's type does not exist.")
    submaps = bits.take(4) + 1 if bits.take(1) else 1
    if bits.take(1):
        width = (channels - 1).bit_length()
        bits.pass_over((bits.take(8) + 1) * 2 * width)
    if bits.take(2):
        raise _wrong("A mapping's reserved bits are set.")
    if submaps > 1:
        bits.pass_over(4 * channels)
    bits.pass_over(submaps * (8 + 8 + 8))
