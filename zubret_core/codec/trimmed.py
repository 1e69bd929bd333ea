"""Vorbis packets of which a bank leaves out what follows from elsewhere, and puts back nothing that is heard.

Two things follow: the first bit of a packet, which is 0 for sound; and of a long block the two bits that say whether the blocks
before and behind it are long, which their own modes say. Source: Vorbis I specification, 2.1.4 (order of bits), 4.3.1 (what a packet
begins with). What is restored has the bits of the packet that was trimmed, but for zeros behind its end.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import ZubretError
from ..source import Source
from .framing import Framing, Window
from .vorbis import Modes

TYPE, WINDOWS = "type", "windows"
NO_MODES = Modes(256, 2048, (False,))
LEFT_OUT = (TYPE, WINDOWS)
"""What may be left out."""


@njit(cache=True)
def _modes(data: Any, starts: Any, sizes: Any, skip: Any, mask: Any, out: Any) -> Any:
    """The mode of each packet, whose number begins at bit `skip`; -1 where the packet is too short for one."""
    for n in range(len(sizes)):
        if sizes[n] == 0:
            out[n] = -1
            continue
        word = np.int64(data[starts[n]])
        if sizes[n] > 1:
            word |= np.int64(data[starts[n] + 1]) << 8
        out[n] = word >> skip & mask


@njit(cache=True)
def _moved(data: Any, start: Any, size: Any, skip: Any, head: Any, width: Any, out: Any, to: Any) -> Any:
    """A packet without its first `skip` bits, behind the `width` bits of `head`, into out[to:]; its bytes: one more where bits
    other than 0 would be lost."""
    held, count = np.int64(head), width
    at = start + (skip >> 3)
    place = to
    first = True
    while at < start + size:
        byte = np.int64(data[at])
        taken = 8
        if first:
            byte, taken, first = byte >> (skip & 7), 8 - (skip & 7), False
        held |= byte << count
        count += taken
        at += 1
        while count >= 8:
            out[place] = held & 255
            held >>= 8
            count -= 8
            place += 1
    if count > 0 and (held != 0 or place - to < size):
        out[place] = held & 255
        place += 1
    return place - to


@njit(cache=True)
def _grown(data: Any, starts: Any, sizes: Any, modes: Any, longs: Any, around: Any, bits: Any, typed: Any, told: Any, out: Any,
           places: Any, lengths: Any) -> None:  # fmt: skip
    """Packets with what was left out; around: of each packet bit 0 whether the one before is long, bit 1 whether the one behind is;
    typed, told: whether type and windows are stored."""
    to = np.int64(0)
    for n in range(len(sizes)):
        places[n] = to
        if modes[n] < 0:
            lengths[n] = 0
            continue
        head, width, skip = np.int64(modes[n]) << 1, 1 + bits, bits + (1 if typed else 0)
        if longs[n] and not told:
            head |= np.int64(around[n]) << (1 + bits)
            width += 2
        lengths[n] = _moved(data, starts[n], sizes[n], skip, head, width, out, to)
        to += lengths[n]


@dataclass(frozen=True)
class Trimmed(Framing):
    """Packets by the way in which they stand, and what is left out of each. modes: by the setup header."""

    modes: Modes = NO_MODES
    left_out: tuple[str, ...] = ()

    def windows(self, payload: Source) -> Iterator[Window]:
        longs, number = self._longs(payload), 0
        for window in super().windows(payload):
            yield self._restored(window, number, longs)
            number += len(window.sizes)

    def part(self, payload: Source, at: int, end: int, first: int, count: int) -> Window:
        return self._restored(super().part(payload, at, end, first, count), first, self._longs(payload))

    def framed(self, packets: Iterable[bytes]) -> memoryview:
        return super().framed(map(self.trim, packets))

    def trim(self, packet: bytes) -> bytes:
        """A packet without what follows from elsewhere."""
        if not packet:
            return packet
        if packet[0] & 1:
            raise ZubretError(
                "A header stands among the packets of sound.", field="packet", next="Give the sound's packets alone."
            )
        bits = self.modes.bits
        mode = int.from_bytes(packet[:2], "little") >> 1 & (1 << bits) - 1
        self._check(mode, 0, "replacement")
        head, width = (mode, bits) if TYPE in self.left_out else (mode << 1, bits + 1)
        skip = 1 + bits + (2 if WINDOWS in self.left_out and self.modes.flags[mode] else 0)
        out = np.zeros(len(packet) + 1, np.uint8)
        data = np.frombuffer(packet, np.uint8)
        size = int(_moved(data, 0, len(packet), skip, head, width, out, 0))
        return out[:size].tobytes()

    def _check(self, mode: int, number: int, name: str) -> None:
        if mode >= len(self.modes.flags):
            raise ZubretError(
                f"Packet {number:,} has a mode that the setup header does not have.",
                file=name,
                field="setup",
                next="The setup header belongs to another bank, or less is left out of the packets than the layout says.",
            )

    def _found(self, window: Window) -> NDArray[np.int64]:
        modes = np.empty(len(window.sizes), np.int64)
        skip = 0 if TYPE in self.left_out else 1
        _modes(window.data, window.starts, window.sizes, skip, (1 << self.modes.bits) - 1, modes)
        return modes

    def _longs(self, payload: Source) -> NDArray[np.uint8]:
        """Of every packet whether its block is long: what is left out of others follows from it. Looked up once for a payload."""
        key = (Trimmed, self)
        if key not in payload.memory:
            flags = np.array(self.modes.flags, np.uint8)
            found, number = [np.zeros(0, np.uint8)], 0
            for window in super().windows(payload):
                modes = self._found(window)
                wrong = np.flatnonzero(modes >= len(flags))
                if len(wrong):
                    self._check(int(modes[wrong[0]]), number + int(wrong[0]), payload.name)
                found.append(np.where(modes < 0, 0, flags[np.maximum(modes, 0)]).astype(np.uint8))
                number += len(modes)
            payload.memory[key] = np.concatenate(found)
        longs: NDArray[np.uint8] = payload.memory[key]
        return longs

    def _restored(self, window: Window, first: int, longs: NDArray[np.uint8]) -> Window:
        count = len(window.sizes)
        own = longs[first : first + count]
        before = np.concatenate([longs[max(0, first - 1) : first], own])[-count - 1 :]
        before = before[:count] if len(before) > count else np.concatenate([own[:1], before])[:count]
        behind = np.concatenate([own[1:], longs[first + count : first + count + 1]])
        behind = behind if len(behind) == count else np.concatenate([behind, own[-1:]])
        around = before | behind << 1
        out = np.zeros(int(window.sizes.sum()) + 2 * count + 8, np.uint8)
        places, lengths = np.zeros(count, np.int64), np.zeros(count, np.int64)
        _grown(window.data, window.starts, window.sizes, self._found(window), own, around, self.modes.bits,
               TYPE not in self.left_out, WINDOWS not in self.left_out, out, places, lengths)  # fmt: skip
        return Window(window.at, out, places, lengths, (window.starts, window.sizes))


def warm() -> None:
    """Compile the kernels."""
    one = np.zeros(1, np.int64)
    few, read = np.zeros(1, np.uint8), np.frombuffer(b"\0", np.uint8)
    _modes(read, one, one, 0, 1, one.copy())
    _grown(read, one, one, one, few, few, 1, True, True, np.zeros(8, np.uint8), one.copy(), one.copy())
