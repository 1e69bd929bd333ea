"""Reading a file as a layout describes it: region by region, into a document.

Records become columns (`regions.py`), so that 200,000 entries are read in a fraction of a second. Regions with bodies (a
header before each payload) are walked record by record (`bodies.py`). What a document must fulfil besides is looked at
by `checks`.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from itertools import count
from operator import itemgetter
from typing import NamedTuple

import numpy as np

from ...base import ZubretError
from ...source import SliceSource, Source
from ..document import Document, Group, Instance, Records, Siblings, Slot, shape_of
from ..document.chains import Keys, chain_of
from ..document.pieces import owners_of
from ..document.records import DAMAGED
from ..document.words import FileWords
from ..language.expression import evaluate
from ..language.schema import Layout, Region
from .bodies import Walk, ids_of
from .marks import has_marks
from .regions import read_records

Holder = tuple[Instance, int] | None
MOST_PIECES = 1 << 17
"""Regions of a file at most, where they stand for each record of others."""


def read_document(
    layout: Layout, source: Source, siblings: Siblings | None = None, keys: Keys | None = None
) -> Document:
    """The file as the layout describes it; a ZubretError where it is not so.

    siblings opens companions; keys holds the keys that the layout names. A wrong key gives errors of constants like
    any damage; `Locked` is raised only where a key is missing or has the wrong length.
    """
    return _Reader(layout, source, siblings, keys or {}).read()


def how_far(
    layout: Layout, source: Source, siblings: Siblings | None = None, keys: Keys | None = None
) -> tuple[int, ZubretError | None]:
    """How many regions of a file can be read by a layout, and what stopped it; nothing where all can be."""
    reader = None
    try:
        reader = _Reader(layout, source, siblings, keys or {})
        reader.read()
    except ZubretError as e:
        return (len(reader.document.instances) if reader else 0), e
    return len(layout.regions), None


class _Span(NamedTuple):
    """Where a region is read: in a file from `at` to at most `limit`; wanted: how many records, None where it says itself when to stop;
    numbers: what its expressions may name."""

    region: Region
    file: str
    source: Source
    at: int
    limit: int
    wanted: int | None
    numbers: dict[str, int]


def _body(region: Region, holder: Holder) -> tuple[int, int] | None:
    """Place and bytes of the chunk's body in which a region stands; None where it stands in none."""
    if region.chunk is None or holder is None or holder[0].body is None:
        return None
    at, size = holder[0].body[holder[1]].tolist()
    return at, size


def _around(instance: Instance) -> int:
    """The record in which the chunk stands that holds a region; -1 where it stands in none."""
    if instance.holder is None:
        return -1
    frames, row = instance.holder
    return int(frames.inside[row])


class _Reader:
    """One reading: the document so far."""

    def __init__(self, layout: Layout, source: Source, siblings: Siblings | None, keys: Mapping[str, bytes]):
        missing = has_marks(layout, source)
        if missing is not None:
            raise missing
        chain = chain_of(layout.packed, layout, keys, source.name)
        content = source
        if layout.packed:
            content = chain.unpacked(source, min(layout.size, 1032 * source.size + 4096), exact=False)
        self.document = Document(layout, source, content, chain, keys, siblings)
        self.document.numbers["file.size"] = content.size

    def read(self) -> Document:
        document = self.document
        for region in document.layout.regions:
            around = document.layout.region(region.each) if region.each else None
            if around is not None and document.layout.inner(around) is region:
                continue  # it was read with what stands around it
            for instance in self._instances(region):
                if len(document.instances) > MOST_PIECES:
                    raise document.error(f"More than {MOST_PIECES:,} regions.", instance)
                document.instances.append(instance)
                self._learn(instance)
        self._group_items()
        return document

    def _value(self, text: int | str, region: Region, what: str = "", holder: Holder = None) -> int:
        name = f"{region.name}.{what}" if what else region.name
        return evaluate(text, self._around(holder, region), self.document.file.name, name)

    def _around(self, holder: Holder, region: Region) -> Mapping[str, int]:
        """The numbers of regions that stand once, of the records in which a region stands, and of its chunk."""
        if holder is None:
            return self.document.numbers
        instance, row = holder
        out = {**self.document.numbers, **instance.numbers(row)}
        if (body := _body(region, holder)) is not None:
            out["region.room"] = body[1]
        return out

    # Regions that stand several times ---------------------------------------------------------------

    def _instances(self, region: Region) -> Iterator[Instance]:
        """A region wherever it stands: once; for each record of another one; or record by record, as a list of links or with a region
        behind each."""
        inner = self.document.layout.inner(region)
        if region.linked:
            yield from self._links(region)
        elif inner is not None and region.body is None:
            yield from self._turns(region, inner)
        elif region.each is None:
            found = next(self._chunks_of(region), None) if region.chunk is not None else None
            there = region.chunk is None or found is not None
            if there and (region.when is None or self._value(region.when, region, holder=found)):
                framed = self._region(region, found)
                yield from (framed,) if inner is None else (framed, self._trailing(inner, framed))
        else:
            last: Instance | None = None
            around = [i for i in self.document.instances if i.region.name == region.each]
            holders = ((i, row) for i in around for row in range(i.records.count))
            for number, holder in enumerate(holders if region.chunk is None else self._chunks_of(region)):
                if region.when is None or self._value(region.when, region, holder=holder):
                    last = self._region(region, holder, number, last)
                    yield last

    def _links(self, region: Region) -> Iterator[Instance]:
        """Records each of which says where the next one stands."""
        document, at, seen = self.document, None, set[int]()
        for number in count():
            instance = self._region(region, None, number, None, at)
            if instance.at in seen:
                raise document.error(f"The list comes back to byte {instance.at:,}.", instance)
            seen.add(instance.at)
            yield instance
            slot = instance.shape.means[f"{region.name}.next"][0]
            value = document.values(instance, slot)[0]
            if value is None:
                return
            at = int(value)

    def _turns(self, region: Region, inner: Region) -> Iterator[Instance]:
        """Records with a region behind each, before the next one."""
        source, before = self.document.source, None
        wanted = None if region.repeat is None else self._value(region.repeat, region)
        end = (
            source.size
            if region.size is None
            else self._start(region, source, None, None) + self._value(region.size, region)
        )
        for number in count():
            if number == wanted:
                return
            at = None if before is None else before.at + before.stored
            at = at if at is None else at + -at % region.align
            place = self._start(region, source, None, None) if at is None else at
            if wanted is None and region.until == "end" and place >= end:
                return
            if wanted is None and region.until == "zero" and not source.read(place, min(8, end - place)).strip(b"\0"):
                return
            record = self._region(region, None, number, None, place, alone=True)
            yield record
            before = self._region(inner, (record, 0), number, record)
            yield before
            if region.ends_itself and self._value(region.until or 0, region, "until", (record, 0)):
                return

    def _chunks_of(self, region: Region) -> Iterator[tuple[Instance, int]]:
        """The records of the region of an `origin` that have the id of a chunk."""
        frames = self.document.instance(region.origin)
        if frames is None or frames.body is None:
            return
        found = ids_of(frames.shape, frames.records)
        yield from ((frames, row) for row, id in enumerate(found) if id == region.chunk)

    def _trailing(self, region: Region, framed: Instance) -> Instance:
        """The records that stand behind the bodies of others."""
        shape, source = shape_of(self.document.layout, region), self.document.source
        assert framed.body is not None
        places = framed.body.sum(axis=1) if len(framed.body) else np.zeros(0, np.int64)
        data = b"".join(source.read(at, shape.width) for at in places.tolist())
        records = Records.fixed(shape, shape.fields, np.frombuffer(data, np.uint8), len(places), 0)
        records.moved(places)
        instance = Instance(region, "", framed.at, 0, SliceSource(source, framed.at, 0), records)
        instance.body = np.stack([places + shape.width, np.zeros_like(places)], axis=1)
        instance.inside = np.full(len(places), -1, np.int64)
        return instance

    # Regions ----------------------------------------------------------------------------------------

    def _region(
        self,
        region: Region,
        holder: Holder = None,
        piece: int = -1,
        before: Instance | None = None,
        at: int | None = None,
        alone: bool = False,
    ) -> Instance:
        """A region where it stands. holder: the record for which it does, or in whose body; piece, before: its number and the piece
        before it, where it stands several times; at: its place, where that is known; alone: one record of it."""
        document = self.document
        file = document.companion(region.file) if region.file else ""
        source = document.file_named(file)
        at = self._start(region, source, holder, before) if at is None else at
        begin, room = _body(region, holder) or (0, -1)
        limit = begin + room if room >= 0 else source.size
        if region.size is not None:
            limit = at + self._value(region.size, region, "size", holder)
        if not 0 <= at <= limit <= source.size:
            raise ZubretError(
                f"Region {region.name} would stand at byte {at:,}, up to {limit:,}, outside the file of "
                f"{source.size:,} bytes.",
                file=source.name,
                offset=max(0, min(at, source.size)),
                field=region.name,
                next=DAMAGED,
            )
        count = 1 if region.single or alone else None
        if region.repeat is not None and not alone:
            count = self._value(region.repeat, region, holder=holder)
        numbers = {**self._around(holder, region), "region.at": at, "region.index": max(piece, 0)}
        span = _Span(region, file, source, at, limit, count, numbers)
        instance = self._packed(span) if region.packed else self._plain(span)
        instance.piece, instance.holder, instance.room = piece, holder, room
        if region.items is not None:
            wanted = np.broadcast_to(
                document.scope(instance).value(region.items, f"{region.name}.items"), instance.records.count
            )
            instance.rows = instance.rows[wanted[instance.rows] != 0]
        return instance

    def _plain(self, span: _Span) -> Instance:
        region, file, source, at, limit, count, numbers = span
        shape = shape_of(self.document.layout, region)
        if region.body:
            layout = self.document.layout
            inner = layout.inner(region)
            behind = shape_of(layout, inner).width if inner is not None else 0
            return Walk(shape, source, numbers, layout.frames(region), behind).read(at, limit, count)
        records, end = self._records(region, source, at, limit, count, numbers, at)
        stored = limit - at if region.size is not None else end - at
        return self._instance(region, file, at, stored, SliceSource(source, at, stored), records)

    def _packed(self, span: _Span) -> Instance:
        region, file, source, at, limit, count, numbers = span
        document = self.document
        chain = chain_of(region.packed, document.layout, document.keys, source.name, FileWords(document))
        size = document.once.get(f"{region.name}.size")
        room = size if isinstance(size, int) else 1032 * (limit - at) + 4096
        content = chain.unpacked(SliceSource(source, at, limit - at), room, exact=isinstance(size, int))
        records, end = self._records(region, content, 0, content.size, count, numbers, 0)
        if end != content.size:
            raise ZubretError(
                f"Region {region.name} has {content.size - end:,} bytes behind its last record.",
                file=source.name,
                offset=at,
                field=region.name,
                next="Describe them as a region or as fields, so that they can be written back.",
            )
        instance = self._instance(region, file, at, limit - at, SliceSource(content, 0, end), records)
        instance.chain = chain
        return instance

    def _records(
        self, region: Region, source: Source, at: int, limit: int, count: int | None, numbers: dict, place: int
    ) -> tuple[Records, int]:
        shape = shape_of(self.document.layout, region)
        if region.pool:
            data = np.frombuffer(source.read(at, limit - at), np.uint8)
            return Records(shape, data, 0), limit
        return read_records(shape, source, at, limit, count, numbers, place)

    @staticmethod
    def _instance(region: Region, file: str, at: int, stored: int, content: Source, records: Records) -> Instance:
        instance = Instance(region, file, at, stored, content, records)
        items = records.count - int(region.sentinel and records.count > 0)
        if region.ends_itself and not region.sentinel and records.count:
            items -= 1
        instance.rows = np.arange(items, dtype=np.int64)
        return instance

    def _start(self, region: Region, source: Source, holder: Holder, before: Instance | None) -> int:
        document = self.document
        tied = document.once.get(f"{region.name}.at")
        if isinstance(tied, int):
            return tied
        if (body := _body(region, holder)) is not None:
            return body[0] + self._value(region.at or 0, region, holder=holder)
        if holder is not None:
            for slot in holder[0].shape.means.get(f"{region.name}.at", ()):
                value = document.values(holder[0], slot)[holder[1]]
                if value is not None:
                    return int(value)
        if region.after is not None:
            before = before or document.instance(region.after)
            end = before.at + before.stored if before else 0
            return end + -end % region.align
        at = self._value(region.at or 0, region, holder=holder)
        if region.origin == "end":
            return source.size + at
        origin = document.instance(region.origin) if region.origin != "file" else None
        return at + (origin.at if origin else 0)

    # Constants, and what holds once -----------------------------------------------------------------

    def _learn(self, instance: Instance) -> None:
        """Constants, and what a region that stands once says of the whole file."""
        document, region, records = self.document, instance.region, instance.records
        for slot in instance.shape.constants:
            self._check_constant(instance, slot)
        if instance.piece < 0:
            document.numbers[f"{region.name}.at"] = instance.at
        if not region.once:
            return
        for name, slot in instance.shape.slots.items():
            if slot.whole and not records.absent(slot):
                document.numbers[f"{region.name}.{name}"] = int(records.numbers(slot)[0])
        for means, slots in instance.shape.means.items():
            for slot in slots:
                if not records.absent(slot):
                    self._learn_meaning(instance, means, slot)

    def _learn_meaning(self, instance: Instance, means: str, slot: Slot) -> None:
        document = self.document
        value = document.values(instance, slot)[0]
        value = value.item() if isinstance(value, np.generic) else value
        if means == "file.size" and value != document.source.size:
            what = f"The file should have {value:,} bytes but has {document.source.size:,}."
            raise document.error(what, instance)
        known = document.once.setdefault(means, value)
        if known != value:
            what = f"{means} is {value} here, but an earlier field says {known}."
            raise document.error(what, instance, slot)

    def _check_constant(self, instance: Instance, slot: Slot) -> None:
        field, records = slot.field, instance.records
        allowed = field.one_of if field.one_of is not None else [field.equals]
        if not records.count or records.absent(slot):
            return
        stored: list = records.numbers(slot).tolist() if slot.whole else records.cells(slot).contents()
        wanted = {v.rstrip(b"\0") if isinstance(v, bytes) else v for v in allowed}
        has = records.has(slot)
        for row, value in enumerate(stored):
            if has is not None and not has[row]:
                continue
            if (value.rstrip(b"\0") if isinstance(value, bytes) else value) not in wanted:
                what = f"{value!r} stands here, but {' or '.join(map(repr, allowed))} was expected."
                raise self.document.error(what, instance, slot, row)

    # Items ------------------------------------------------------------------------------------------

    def _group_items(self) -> None:
        """The regions of items by group, and those of their pieces."""
        document, layout = self.document, self.document.layout
        items = self._side_by_side(layout.item_regions(), layout.describes == "stream")
        pieces = self._side_by_side(layout.piece_regions())
        for group in (*items, *pieces):
            group.first = document.total
            document.total += group.count
        document.count = sum(g.count for g in items)
        for group in pieces:
            group.owners = np.zeros(group.count, np.int64)
        document.groups = [*items, *pieces]
        for group in pieces:
            group.owners = owners_of(document, group)
        for what in ("entries.count", "streams.count"):
            promised = document.once.get(what)
            if isinstance(promised, int) and promised != document.count:
                where = ((i, s) for i in document.instances for s in i.shape.means.get(what, ()))
                instance, slot = next(where)
                raise document.error(f"{promised:,} are promised, but {document.count:,} are there.", instance, slot)

    def _side_by_side(self, regions: list[Region], always: bool = False) -> list[Group]:
        """Regions by group: parallel tables of one group have as many records each. always: one there is, of a stream of which no
        region says anything."""
        document, wanted = self.document, {r.name for r in regions}
        by_name: dict[tuple[str, int], list[Instance]] = {("", -1): []} if always else {}
        for name, turn, instance in self._in_turn([i for i in document.instances if i.region.name in wanted]):
            by_name.setdefault((name, turn), []).append(instance)
        groups = []
        for (name, _), instances in by_name.items():
            count = len(instances[0].rows) if instances else 1
            for other in instances[1:]:
                if len(other.rows) != count:
                    raise document.error(
                        f"Region {other.name} has {len(other.rows):,} records, but {instances[0].name} has "
                        f"{count:,}; they belong together.",
                        other,
                    )
            groups.append(Group(name, instances, 0, count, document.layout.stand_of(name)))
        return groups

    def _in_turn(self, instances: list[Instance]) -> list[tuple[str, int, Instance]]:
        """The tables of items by group, and within it by what belongs together: tables for the same record, in turn; chunks in the same
        record, where none holds two with one id, else in turn."""
        by_group: dict[str, list[Instance]] = {}
        for instance in instances:
            by_group.setdefault(instance.region.group, []).append(instance)
        out: list[tuple[str, int, Instance]] = []
        for name, own in by_group.items():
            if not any(i.region.each and i.region.chunk is not None for i in own):
                out += [(name, i.piece, i) for i in own]
                continue
            around = [(i.region.name, _around(i)) for i in own]
            if len(set(around)) < len(own) or any(record < 0 for _, record in around):
                self._as_often(own)
                around = [(i.region.name, i.piece) for i in own]
            self._has_payloads(own, [turn for _, turn in around])
            out += sorted(((name, turn, i) for (_, turn), i in zip(around, own, strict=True)), key=itemgetter(1))
        return out

    def _as_often(self, instances: list[Instance]) -> None:
        """ZubretError unless regions that belong together in turn stand equally often."""
        often = Counter(i.region.name for i in instances)
        (one, wanted), *others = often.items()
        for other, found in others:
            if found != wanted:
                raise ZubretError(
                    f"Region {one} stands in {wanted:,} chunks, but {other} in {found:,}; they belong together in turn.",
                    file=self.document.file.name,
                    field=other,
                    next=DAMAGED,
                )

    def _has_payloads(self, instances: list[Instance], turns: list[int]) -> None:
        """ZubretError where chunks of an item have none beside them that says where its payload stands."""
        what = f"{self.document.layout.kind}.at"
        there = {turn for i, turn in zip(instances, turns, strict=True) if what in i.shape.means}
        for instance, turn in zip(instances, turns, strict=True):
            if turn not in there:
                raise self.document.error("Nothing beside this chunk says where a payload stands.", instance)
