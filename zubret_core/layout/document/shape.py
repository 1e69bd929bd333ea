"""What a region's records are made of: its fields with their types, worked out once for all files of a layout."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from ..language.expression import compiled, evaluate
from ..language.fields import FieldModel, Tied
from ..language.order import writing_order
from ..language.schema import Layout, Region
from ..types import TYPES, FieldType


class Slot(NamedTuple):
    """Where a tie is stored: in which field, of which type; and for a part of a bit field, its lowest bit and its bits
    (0 bits: the whole field)."""

    tie: Tied
    field: FieldModel
    type: FieldType
    shift: int = 0
    bits: int = 0
    signed: bool = False

    @property
    def whole(self) -> bool:
        """Whether it holds a whole number."""
        return self.type.whole

    @property
    def around(self) -> Slot:
        """The field as a whole that a part belongs to."""
        return Slot(self.field, self.field, self.type)

    def limits(self) -> tuple[int, int]:
        """The lowest and the highest stored number."""
        if not self.bits:
            return self.type.limits(self.field)
        half = 1 << (self.bits - 1)
        return (-half, half - 1) if self.signed else (0, 2 * half - 1)


class Shape:
    """The fields of a region.

    slots: by the names of fields and parts, as they stand; order: the same as they are written, each behind the fields
    that its unit and base name; big: the byte order where a field does not say otherwise; width, offsets:
    bytes of a record, and where each field begins, where all fields have a fixed width and are always there; else 0.
    """

    def __init__(self, layout: Layout, region: Region):
        self.region = region
        order = region.byte_order or layout.byte_order
        self.big = order == "big"
        self.slots: dict[str, Slot] = {}
        for field in region.fields:
            kind = TYPES[field.type]
            self.slots[field.name] = Slot(field, field, kind)
            shift = 0
            for part in field.parts or ():
                self.slots[part.name] = Slot(part, field, kind, shift, part.bits, part.signed)
                shift += part.bits
        self.fields = [self.slots[f.name] for f in region.fields]
        self.widths = {s.field.name: s.type.width(s.field) for s in self.fields}
        self.number = {s.field.name: n for n, s in enumerate(self.fields)}
        self.offsets: dict[str, int] = {}
        self.width = 0
        for name, width in self.widths.items():
            self.offsets[name] = self.width
            self.width = self.width + width if width is not None and self.width >= 0 else -1
        self.width = max(self.width, 0)
        self.constants = [s for s in self.fields if s.field.equals is not None or s.field.one_of is not None]
        self.conditional = any(f.when is not None for f in region.fields)
        self.by_record = any(f.when is not None and self.slots.keys() & compiled(f.when).names for f in region.fields)
        self.means: dict[str, list[Slot]] = {}
        for slot in self.slots.values():
            if slot.tie.means:
                self.means.setdefault(slot.tie.means, []).append(slot)
        self.order = [self.slots[name] for name in writing_order(region)]
        self.sums = [s for s in self.slots.values() if s.tie.sum]
        self.lengths = {f.length_field: f.name for f in region.fields if f.length_field is not None}
        self.shifting = self.by_record or any(f.length_worked_out is not None for f in region.fields)

    def big_of(self, field: FieldModel) -> bool:
        """Whether a field's bytes stand high byte first."""
        return self.big if field.byte_order is None else field.byte_order == "big"

    def present(self, numbers: Mapping[str, int], file: str) -> list[Slot]:
        """The fields that records of this file have, as far as earlier regions decide it."""
        if not self.conditional:
            return self.fields
        return [s for s in self.fields if s.field.when is None or self._holds(s.field, numbers, file)]

    def _holds(self, field: FieldModel, numbers: Mapping[str, int], file: str) -> bool:
        assert field.when is not None
        if any(name not in numbers for name in compiled(field.when).names):
            return True
        return bool(evaluate(field.when, numbers, file, field.name))


def shape_of(layout: Layout, region: Region) -> Shape:
    """A region's shape; worked out once."""
    shapes = layout.memory
    if region.name not in shapes:
        shapes[region.name] = Shape(layout, region)
    return shapes[region.name]
