"""Tables that follow from the sound of a stream: what their records say of a new one."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ...base import Format, ZubretError
from ...codec.units import Spacing, points_of
from ...source import BytesSource, Source
from ..document import Document, Instance, Records
from ..document.extent import NewItem
from ..reading.regions import read_records

Points = dict[str, list[Any]]
"""What each record says, by meaning: at, size, frame and so on; numbers, or bytes of a history."""


def new_points(document: Document, table: Instance, n: int, new: NewItem) -> Points:
    """The records of a table for a stream that is replaced; a ZubretError where its codec does not tell."""
    assert new.format is not None
    rate = document.format_column("rate")[n] or new.format.rate
    return points_by_rule(document, table, new.unpacked or new.payload, new.format, rate)


def points_by_rule(document: Document, table: Instance, payload: Source, format: Format, rate: int) -> Points:
    """What the rule of a table gives for a payload. Marks in time stay where they are; rate: in which the old ones are counted, in Hz."""
    rule = table.region.follows
    assert rule is not None
    if rule.every is None:
        marks = stored_points(document, table)["frame"]
        return {"frame": [m if m is None or rate == format.rate else m * format.rate // rate for m in marks]}
    spacing = Spacing(rule.every, rule.unit, rule.first, rule.end)
    try:
        found = points_of(spacing, wanted(table), payload, format)
    except ZubretError as e:
        e.field = e.field or table.name
        raise
    return {what: values.tolist() for what, values in found.items()}


def wanted(table: Instance) -> set[str]:
    """What the records of a table say of points."""
    return {means.partition(".")[2] for means in table.shape.means if means.startswith("point.")}


def stored_points(document: Document, table: Instance) -> Points:
    """What the records of a table say as they are."""
    return {what: list(document.values(table, table.shape.means[f"point.{what}"][0])) for what in wanted(table)}


def count_of(points: Points) -> int:
    """How many records there are."""
    return len(next(iter(points.values()), ()))


def blank(instance: Instance, numbers: Mapping[str, int]) -> Records:
    """A record of zeros, for a region that had none to be copied from."""
    zeros = BytesSource(bytes(1 << 12), instance.name)
    return read_records(instance.shape, zeros, 0, zeros.size, 1, {**numbers, "region.at": 0}, 0)[0]
