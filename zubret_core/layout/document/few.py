"""The meanings of a handful of records, in plain Python: for so few, arrays cost more than they give.

Banks of one stream come by the thousand. `few_values` gives what `Document.values` would, or None where the general way has
to be taken: for pools, for named units, for expressions of the record, and wherever there is an error to tell.
"""

from __future__ import annotations

from collections.abc import Mapping

from ..language.expression import compiled
from ..types import decoded
from ..types.base import FEW
from ..types.numbers import Integer, part_of
from ..types.texts import Text
from .instance import Instance
from .shape import Slot
from .ties import ids

_LIMIT = 1 << 63


def few_values(instance: Instance, slot: Slot, numbers: Mapping[str, int]) -> list | None:
    """The meanings of a tied field of records that are few and all alike, or None."""
    records = instance.records
    if not records.size or records.count > FEW or records.absent(slot):
        return None
    if isinstance(slot.type, Text):
        return [decoded(data, slot.field.encoding) for data in records.pieces(slot)]
    if not isinstance(slot.type, Integer) or slot.tie.pool or slot.tie.xor != 0:
        return None
    tie, stored = slot.tie, few_numbers(instance, slot)
    if tie.values is not None:
        values = [tie.numbered.get(v) for v in stored]
        return None if None in values else values
    if not tie.plain:
        unit = None if tie.unit_name or tie.per != 1 else _constant(tie.unit, numbers)
        base = _constant(tie.base, numbers)
        if not unit or base is None or tie.none is not None:
            return None
        stored = [v * unit + base for v in stored]
        if any(not -_LIMIT <= v < _LIMIT for v in stored):
            return None
    return ids(slot, stored) if (tie.means or "").endswith(".id") else stored


def few_numbers(instance: Instance, slot: Slot) -> list[int]:
    """The stored whole numbers of a field or part of records that are few and all alike."""
    records = instance.records
    assert isinstance(slot.type, Integer)
    order, signed = "big" if instance.shape.big_of(slot.field) else "little", slot.type.signed
    stored = [int.from_bytes(data, order, signed=signed) for data in records.pieces(slot)]  # type: ignore[arg-type]
    return [part_of(v, slot.shift, slot.bits, slot.signed) for v in stored] if slot.bits else stored


def _constant(text: int | str, numbers: Mapping[str, int]) -> int | None:
    """A number, or a field of a region that stands once; None for any other expression."""
    if isinstance(text, int):
        return text
    expression = compiled(text)
    if expression.constant is not None:
        return expression.constant
    return numbers.get(expression.names[0]) if len(expression.code) == 1 and expression.names else None
