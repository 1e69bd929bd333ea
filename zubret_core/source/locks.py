"""Steps that keep every byte's place and can be read anywhere: AES, rows of bytes, bytes of a generator, byte order.

Sources: AES FIPS 197 and its modes SP 800-38A; linear congruential generators as in D. E. Knuth, The Art of Computer
Programming, volume 2, section 3.2.1 (how a game takes bytes from one is common practice).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from numba import njit
from numpy.typing import NDArray

from .base import SliceSource, Source
from .chain import ChainSource, Part
from .step import Step
from .unpack import spooled

AES_BLOCK = 16
DOES = ("xor", "add", "subtract", "rotate")
"""What is done with a byte of a row when it is written; reading does the contrary. Rotating is to the left, by bits."""


class Mapped(Source):
    """A source of which any span can be transformed by itself. `turn(at, bytes)` does it for whole grains."""

    def __init__(self, source: Source, grain: int, turn: Callable[[int, bytes], bytes]):
        self.name, self.size = source.name, source.size
        self._source, self._grain, self._turn = source, grain, turn

    def _read(self, at: int, length: int) -> bytes:
        start = at - at % self._grain
        end = min(self.size, at + length + -(at + length) % self._grain)
        return self._turn(start, self._source.read(start, end - start))[at - start : at - start + length]


@dataclass(frozen=True)
class Aes(Step):
    """AES (FIPS 197) with a key of 16, 24 or 32 bytes, in ECB, CBC or CTR (SP 800-38A).

    iv: the first chaining block or counter; zeros where none is given. In ECB and CBC a last block of fewer than
    16 bytes is stored as it is (common practice), so that nothing changes its length.
    """

    key: bytes = field(repr=False)
    mode: Literal["ecb", "cbc", "ctr"] = "ecb"
    iv: bytes = bytes(AES_BLOCK)
    view = True

    def _run(self, encrypt: bool, chain: bytes, data: bytes) -> bytes:
        whole = len(data) if self.mode == "ctr" else len(data) - len(data) % AES_BLOCK
        mode: Any = {"ecb": modes.ECB, "cbc": lambda: modes.CBC(chain), "ctr": lambda: modes.CTR(chain)}[self.mode]()
        cipher = Cipher(algorithms.AES(self.key), mode)
        worker = cipher.encryptor() if encrypt else cipher.decryptor()
        return worker.update(data[:whole]) + worker.finalize() + data[whole:]

    def _counter(self, at: int) -> bytes:
        """The counter block of byte `at`: a number of 128 bits, high byte first (SP 800-38A, appendix B.1)."""
        number = (int.from_bytes(self.iv, "big") + at // AES_BLOCK) % (1 << 128)
        return number.to_bytes(AES_BLOCK, "big")

    def unpacked(self, stored: Source, size: int, exact: bool) -> Source:
        def turn(at: int, data: bytes) -> bytes:
            if self.mode == "ctr":
                return self._run(False, self._counter(at), data)
            chain = self.iv if at == 0 or self.mode == "ecb" else stored.read(at - AES_BLOCK, AES_BLOCK)
            return self._run(False, chain, data)

        return Mapped(stored, AES_BLOCK, turn)

    def packed(self, plain: Source, like: Source | None = None) -> Source:
        if self.mode != "cbc":
            return Mapped(
                plain,
                AES_BLOCK,
                lambda at, data: self._run(True, self._counter(at) if self.mode == "ctr" else b"", data),
            )
        return spooled(self._chained(plain), plain.size, plain.name)

    def _chained(self, plain: Source) -> Iterator[bytes]:
        chain = self.iv
        for piece in plain.chunks():  # a whole number of blocks but for the last piece
            out = self._run(True, chain, piece)
            yield out
            chain = out[-AES_BLOCK:]


class _Changed(Step):
    """Every byte changed by another one, in one of the ways of DOES."""

    view = True
    does: str

    def bytes_at(self, at: int, length: int) -> NDArray[np.uint8]:
        """The bytes by which those from `at` on are changed."""
        raise TypeError(f"{type(self).__name__} has no bytes")

    def _turned(self, source: Source, write: bool) -> Source:
        def turn(at: int, data: bytes) -> bytes:
            values, by = np.frombuffer(data, np.uint8), self.bytes_at(at, len(data))
            if self.does == "xor":
                return (values ^ by).tobytes()
            if self.does == "rotate":
                return _rotated(values, (by if write else -by) & np.uint8(7))
            return (values + by if (self.does == "add") == write else values - by).tobytes()

        return Mapped(source, 1, turn)

    def unpacked(self, stored: Source, size: int, exact: bool) -> Source:
        return self._turned(stored, False)

    def packed(self, plain: Source, like: Source | None = None) -> Source:
        return self._turned(plain, True)


def _rotated(values: NDArray[np.uint8], left: NDArray[np.uint8]) -> bytes:
    wide = values.astype(np.uint16) << left
    return (wide | wide >> 8).astype(np.uint8).tobytes()


@dataclass(frozen=True)
class Row(_Changed):
    """A row of bytes that repeats, and begins anew at the payload's start."""

    row: bytes = field(repr=False)
    does: str = "xor"

    def bytes_at(self, at: int, length: int) -> NDArray[np.uint8]:
        row = np.frombuffer(self.row, np.uint8)
        shift = at % len(row)
        return np.tile(row, -(-(length + shift) // len(row)))[shift : shift + length]


@dataclass(frozen=True)
class Generator(_Changed):
    """Bytes of a linear congruential generator: state = state * multiply + plus modulo 2 to the `bits`.

    Of each state, shifted right by `shift` and masked, `width` bytes are given. first: whether the seed itself gives the
    first ones.
    """

    seed: int
    multiply: int
    plus: int
    bits: int = 32
    shift: int = 0
    mask: int = 255
    width: int = 1
    big: bool = False
    first: bool = False
    does: str = "xor"

    def bytes_at(self, at: int, length: int) -> NDArray[np.uint8]:
        modulus = (1 << self.bits) - 1
        step, end = at // self.width, -(-(at + length) // self.width)
        state = self._after(self.seed & modulus, step + (not self.first))
        out = np.empty((end - step) * self.width, np.uint8)
        first, multiply, plus, most = (np.uint64(n) for n in (state, self.multiply, self.plus, modulus))
        _generated(first, multiply, plus, most, np.uint64(self.shift), np.uint64(self.mask), self.width, self.big, out)
        skip = at - step * self.width
        return out[skip : skip + length]

    def _after(self, state: int, steps: int) -> int:
        """The state after so many steps: a step done twice is a step again, with other constants."""
        modulus, multiply, plus = (1 << self.bits) - 1, self.multiply, self.plus
        while steps:
            if steps & 1:
                state = (state * multiply + plus) & modulus
            multiply, plus, steps = multiply * multiply & modulus, (multiply + 1) * plus & modulus, steps >> 1
        return state


@njit(cache=True)
def _generated(state, multiply, plus, modulus, shift, mask, width, big, out):
    eight, low = np.uint64(8), np.uint64(255)
    for at in range(0, len(out), width):
        value = state >> shift & mask
        for n in range(width):
            out[at + (width - 1 - n if big else n)] = value & low
            value >>= eight
        state = state * multiply + plus & modulus


@dataclass(frozen=True)
class Swap(Step):
    """The bytes of every group of `width` in reverse order; a shorter rest at the end stays."""

    width: int
    view = True

    def unpacked(self, stored: Source, size: int, exact: bool) -> Source:
        def turn(at: int, data: bytes) -> bytes:
            whole = len(data) - len(data) % self.width
            return np.frombuffer(data[:whole], np.uint8).reshape(-1, self.width)[:, ::-1].tobytes() + data[whole:]

        return Mapped(stored, self.width, turn)

    def packed(self, plain: Source, like: Source | None = None) -> Source:
        return self.unpacked(plain, plain.size, True)


@dataclass(frozen=True)
class Beginning(Step):
    """A step that keeps every byte's place, over the first `length` bytes only."""

    inside: Step
    length: int
    view = True

    def unpacked(self, stored: Source, size: int, exact: bool) -> Source:
        return self._both(stored, lambda head: self.inside.unpacked(head, head.size, True))

    def packed(self, plain: Source, like: Source | None = None) -> Source:
        return self._both(plain, self.inside.packed)

    def _both(self, source: Source, turn: Callable[[Source], Any]) -> Source:
        length = max(0, min(self.length, source.size))
        head: Source = turn(SliceSource(source, 0, length))
        return ChainSource([Part(head, 0, length), Part(source, length, source.size - length)], source.name)


def warm() -> None:
    """Compile."""
    Generator(1, 1, 1).bytes_at(0, 1)
