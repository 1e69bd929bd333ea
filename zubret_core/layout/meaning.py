"""What stored numbers and texts mean: the ties of a layout, applied to whole columns."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ..base import ZubretError
from .expression import compiled, evaluate
from .fields import Tied
from .place import Place
from .records import decoded

if TYPE_CHECKING:
    from .read import Reading


class Meanings:
    """The meanings of a reading's tied fields."""

    def __init__(self, reading: Reading):
        self._reading = reading
        self._pools: dict[str, bytes] = {}

    def of(self, place: Place, tie: Tied) -> list:
        """The meanings of a tied field, one a record, as plain Python values; None where it is absent."""
        holder = place.records.holder(tie)[0]
        if place.records.absent(holder):
            return [None] * place.records.count
        if holder.numeric:
            out = self._numeric(place, tie)
        elif holder.type == "text":
            out = place.records.texts(holder)
        else:
            out = place.records.contents(holder)
        has = place.records.present(holder)
        return out if has is None else [v if h else None for v, h in zip(out, has.tolist(), strict=True)]

    def _numeric(self, place: Place, tie: Tied) -> list:
        stored = place.records.numbers(tie)
        if tie.values is not None:
            return self._mapped(place, tie, stored)
        means = tie.means or ""
        wide = self.scaled(place, tie, stored)
        if tie.pool:
            return [self._pooled(place, tie, row, at) for row, at in enumerate(wide.tolist())]
        out = wide.tolist()
        if means.endswith(".id"):
            if tie.shown == "hex":
                width = tie.digits or 2 * (place.records.holder(tie)[0].width or 8)
                return [f"{v & 0xFFFFFFFFFFFFFFFF:0{width}x}" for v in out]
            return [str(v).zfill(tie.digits) for v in out]
        return out

    def _mapped(self, place: Place, tie: Tied, stored: NDArray) -> list:
        values = tie.values or {}
        try:
            return [values[v] for v in stored.tolist()]
        except KeyError as e:
            row = int(np.argmax(stored == e.args[0]))
            has = place.records.present(place.records.holder(tie)[0])
            if has is not None and not has[row]:
                return [values.get(v) for v in stored.tolist()]
            known = ", ".join(f"{k} {v}" for k, v in values.items())
            raise self._reading.error(
                f"The number {e.args[0]} has no meaning here (known: {known}).",
                place,
                tie,
                row,
                next="The file is damaged, or the layout must be taught this value.",
            ) from None

    def _unit_and_base(self, place: Place, tie: Tied) -> tuple[int, NDArray | int]:
        """The unit, and the base: a number, or one a record where it depends on the record's place."""
        return unit_and_base(
            tie, self._reading.names(place.region, place.at), place.records.places, self._reading.file.name
        )

    def scaled(self, place: Place, tie: Tied, stored: NDArray) -> NDArray:
        """stored * unit + base; an error where that is beyond 64 bits."""
        unit, base = self._unit_and_base(place, tie)
        if unit == 1 and isinstance(base, int) and base == 0:
            return stored
        if len(stored):
            most = max(abs(int(stored.max())), abs(int(stored.min()))) * abs(unit) + int(np.abs(base).max())
            if most >= 1 << 63:
                row = int(np.argmax(stored))
                raise self._reading.error(f"The number {int(stored[row]):,} is beyond 64 bits here.", place, tie, row)
        wide = stored.astype(np.int64)
        return wide * unit + base

    def _pooled(self, place: Place, tie: Tied, row: int, at: int) -> str:
        pool = self._reading.place(tie.pool or "")
        if pool is None or pool.region.pool is None:
            raise self._reading.error(f"The region {tie.pool} has not been read yet.", place, tie, row, "Put it first.")
        data, ends = pool.records.data, pool.region.pool.ends
        if not 0 <= at < len(data):
            raise self._reading.error(
                f"The text at {at:,} leaves the {len(data):,} bytes of {tie.pool}.", place, tie, row
            )
        blob = self._pool_bytes(pool)
        step, end = len(ends), at
        while True:
            end = blob.find(ends, end)
            if end < 0:
                end = len(blob)
                break
            if (end - at) % step == 0:
                break
            end += 1
        return decoded(blob[at:end], pool.region.pool.encoding)

    def _pool_bytes(self, pool: Place) -> bytes:
        if pool.region.name not in self._pools:
            self._pools[pool.region.name] = pool.records.data.tobytes()
        return self._pools[pool.region.name]


def unit_and_base(
    tie: Tied, names: dict[str, int], places: Sequence[int] | NDArray, file: str
) -> tuple[int, NDArray | int]:
    """Unit and base of a tie; `names` gives the values of names, `places` where each record stands."""
    unit = evaluate(tie.unit, names, file, tie.name)
    if unit == 0:
        raise ZubretError("A unit of 0 has no meaning.", file=file, field=tie.name, next="Correct the layout's unit.")
    if not any(n.startswith("record.") for n in compiled(tie.base).names):
        return unit, evaluate(tie.base, names, file, tie.name)
    base = np.empty(len(places), np.int64)
    for row, at in enumerate(np.asarray(places).tolist()):
        base[row] = evaluate(tie.base, {**names, "record.at": at, "record.index": row}, file, tie.name)
    return unit, base
