"""A span of a file that is one thing, with its old and its new place."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from ...base import Format
from ...source import Source
from .instance import Instance


@dataclass
class NewItem:
    """A replaced or added payload.

    payload: its stored bytes; values: the item's meanings that change with it; unpacked: the bytes before packing, for
    sums; path: of an added entry; format: of a stream, for guard space in frames.
    """

    payload: Source
    values: dict[str, Any] = field(default_factory=dict)
    unpacked: Source | None = None
    path: str = ""
    format: Format | None = None


class Grid(NamedTuple):
    """Places that leave `rest` when divided by `step`."""

    step: int = 1
    rest: int = 0

    def holds(self, at: int) -> bool:
        """Whether a place is on the grid."""
        return at % self.step == self.rest

    def above(self, at: int) -> int:
        """The first place on the grid from `at` on."""
        return at + (self.rest - at) % self.step

    def joined(self, other: Grid) -> Grid | None:
        """The places that are on both; None where there are none."""
        common = math.gcd(self.step, other.step)
        if (self.rest - other.rest) % common:
            return None
        turns = other.step // common  # the Chinese remainder theorem
        steps = (other.rest - self.rest) // common * pow(self.step // common, -1, turns) % turns
        return Grid(self.step * turns, self.rest + steps * self.step)


@dataclass(slots=True)
class Extent:
    """A region, a record with a body, or a payload; and the gap that follows it.

    at, length: where it was; -1 where it is new. new_at, new_length: where it will be. record: the record's number in
    a region with bodies, -1 for a whole region; items: those that a payload belongs to; owner: of a piece the item of which it is one,
    else -1. grid: where it may stand;
    fill: the byte that fills the space before it. before, behind: bytes of guard space at either side, which go where
    it goes. follows: reading finds it at the next place on its grid behind the extent before, so that no other gap
    can stand there.

    The gap that follows: `gap` bytes, the first `carried` of which hold something that nothing explains (0: all is
    fill) and go where the extent goes; `room` bytes of fill at its beginning may be used by a longer payload. steps:
    by how many steps of its grid the extent stood behind the nearest place. new: the payload that takes its place. reserved:
    bytes up to which nothing else is put behind it, of a table whose packed length does not settle.
    """

    at: int
    length: int
    instance: Instance | None = None
    record: int = -1
    items: list[int] = field(default_factory=list)
    grid: Grid = field(default_factory=Grid)
    fill: bytes = b"\0"
    before: int = 0
    behind: int = 0
    follows: bool = False
    gap: int = 0
    carried: int = 0
    room: int = 0
    steps: int = 0
    new: NewItem | None = None
    new_at: int = -1
    new_length: int = 0
    new_before: int = 0
    new_behind: int = 0
    reserved: int = 0
    owner: int = -1

    @property
    def start(self) -> int:
        """Where it begins, with its guard space."""
        return self.at - self.before

    @property
    def end(self) -> int:
        """The place behind it and its guard space."""
        return self.at + self.length + self.behind

    @property
    def new_start(self) -> int:
        """Where it will begin, with its guard space."""
        return self.new_at - self.new_before

    @property
    def new_end(self) -> int:
        """The place behind it and its guard space, once it is written anew."""
        return self.new_at + self.new_length + self.new_behind

    @property
    def slot(self) -> int:
        """Bytes that a replacement may take without anything moving."""
        return self.length + self.room

    @property
    def kind(self) -> str:
        """payload, header or table."""
        if self.instance is None:
            return "payload"
        return "header" if self.instance.region.single else "table"

    @property
    def label(self) -> str:
        """The region that it is; "" for a payload."""
        return self.instance.name if self.instance else ""

    @property
    def index(self) -> int:
        """Its first item, or of a piece the item of which it is one; -1 where it has none."""
        return self.owner if self.owner >= 0 else self.items[0] if self.items else -1
