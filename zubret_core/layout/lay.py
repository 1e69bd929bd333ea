"""Where things go in a file: as they stand where all fits, otherwise one behind the other."""

from __future__ import annotations

from collections.abc import Mapping

from ..base import ZubretError
from .place import Place
from .read import Reading
from .spans import Thing, things_of


class LaidFile:
    """One of the files that are rebuilt: its things, and where they go.

    at, length: by the identity of a thing; size: of the whole file; in_place: every thing stays where it was. `fresh`
    is a file that is not there yet.
    """

    def __init__(self, reading: Reading, name: str, *, fresh: bool = False):
        self.reading, self.name = reading, name
        self.things: list[Thing] = [] if fresh else things_of(reading, name)
        self.old_size = 0 if fresh else reading.file_named(name).size
        self.at: dict[int, int] = {id(t): t.at for t in self.things}
        self.length: dict[int, int] = {id(t): t.length for t in self.things}
        self.size = self.old_size
        self.in_place = True
        self._new: Mapping[int, int] = {}

    def lay(self, new: Mapping[int, int], anew: bool) -> None:
        """Give every thing its place. `new`: stored bytes of replaced and added payloads, by the thing's identity."""
        layout, self._new = self.reading.layout, new
        for t in self.things:
            self.length[id(t)] = new.get(id(t), self.length[id(t)])
        fits = all(self.length[id(t)] <= t.slot and t.at >= 0 for t in self.things)
        same = all(self.length[id(t)] == t.length for t in self.things)
        self.in_place = not anew and fits and (same or layout.payload.sizes == "given")
        if self.in_place:
            self.at, self.size = {id(t): t.at for t in self.things}, self.old_size
            return
        cursor, explained = 0, True
        for t in self.things:
            # Behind carried bytes only what the format demands is aligned.
            align = t.align if explained or t.place is None else 1
            self.at[id(t)] = cursor + -cursor % align
            cursor = self.at[id(t)] + self.length[id(t)] + self.kept(t)
            explained = t.regular or self._gap_dropped(t)
            if t.place and t.place.body is None and self.at[id(t)] != t.at:
                _may_move(self.reading, t.place)
        cursor += layout.end.least if explained else 0
        self.size = cursor + (-cursor % layout.end.align if explained else 0)

    def _gap_dropped(self, thing: Thing) -> bool:
        """Free space behind a replaced payload is not carried over when all is laid anew."""
        return id(thing) in self._new and (thing.free or self.reading.layout.payload.sizes == "next")

    def kept(self, thing: Thing) -> int:
        """Bytes of the gap behind a thing that are carried over."""
        return 0 if thing.regular or self._gap_dropped(thing) else thing.gap


def _may_move(reading: Reading, place: Place) -> None:
    region = place.region
    said = f"{region.name}.at" in reading.whole or region.after or region.origin != "file"
    if not said and isinstance(region.at, int):
        raise ZubretError(
            f"Region {region.name} would have to move, but no field of the layout says where it stands.",
            file=reading.file.name,
            offset=place.at,
            field=region.name,
            next=f"Shorten the replacement so that it fits its slot, or tie a field to {region.name}.at.",
        )
