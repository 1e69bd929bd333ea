"""Texts in pools: fields give where they begin, and the pool, or another field of the record, says how long they are."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..language.schema import Pool
from ..types import decoded
from .shape import Slot
from .ties import Scope, line_of, scaled, xored


class PoolTexts:
    """The texts of a pool, by where they begin; one may begin inside another. big: whether the number before a text has its high byte
    first."""

    def __init__(self, data: bytes, how: Pool, big: bool = False):
        self.data, self.how = data, how
        self._order, self._width = "big" if big else "little", int((how.counted or "u0")[1:]) // 8
        self._starts: NDArray[np.int64] | None = None
        self._pieces: list[str] = []

    def _split(self) -> NDArray[np.int64]:
        if self._starts is None:
            ends, encoding = self.how.ends, self.how.encoding
            if (
                len(ends) == 1
                and encoding in ("utf-8", "ascii", "latin-1")
                and (ends == b"\0" or b"\0" not in self.data)
            ):
                marks = np.flatnonzero(np.frombuffer(self.data, np.uint8) == ends[0])
                self._starts = np.concatenate([[0], marks + 1]).astype(np.int64)
                self._pieces = self.data.decode(encoding, "surrogateescape").split(chr(ends[0]))
            else:
                self._starts = self._split_slowly(ends)
        return self._starts

    def _split_slowly(self, ends: bytes) -> NDArray[np.int64]:
        """The same for ends of several bytes, which stand at whole characters, and for texts with zeros in them."""
        places, at = [0], self.data.find(ends)
        while at >= 0:
            if (at - places[-1]) % len(ends) == 0:
                places.append(at + len(ends))
                at = self.data.find(ends, places[-1])
            else:
                at = self.data.find(ends, at + 1)
        stops = [*(p - len(ends) for p in places[1:]), len(self.data)]
        self._pieces = [decoded(self.data[a:b], self.how.encoding) for a, b in zip(places, stops, strict=True)]
        return np.array(places, np.int64)

    def texts(self, offsets: NDArray, lengths: NDArray | None = None) -> list[str]:
        """The texts at some places; lengths: their bytes, where their records say them. An IndexError with the number of the first that
        leaves the pool."""
        if lengths is None and not self._width:
            return self._up_to_their_ends(offsets)
        out = []
        for n, at in enumerate(offsets.tolist()):
            end = at + int(lengths[n]) if lengths is not None else self._counted_end(at)
            if not 0 <= at <= end <= len(self.data):
                raise IndexError(n)
            out.append(decoded(self.data[at if lengths is not None else at + self._width : end], self.how.encoding))
        return out

    def _counted_end(self, at: int) -> int:
        number = self.data[max(0, at) : at + self._width]
        return at + self._width + int.from_bytes(number, self._order) if len(number) == self._width else -1  # type: ignore[arg-type]

    def _up_to_their_ends(self, offsets: NDArray) -> list[str]:
        bad = (offsets < 0) | (offsets >= len(self.data))
        if bad.any():
            raise IndexError(int(np.argmax(bad)))
        starts = self._split()
        found = np.searchsorted(starts, offsets, "right") - 1
        out = [self._pieces[n] for n in found.tolist()]
        for n in np.flatnonzero(starts[found] != offsets).tolist() if len(offsets) else ():
            out[n] = self._inside(int(offsets[n]))
        return out

    def _inside(self, at: int) -> str:
        """A text that begins inside another."""
        step, end = len(self.how.ends), self.data.find(self.how.ends, at)
        while end >= 0 and (end - at) % step:
            end = self.data.find(self.how.ends, end + 1)
        return decoded(self.data[at : end if end >= 0 else len(self.data)], self.how.encoding)

    def places(self) -> dict[str, int]:
        """Where each text first begins, as far as the pool says it by itself."""
        if self._width:
            return self._counted_places()
        if not self.how.ends:
            return {}
        starts = self._split().tolist()
        return {
            text: at for at, text in zip(reversed(starts), reversed(self._pieces), strict=True) if at < len(self.data)
        }

    def _counted_places(self) -> dict[str, int]:
        found: dict[str, int] = {}
        at = 0
        while at < len(self.data) and at < (end := self._counted_end(at)) <= len(self.data):
            found.setdefault(decoded(self.data[at + self._width : end], self.how.encoding), at)
            at = end
        return found

    def added(self, pool: bytearray, text: bytes) -> int | None:
        """Put a text behind all others of a pool: where it begins, None where the number before it can't be so large."""
        if self._width and len(text) >= 1 << 8 * self._width:
            return None
        if pool and not pool.endswith(self.how.ends):
            pool += self.how.ends
        at = len(pool)
        if self._width:
            pool += len(text).to_bytes(self._width, self._order)  # type: ignore[arg-type]
        pool += text + self.how.ends
        return at


def pool_places(slot: Slot, stored: NDArray, scope: Scope) -> NDArray:
    """Where the texts of stored numbers stand in their pool."""
    return scaled(slot, xored(slot, stored, scope), line_of(slot, scope), scope).astype(np.int64)


def pooled(slot: Slot, stored: NDArray, pool: PoolTexts, scope: Scope) -> list:
    """The texts to which a field's numbers point; None where `none` stands."""
    offsets, lengths = (
        pool_places(slot, stored, scope),
        scope.own(slot.tie.text_length) if slot.tie.text_length else None,
    )
    given = np.ones(len(offsets), bool)
    if slot.tie.none is not None:
        given = xored(slot, stored, scope) != slot.tie.none
    rows = np.flatnonzero(given)
    try:
        found = iter(pool.texts(offsets[rows], lengths[rows] if lengths is not None else None))
    except IndexError as e:
        row = int(rows[e.args[0]])
        what = f"The text at {int(offsets[row]):,} leaves the {len(pool.data):,} bytes of {slot.tie.pool}."
        raise scope.fail(what, slot, row) from None
    return [next(found) if g else None for g in given.tolist()]
