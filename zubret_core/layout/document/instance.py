"""A region where it stands in a file."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ...source import Source
from ...source.steps import Chain
from ..language.schema import NO_BODY, Body, Region
from .records import Records
from .shape import Shape


@dataclass
class Instance:
    """A region where it stands.

    file: the companion's name, "" for the described file; at, stored: its bytes there; content: its unpacked bytes;
    rows: the records that are items (a sentinel is none, nor is a record that holds others); body: for regions with
    bodies, (records, 2) place and bytes of each record's body, empty where the records stand behind the bodies of others; inside: (records,) the record that each record stands
    in, -1 at the top. piece: its number, where a region stands several times, else -1; holder: the record for which it stands, as a region
    and a row, or whose body it stands in; room: bytes of that body, else -1.
    """

    region: Region
    file: str
    at: int
    stored: int
    content: Source
    records: Records
    chain: Chain = field(default_factory=Chain)
    rows: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    body: NDArray[np.int64] | None = None
    inside: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    piece: int = -1
    holder: tuple[Instance, int] | None = None
    room: int = -1

    @property
    def shape(self) -> Shape:
        """What its records are made of."""
        return self.records.shape

    @property
    def name(self) -> str:
        """The region's name, with its number where it stands several times."""
        return self.region.name if self.piece < 0 else f"{self.region.name} {self.piece}"

    @property
    def frame(self) -> Body:
        """How the bodies of its records stand."""
        return self.region.body or NO_BODY

    @property
    def many(self) -> bool:
        """Whether an error or a mark has to say of which record it speaks."""
        return not self.region.single or self.records.count > 1

    @cached_property
    def holders(self) -> set[int]:
        """The records that hold other records."""
        return set(self.inside.tolist()) - {-1}

    def numbers(self, row: int) -> dict[str, int]:
        """The whole numbers of a record, and of those in which the region stands, by `region.field`."""
        out = self.held_numbers()
        for name, slot in self.shape.slots.items():
            if slot.whole and not self.records.absent(slot):
                out[f"{self.region.name}.{name}"] = int(self.records.numbers(slot)[row])
        return out

    def held_numbers(self) -> dict[str, int]:
        """The whole numbers of the records in which the region stands, by `region.field`, the nearest last."""
        return self.holder[0].numbers(self.holder[1]) if self.holder is not None else {}
