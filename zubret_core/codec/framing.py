"""Packets one behind the other: finding them in a payload, and laying them out again.

A packet's length stands before it (`counted`), all have the same length (`fixed`), or a table in front of the first one
holds their number and their lengths (`table`; the number has four bytes). These three are common practice in banks.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import chain
from typing import Literal

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import ZubretError, gathered
from ..source import Source
from .base import wrong_parameter

WINDOW = 1 << 20
"""Bytes of a payload that are looked at together."""
COUNT = 4
"""Bytes of the number before a table of lengths."""


@njit(cache=True)
def counted_lengths(data, width, big, between, added, starts, sizes):
    """Places and lengths of the packets that stand whole in data; (their number, the place behind the last one)."""
    at, count = 0, 0
    while at + width <= len(data):
        size = np.int64(0)
        for byte in range(width):
            size |= np.int64(data[at + byte]) << 8 * (width - 1 - byte if big else byte)
        size -= added
        if size < 0 or at + width + between + size > len(data):
            break
        starts[count], sizes[count] = at + width + between, size
        at += width + between + size
        count += 1
    return count, at


@dataclass(frozen=True)
class Window:
    """Packets of a part of a payload: packet i is data[starts[i]:starts[i] + sizes[i]], and data begins at `at`; where the packets are
    stored otherwise, `stored` says where they begin in the payload, from `at` on, and their bytes there."""

    at: int
    data: NDArray[np.uint8]
    starts: NDArray[np.int64]
    sizes: NDArray[np.int64]
    stored: tuple[NDArray[np.int64], NDArray[np.int64]] | None = None

    def behind(self, count: int) -> Window:
        """The packets behind the first `count` ones."""
        stored = self.stored and (self.stored[0][count:], self.stored[1][count:])
        return Window(self.at, self.data, self.starts[count:], self.sizes[count:], stored)

    @property
    def begins(self) -> NDArray[np.int64]:
        """Where each packet begins in the payload, from `at` on."""
        return self.stored[0] if self.stored else self.starts

    @property
    def ends(self) -> NDArray[np.int64]:
        """Where each packet ends in the payload, from `at` on."""
        return self.stored[0] + self.stored[1] if self.stored else self.starts + self.sizes


@dataclass(frozen=True)
class Framing:
    """kind: counted, fixed or table; width: bytes of a length; fixed: bytes of a packet where all have the same; between: bytes behind a
    length in front of its packet, whose meaning nobody knows; added: what a stored length is more than the bytes of its packet."""

    kind: str
    width: int
    order: Literal["little", "big"]
    fixed: int
    between: int = 0
    added: int = 0

    @property
    def lead(self) -> int:
        """Bytes in front of each packet."""
        return self.width + self.between if self.kind == "counted" else 0

    def windows(self, payload: Source) -> Iterator[Window]:
        """All packets, about a megabyte at a time; ZubretError where a length leaves the payload."""
        if self.kind == "counted":
            yield from self._counted(payload)
            return
        if self.kind == "fixed" and self.fixed < 1:
            raise ZubretError(
                "The packets all have one length, but the bank does not say it.",
                file=payload.name,
                field="block_size",
                next="Tie a field to stream.block_size, or choose another framing in the layout's codec.",
            )
        at, count = self._begin(payload)
        first = 0
        while first < count:
            sizes = self._sizes(payload, first, min(count - first, 1 << 15))
            fits = max(1, int(np.searchsorted(np.cumsum(sizes), WINDOW, "right")))
            sizes = sizes[:fits]
            window = self._together(payload, at, sizes, first)
            yield window
            at, first = at + len(window.data), first + len(sizes)

    def part(self, payload: Source, at: int, end: int, first: int, count: int) -> Window:
        """The `count` packets from number `first` on, which stand in [at, end)."""
        if self.kind != "counted":
            return self._together(payload, at, self._sizes(payload, first, count), first)
        data = np.frombuffer(payload.read(at, end - at), np.uint8)
        starts, sizes = np.empty(count, np.int64), np.empty(count, np.int64)
        self._find(data, starts, sizes)
        return Window(at, data, starts, sizes)

    def _find(self, data: NDArray[np.uint8], starts: NDArray[np.int64], sizes: NDArray[np.int64]) -> tuple[int, int]:
        """The packets that stand whole in data: their number, and the place behind the last one."""
        return counted_lengths(data, self.width, self.order == "big", self.between, self.added, starts, sizes)

    def first(self, payload: Source, count: int) -> list[bytes]:
        """The first `count` packets."""
        out: list[bytes] = []
        for window in self.windows(payload):
            for start, size in zip(window.starts.tolist(), window.sizes.tolist(), strict=True):
                out.append(window.data[start : start + size].tobytes())
                if len(out) == count:
                    return out
        raise ZubretError(
            f"{count} header packets were expected, but the stream has only {len(out)} packets.",
            file=payload.name,
            next="Check the layout's codec: where the headers stand, and how packets are framed.",
        )

    def framed(self, packets: Iterable[bytes]) -> memoryview:
        """Packets as a payload; ZubretError for one that can't be framed so."""
        lengths = bytearray()
        body = gathered(self._with_lengths(packets, lengths))
        if self.kind != "table":
            return body
        count = len(lengths) // self.width
        pieces = (bytes(body[at : at + WINDOW]) for at in range(0, len(body), WINDOW))
        return gathered(chain([count.to_bytes(COUNT, self.order), bytes(lengths)], pieces))

    def _with_lengths(self, packets: Iterable[bytes], table: bytearray) -> Iterator[bytes]:
        """Packets with their lengths, which stand before each or in the table."""
        limit = self.fixed if self.kind == "fixed" else (1 << 8 * self.width) - 1 - self.added
        for packet in packets:
            size = len(packet)
            if size > limit or (self.kind == "fixed" and size < limit):
                raise ZubretError(
                    f"A packet of {size:,} bytes can't be stored: {'each has' if self.kind == 'fixed' else 'at most'} "
                    f"{limit:,} bytes here.",
                    field="packet",
                    next="Encode at another quality.",
                )
            if self.kind == "counted":
                yield (size + self.added).to_bytes(self.width, self.order) + bytes(self.between)
            elif self.kind == "table":
                table += (size + self.added).to_bytes(self.width, self.order)
            yield packet

    def _counted(self, payload: Source) -> Iterator[Window]:
        at, step = 0, WINDOW
        while at < payload.size:
            data = np.frombuffer(payload.read(at, min(step, payload.size - at)), np.uint8)
            most = len(data) // self.lead + 1
            starts, sizes = np.empty(most, np.int64), np.empty(most, np.int64)
            count, used = self._find(data, starts, sizes)
            if not count:
                if at + len(data) < payload.size:  # a packet longer than the window
                    step *= 2
                    continue
                raise ZubretError(
                    f"The packet here is longer than the {len(data):,} bytes that follow.",
                    file=payload.name,
                    offset=at,
                    next="The stream is damaged, or its packets are framed in another way: check the layout's codec.",
                )
            yield Window(at, data[:used], starts[:count], sizes[:count])
            at += used

    def _begin(self, payload: Source) -> tuple[int, int]:
        """Where the first packet of a payload without counted lengths stands, and how many there are."""
        if self.kind == "fixed":
            count, rest = divmod(payload.size, self.fixed)
            if rest:
                raise ZubretError(
                    f"The last packet has {rest:,} bytes of {self.fixed:,}.",
                    file=payload.name,
                    offset=payload.size - rest,
                    next="The stream is cut short, or its packets have another length.",
                )
            return 0, count
        count = int.from_bytes(payload.read(0, COUNT), self.order)
        at = COUNT + count * self.width
        if at > payload.size:
            raise ZubretError(
                f"{count:,} packets are promised, but their lengths alone need more than the {payload.size:,} bytes.",
                file=payload.name,
                offset=0,
                next="The stream is damaged, or its packets are framed in another way: check the layout's codec.",
            )
        return at, count

    def _sizes(self, payload: Source, first: int, count: int) -> NDArray[np.int64]:
        if self.kind == "fixed":
            return np.full(count, self.fixed, np.int64)
        kind = np.dtype(f"u{self.width}").newbyteorder("<" if self.order == "little" else ">")
        stored = np.frombuffer(payload.read(COUNT + first * self.width, count * self.width), kind).astype(np.int64)
        if (stored < self.added).any():
            raise ZubretError(
                f"Packet {first + int(np.argmax(stored < self.added)):,} would have fewer than 0 bytes.",
                file=payload.name,
                next="The stream is damaged, or its packets are framed in another way: check the layout's codec.",
            )
        return stored - self.added

    def _together(self, payload: Source, at: int, sizes: NDArray[np.int64], first: int) -> Window:
        total = int(sizes.sum())
        if at + total > payload.size:
            over = int(np.searchsorted(at + np.cumsum(sizes), payload.size, "right"))
            raise ZubretError(
                f"Packet {first + over:,} would end behind the {payload.size:,} bytes of its stream.",
                file=payload.name,
                offset=COUNT + (first + over) * self.width,
                next="The stream is damaged, or its packets are framed in another way: check the layout's codec.",
            )
        data = np.frombuffer(payload.read(at, total), np.uint8)
        return Window(at, data, np.concatenate([[0], np.cumsum(sizes)[:-1]]).astype(np.int64), sizes)


def check_framing(kind: str, between: int, added: int) -> None:
    """ZubretError where a codec's parameters can't be."""
    if not 0 <= between <= 64 or (between and kind != "counted"):
        raise wrong_parameter("between", between, "it is 0 to 64 bytes, where lengths stand before their packets")
    if not 0 <= added <= 64 or (added and kind == "fixed"):
        raise wrong_parameter("added", added, "it is 0 to 64, where packets have lengths")


def warm() -> None:
    """Compile the kernels."""
    one = np.zeros(1, np.int64)
    counted_lengths(np.frombuffer(b"\0", np.uint8), 1, False, 0, 0, one, one)
