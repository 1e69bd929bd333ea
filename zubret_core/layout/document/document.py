"""A whole file as a layout describes it, with its companions."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...base import ZubretError
from ...source import BytesSource, ChainSource, Part, SliceSource, Source
from ...source.steps import Chain
from ..language.fields import Tied
from ..language.schema import Layout, Stand
from ..language.steps import SizedStep, StepModel, all_steps, per_item
from ..types.base import FEW
from ..types.numbers import Float, Result
from . import paths, ties
from .chains import Keys, chain_of
from .few import few_values
from .instance import Instance
from .pieces import column_of
from .pools import PoolTexts, pooled
from .records import DAMAGED
from .shape import Slot
from .words import FileWords, ItemWords

Siblings = Callable[[str], Source]
"""Opens a file that stands beside the described one; a ZubretError where there is none."""
DEFAULTS: dict[str, Any] = {"codec": "pcm16", "rate": 0, "channels": 1, "block_size": 0, "frames": None, "looped": None}
"""What a stream is where nothing says it."""


@dataclass(eq=False)
class Group:
    """Tables side by side, whose records belong together: items `first` to `first + count`. A stream that no region says anything of
    has none. owners: of pieces the item to which each belongs; they are numbered behind the items."""

    name: str
    instances: list[Instance]
    first: int
    count: int
    stand: Stand
    owners: NDArray[np.int64] | None = None

    @property
    def body(self) -> NDArray[np.int64] | None:
        """Where the payload behind each record stands, and its bytes, where that is how they stand."""
        return self.instances[0].body if self.instances else None


@dataclass
class Document:
    """The regions of a file where they stand, and what their tied fields mean.

    file: the file as it is on disk; source: its bytes, unpacked where the whole file is packed; numbers: fields of
    regions that stand once, by `region.field`; once: what such fields mean, by meaning; groups: tables of items, and behind these
    of the pieces in which their payloads stand; count: items; total: items and pieces.
    """

    layout: Layout
    file: Source
    source: Source
    whole_chain: Chain
    keys: Keys
    siblings: Siblings | None = None
    instances: list[Instance] = field(default_factory=list)
    numbers: dict[str, int] = field(default_factory=dict)
    once: dict[str, Any] = field(default_factory=dict)
    groups: list[Group] = field(default_factory=list)
    count: int = 0
    total: int = 0
    _files: dict[str, Source] = field(default_factory=dict)
    _columns: dict[Any, Any] = field(default_factory=dict)
    _chains: dict[Any, Chain] = field(default_factory=dict)
    _pools: dict[str, PoolTexts] = field(default_factory=dict)

    @property
    def kind(self) -> str:
        """What its items are: entry, stream, listed or row."""
        return self.layout.kind

    # Files ------------------------------------------------------------------------------------------

    def file_named(self, name: str) -> Source:
        """The source of a file by its name; "" is the described file."""
        if not name:
            return self.source
        if name not in self._files:
            if self.siblings is None:
                raise ZubretError(
                    f"{name}, which belongs to this file, is not beside it.",
                    file=self.file.name,
                    next="Copy the missing file beside it, from the same version of the game.",
                )
            self._files[name] = self.siblings(name)
        return self._files[name]

    def companion(self, key: str, volume: int = 0) -> str:
        """The name of one of the layout's `files`."""
        own = self.file.name.rsplit("/", 1)[-1].rsplit(" › ", 1)[-1]
        return self.layout.files[key].called(own, volume)

    def files(self) -> list[str]:
        """The names of all files that hold something; "" is the described one and comes first."""
        return list(dict.fromkeys(["", *(i.file for i in self.instances), *self.payload_files()]))

    # Regions ----------------------------------------------------------------------------------------

    def instance(self, region: str) -> Instance | None:
        """A region where it stands; None where the file does not have it."""
        return next((i for i in self.instances if i.region.name == region), None)

    def named(self, name: str) -> Instance:
        """A region by its whole name, such as "files 3" where it stands several times."""
        if "by name" not in self._columns:
            self._columns["by name"] = {i.name: i for i in self.instances}
        found: Instance = self._columns["by name"][name]
        return found

    def unpacked(self, part: str) -> Source:
        """The unpacked bytes of a packed region by its name, of a file that is packed as a whole by *."""
        instance = self.instance(part)
        if instance is None and part != "*":
            raise ZubretError(f"The region {part} is not there any more.", file=self.file.name, next="Rebuild again.")
        return instance.content if instance else self.source

    def error(
        self, what: str, instance: Instance, slot: Slot | None = None, row: int = 0, next: str = ""
    ) -> ZubretError:
        """An error at a field of a region's record; of a packed region the offset counts its unpacked bytes."""
        records = instance.records
        offset = records.place_of(slot, row) if slot and row < records.count else instance.at
        name = f"{instance.name}.{slot.tie.name}" if slot else instance.name
        if instance.many and slot:
            name += f" of record {row}"
        help = next or f"The file is damaged or is not what the layout {self.layout.id} describes: check both."
        return ZubretError(what, file=instance.content.name, offset=offset, field=name, next=help)

    def fail(self, instance: Instance) -> ties.Fail:
        """Errors at a region, as ties want them."""
        return lambda what, slot, row, next="": self.error(what, instance, slot, row, next)

    def pool_of(self, name: str) -> PoolTexts:
        """The texts of a pool."""
        if name not in self._pools:
            pool = self.instance(name)
            if pool is None or pool.region.pool is None:
                raise ZubretError(
                    f"The region {name} is not in this file, but names point into it.",
                    file=self.file.name, field=name, next=f"Check `when` of region {name} in the layout.",
                )  # fmt: skip
            self._pools[name] = PoolTexts(pool.records.data.tobytes(), pool.region.pool, pool.shape.big)
        return self._pools[name]

    def scope(self, instance: Instance) -> ties.Scope:
        """What the ties of a region may name."""
        records = instance.records

        def own(name: str) -> NDArray | None:
            slot = instance.shape.slots.get(name)
            return records.numbers(slot) if slot is not None and slot.whole else None

        return ties.Scope(
            self.layout, self.file.name, self.numbers_at(instance), instance.at, records.count,
            lambda: records.places, own, lambda what: self._by_record(instance, what), self.fail(instance),
        )  # fmt: skip

    def numbers_at(self, instance: Instance) -> Mapping[str, int]:
        """The numbers that expressions of a region may name besides its own: of regions that stand once, of the record for which
        it stands, how much room it has in a chunk, and its number where it stands several times."""
        if instance.piece < 0 and instance.holder is None:
            return self.numbers
        own = {"region.room": instance.room, "region.index": max(instance.piece, 0)}
        return {**self.numbers, **instance.held_numbers(), **own}

    def _by_record(self, instance: Instance, what: str) -> NDArray:
        """A meaning of the item of each record; that of the first item where a record is none."""
        column = self.format_column(what)
        group = self.group_with(instance)
        assert group is not None
        if group.owners is None:
            values = np.array(column[group.first : group.first + group.count])
        else:
            values = np.array([column[n] for n in group.owners.tolist()])
        if len(values) == instance.records.count:
            return values
        out = np.zeros(instance.records.count, values.dtype)
        out[:] = values[0] if len(values) else DEFAULTS.get(what, 0)
        out[instance.rows] = values
        return out

    # Items ------------------------------------------------------------------------------------------

    @property
    def item_groups(self) -> list[Group]:
        """The groups of items, without those of pieces."""
        return [g for g in self.groups if g.owners is None]

    def group_of(self, item: int) -> Group:
        """The tables in which an item has records."""
        if "firsts" not in self._columns:
            self._columns["firsts"] = [g.first for g in self.groups]
        n = bisect_right(self._columns["firsts"], item) - 1
        while n >= 0 and not self.groups[n].count:
            n -= 1
        if n < 0 or item >= self.groups[n].first + self.groups[n].count:
            raise IndexError(item)
        return self.groups[n]

    def group_with(self, instance: Instance) -> Group | None:
        """The group to which a region belongs; nothing for one of no items."""
        if "by region" not in self._columns:
            self._columns["by region"] = {id(i): g for g in self.groups for i in g.instances}
        found: Group | None = self._columns["by region"].get(id(instance))
        return found

    def row_of(self, item: int, instance: Instance) -> int:
        """The record of a region that an item has; `instance` is one of its group's."""
        return int(instance.rows[item - self.group_of(item).first])

    @cached_property
    def in_pieces(self) -> bool:
        """Whether payloads stand in several pieces."""
        return bool(self.layout.piece_regions())

    def owner(self, item: int) -> int:
        """The item to which a piece belongs; an item is its own."""
        if item < self.count:
            return item
        group = self.group_of(item)
        assert group.owners is not None
        return int(group.owners[item - group.first])

    def pieces_of(self, item: int) -> list[int]:
        """The pieces of an item's payload in their order; none where it stands in one."""
        if "pieces" not in self._columns:
            found: dict[int, list[int]] = {}
            for group in self.groups:
                for n, owner in enumerate(() if group.owners is None else group.owners.tolist()):
                    found.setdefault(owner, []).append(group.first + n)
            self._columns["pieces"] = found
        return self._columns["pieces"].get(item, [])

    def spans(self) -> tuple[NDArray[np.int64], NDArray[np.int64], list[str]]:
        """Place, stored bytes and file of each item, and behind these of each piece; what stands in pieces has no place and no bytes
        of its own. A head in the index is not counted."""
        if not self.in_pieces:
            return self.array("at"), self.array("stored"), self.payload_files()
        if "spans" not in self._columns:
            at, stored = np.zeros((2, self.total), np.int64)
            files = self.payload_files()
            for group in self.groups:
                if group.owners is not None:
                    here = slice(group.first, group.first + group.count)
                    at[here], stored[here] = self._piece_spans(group)
                    files = [*files, *(files[n] for n in group.owners.tolist())]
            self._columns["spans"] = at, stored, files
        found: tuple[NDArray[np.int64], NDArray[np.int64], list[str]] = self._columns["spans"]
        return found

    @property
    def scattered(self) -> bool:
        """Whether a payload is more than one span of a file: it stands in pieces, or begins in its record."""
        return self.in_pieces or self.column("head") is not None

    def places(self) -> list[tuple[tuple[str, int, int], ...]]:
        """Of each item the files, places and bytes in which its payload stands; nothing of an empty one."""
        at, stored, files = self.spans()
        spans = list(zip(files, at.tolist(), stored.tolist(), strict=True))
        if not self.in_pieces:
            return [(span,) if span[2] else () for span in spans]
        return [tuple(spans[p] for p in self.pieces_of(n) if spans[p][2]) for n in range(self.count)]

    def _piece_spans(self, group: Group) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        if group.body is not None:
            rows = group.body[group.instances[0].rows]
            return rows[:, 0], rows[:, 1]
        columns: dict[str, NDArray[np.int64]] = {}
        for what in ("at", "stored", "end"):
            for instance, slot in self.slots(f"piece.{what}", group):
                columns[what] = column_of(self, instance, slot)
        at = columns["at"]
        return at, columns["stored"] if "stored" in columns else columns["end"] - at

    def followers(self, item: int) -> list[Instance]:
        """The tables whose records follow from the sound of a stream."""
        if "followers" not in self._columns:
            found: dict[tuple[int, int], list[Instance]] = {}
            for instance in self.instances:
                if instance.region.follows is not None:
                    holder = instance.holder if instance.region.each else None
                    found.setdefault((id(holder[0]), holder[1]) if holder else (0, 0), []).append(instance)
            self._columns["followers"] = found
        known, group = self._columns["followers"], self.group_of(item)
        records = [(id(i), int(i.rows[item - group.first])) for i in group.instances]
        return [i for key in [(0, 0), *records] for i in known.get(key, ())] if known else []

    def slots(self, means: str, group: Group | None = None) -> list[tuple[Instance, Slot]]:
        """All fields with a meaning, in the tables of items or of one group."""
        where = group.instances if group is not None else [i for g in self.groups for i in g.instances]
        return [(i, s) for i in where for s in i.shape.means.get(means, ())]

    def tie(self, means: str) -> Tied | None:
        """The first field or bit part of the items, or of what they stand in, that has a meaning."""
        held = (s.tie for i in self.instances for s in i.shape.means.get(means, ()))
        return next((s.tie for _, s in self.slots(means)), None) or next(held, None)

    def values(self, instance: Instance, slot: Slot) -> Any:
        """The meanings of a tied field, one a record: an array of whole numbers or a list; None where it is absent."""
        records = instance.records
        if records.count <= FEW and (few := few_values(instance, slot, self.numbers_at(instance))) is not None:
            return few
        if records.absent(slot) and (records.size or records.count):
            return [None] * records.count
        if isinstance(slot.type, Result):
            out = ties.meanings(slot, ties.results(slot, self.scope(instance)), self.scope(instance))
        elif isinstance(slot.type, Float):
            out = ties.meanings(slot, records.values(slot), self.scope(instance))
        elif not slot.whole:
            out = records.values(slot)
        elif slot.tie.pool:
            out = pooled(slot, records.numbers(slot), self.pool_of(slot.tie.pool), self.scope(instance))
        else:
            out = ties.meant(slot, records.numbers(slot), self.scope(instance))
        has = records.has(slot)
        if has is None:
            return out
        values = out.tolist() if isinstance(out, np.ndarray) else out
        return [v if h else None for v, h in zip(values, has.tolist(), strict=True)]

    def column(self, what: str) -> list | None:
        """All values of `entry.<what>` or `stream.<what>`, in table order; None if nothing says it. Not to be changed.

        at, stored, path and loop_end are worked out where the file only implies them.
        """
        if what not in self._columns:
            found = self._column(what)
            self._columns[what] = found.tolist() if isinstance(found, np.ndarray) else found
        return self._columns[what]

    def as_read(self, what: str) -> Any:
        """The same as it is at hand: whole numbers as an array, all else as a list."""
        return self._columns[what] if what in self._columns else self._column(what)

    def array(self, what: str) -> NDArray[np.int64]:
        """A column of whole numbers as an array."""
        key = ("array", what)
        if key not in self._columns:
            found = self.as_read(what)
            self._columns[key] = np.asarray([] if found is None else found).astype(np.int64, copy=False).reshape(-1)
        return self._columns[key]

    def _column(self, what: str) -> Any:
        if what == "path":
            return paths.paths_of(self)
        worked_out = _WORKED_OUT.get(what)
        return worked_out(self) if worked_out else self.tied(what)

    def format_column(self, what: str) -> list:
        """A column of streams, with what the layout gives or what is usual where no field says it."""
        column = self.column(what)
        if column is not None and None not in column:
            return column
        given: Mapping[str, Any] = self.layout.given  # type: ignore[assignment]
        usual = given.get(f"stream.{what}", DEFAULTS.get(what, 0))
        return [usual] * self.count if column is None else [usual if v is None else v for v in column]

    def tied(self, what: str) -> Any:
        """The column of a meaning as fields give it: an array, or a list; None where no field does."""
        key = ("tied", what)
        if key not in self._columns:
            self._columns[key] = self._tied(f"{self.kind}.{what}")
        return self._columns[key]

    def _tied(self, means: str) -> Any:
        parts: list[Any] = []
        found = False
        for group in self.item_groups:
            column: Any = None
            for instance, slot in self.slots(means, group):
                values = self.values(instance, slot)
                if len(instance.rows) != len(values):
                    values = _taken(values, instance.rows)
                column = values if column is None else _either(column, values)
            column = self._from_holder(means, group, column)
            found = found or column is not None
            parts.append([None] * group.count if column is None else column)
        if not found:
            return None
        return parts[0] if len(parts) == 1 else [v for part in parts for v in _plain(part)]

    def _from_holder(self, means: str, group: Group, column: Any) -> Any:
        """A column, where what the group stands in says it: for all of its items alike."""
        holder = group.instances[0].holder if group.instances else None
        while holder is not None and column is None:
            instance, row = holder
            for slot in instance.shape.means.get(means, ()):
                key = "held", instance.name, slot.tie.name
                if key not in self._columns:
                    self._columns[key] = _plain(self.values(instance, slot))
                column = [self._columns[key][row]] * group.count
            holder = instance.holder
        return column

    def _at(self) -> Any:
        given = self.tied("at")
        if given is not None:
            return given
        if self.in_pieces:
            places = self.spans()[0]
            return [int(places[pieces[0]]) if (pieces := self.pieces_of(n)) else 0 for n in range(self.count)]
        if self.layout.describes == "stream":
            return [self._behind_the_regions()]
        out: list = []
        for group in self.groups:
            body = group.body
            out += [0] * group.count if body is None else body[group.instances[0].rows, 0].tolist()
        return out

    def _behind_the_regions(self) -> int:
        """Where a stream begins that is all behind its head. Regions that count from the file's end, or whose place a field gives,
        may move with its length, so they stand behind it, as does what follows them."""
        said = self.once.get("payload.at")
        if isinstance(said, int):
            return said
        ahead: dict[str, int] = {}
        for i in self.instances:
            moves = i.region.origin == "end" or f"{i.name}.at" in self.once
            if not i.file and not moves and (i.region.after is None or i.region.after in ahead):
                ahead[i.name] = i.at + i.stored
        start, align = max(ahead.values(), default=0), self.groups[0].stand.align
        return start + -start % align if isinstance(align, int) else start

    def _stored(self) -> Any:
        if self.in_pieces:
            lengths = self.spans()[1]
            return [int(lengths[self.pieces_of(n)].sum()) for n in range(self.count)]
        given, ends = self.tied("stored"), self.tied("end")
        if given is not None and ends is None:
            return given
        if ends is not None:
            pairs = zip(self.column("at") or [], _plain(ends), strict=True)
            worked_out = [None if b is None else b - a for a, b in pairs]
            return worked_out if given is None else _either(given, worked_out)
        if any(g.body is not None for g in self.groups):
            out: list = []
            for group in self.groups:
                body = group.body
                out += [0] * group.count if body is None else body[group.instances[0].rows, 1].tolist()
            return out
        return self._up_to_the_next()

    def _up_to_the_next(self) -> list:
        """Stored bytes where each payload reaches to the next one."""
        at, files = self.column("at") or [], self.payload_files()
        spots = sorted(set(zip(files, at, strict=True)))
        end_of = {}
        for n, spot in enumerate(spots):
            behind = spots[n + 1] if n + 1 < len(spots) and spots[n + 1][0] == spot[0] else None
            end_of[spot] = behind[1] if behind else self._payload_end(*spot)
        return [end_of[spot] - spot[1] for spot in zip(files, at, strict=True)]

    def _payload_end(self, file: str, at: int) -> int:
        """Where the last payload ends: at a sentinel, before the next region, or with the file."""
        for instance, slot in self.slots(f"{self.kind}.at"):
            if instance.region.sentinel and instance.records.count:
                return int(self.values(instance, slot)[-1])
        behind = [i.at for i in self.instances if i.file == file and i.at >= at and i.records.count]
        return min([*behind, self.file_named(file).size])

    def _size(self) -> Any:
        given = self.tied("size")
        if given is not None or not any(map(_says_size, [self.layout.payload.packed, *self.layout.methods.values()])):
            return given
        return [self._size_in_front(item, stored) for item, stored in enumerate(self.column("stored") or [])]

    def _size_in_front(self, item: int, stored: int) -> int:
        """The unpacked bytes of a payload that says so itself."""
        steps = self.steps(item)
        step = steps[0] if _says_size(steps) else None
        if not isinstance(step, SizedStep):
            return stored
        width = int(step.width[1:]) // 8
        return int.from_bytes(self.payload(item).read(0, width), step.byte_order) if stored >= width else 0

    def _loop_end(self) -> Any:
        given, lengths = self.tied("loop_end"), self.tied("loop_length")
        if lengths is None:
            return given
        starts = self.tied("loop_start")
        pairs = zip([0] * self.count if starts is None else starts, lengths, strict=True)
        worked_out = [None if a is None or n is None else a + n for a, n in pairs]
        return worked_out if given is None else _either(given, worked_out)

    def payload_files(self) -> list[str]:
        """The file in which each item's payload stands; "" is the described one."""
        if "files" not in self._columns:
            key = self.layout.payload.file
            volumes = None if key is None else self.column("volume")
            if key is None:
                names = [""] * self.count
            elif volumes is None:
                names = [self.companion(key, self.layout.files[key].first)] * self.count
            else:
                called = {v: self.companion(key, v) for v in set(volumes)}
                names = [called[v] for v in volumes]
            self._columns["files"] = names
        return self._columns["files"]

    # Payloads ---------------------------------------------------------------------------------------

    def chain(self, item: int, size: int | None = None, path: str = "") -> Chain:
        """The transforms of an item's payload: those of its method, then those of all payloads. size, path: its unpacked bytes
        and its path, where they are to be others than in the file."""
        steps = self.steps(item)
        if any(per_item(s) for s in all_steps(steps)):
            return chain_of(steps, self.layout, self.keys, self.file.name, ItemWords(self, item, size, path))
        key = self._method(item), not steps
        if key not in self._chains:
            self._chains[key] = chain_of(steps, self.layout, self.keys, self.file.name, FileWords(self))
        return self._chains[key]

    def steps(self, item: int) -> list[StepModel]:
        """The steps of an item's payload as the layout says them; none for one that stands there as it is, where its sizes say so."""
        if self.stands_plain(item):
            return []
        method = self._method(item)
        steps = self.layout.methods.get(str(method))
        if steps is None:
            raise ZubretError(
                f"The method \"{method}\" can't be unpacked: the layout's `methods` does not have it.",
                file=self.file.name,
                field=f"record {item}",
                next="Add it to `methods`, or correct the values of entry.method.",
            )
        return [*self.layout.payload.packed, *steps]

    def stands_plain(self, item: int) -> bool:
        """Whether a payload's sizes say that it is not packed."""
        if self.layout.payload.plain != "equal":
            return False
        return bool(self.array("stored")[item] == self.array("size")[item])

    def _method(self, item: int) -> Any:
        methods = self.column("method")
        return methods[item] if methods else "plain"

    def payload(self, item: int) -> Source:
        """The stored bytes of an item: its span, behind the head that its record holds where there is one."""
        at, stored = (self.column("at") or [])[item], (self.column("stored") or [])[item]
        names = self.column("path" if self.kind == "entry" else "id")
        name = str(names[item] if names else item)
        if self.in_pieces:
            pieces = (self.piece(n) for n in self.pieces_of(item))
            return ChainSource([Part(piece, 0, piece.size) for piece in pieces if piece.size], name)
        span = SliceSource(self.file_named(self.payload_files()[item]), at, stored, name)
        heads = self.column("head")
        if not heads or not heads[item]:
            return span
        head = heads[item]
        return ChainSource([Part(BytesSource(head), 0, len(head)), Part(span, 0, span.size)], name)

    def piece(self, n: int) -> Source:
        """The stored bytes of a piece."""
        at, stored, files = self.spans()
        return SliceSource(
            self.file_named(files[n]), int(at[n]), int(stored[n]), f"piece {n - self.count} of {self.file.name}"
        )


_WORKED_OUT = {
    "at": Document._at, "stored": Document._stored, "size": Document._size, "loop_end": Document._loop_end,
}  # fmt: skip


def _says_size(steps: Sequence[StepModel]) -> bool:
    """Whether the stored bytes begin with how many come out."""
    return bool(steps) and isinstance(steps[0], SizedStep)


def _plain(values: Any) -> list:
    return values.tolist() if isinstance(values, np.ndarray) else values


def _taken(values: Any, rows: NDArray[np.int64]) -> Any:
    """Some of the values, by their numbers."""
    return values[rows] if isinstance(values, np.ndarray) else [values[r] for r in rows.tolist()]


def _either(first: Any, second: Any) -> list:
    """Two columns of fields that are there by turns."""
    return [b if a is None else a for a, b in zip(_plain(first), _plain(second), strict=True)]


__all__ = ["DAMAGED", "DEFAULTS", "Document", "Group", "Siblings"]
