"""Regions whose records stand before their payloads: walked record by record, and into each other."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from ...base import ZubretError
from ...source import SliceSource, Source
from ..document.instance import Instance
from ..document.records import DAMAGED, Records
from ..document.shape import Shape
from ..language.expression import evaluate
from ..types.numbers import Result
from .regions import read_records

DEEPEST = 32
"""Levels of records inside records at most."""
MOST = 1 << 22
"""Records with bodies in a file at most."""


def ids_of(shape: Shape, records: Records) -> Sequence[int | str]:
    """What records with bodies are called: their first text, bytes or whole number but for the size of the body; of bytes the
    hexadecimal pairs, of a record without such a field nothing."""
    size = shape.region.body.size if shape.region.body else ""
    kinds = (s for s in shape.fields if s.field.name != size)
    first = next((s for s in kinds if s.field.type in ("text", "bytes") or s.whole), None)
    if first is None:
        return [""] * records.count
    if first.whole:
        numbers: list[int] = records.numbers(first).tolist()
        return numbers
    cells = (cell or b"" for cell in records.cells(first).contents())
    raw = first.field.type == "bytes"
    return [cell.hex(" ") if raw else cell.rstrip(b"\0").decode("latin-1") for cell in cells]


class Walk:
    """One walk over a region with bodies. numbers: what expressions may name besides the record's own fields; frames: its bodies
    are other regions, so that no record is an item; behind: bytes of the records that stand behind bodies."""

    def __init__(self, shape: Shape, source: Source, numbers: Mapping[str, int], frames: bool = False, behind: int = 0):
        self.frames, self.behind = frames, behind
        assert shape.region.body is not None
        self.shape, self.source, self.numbers = shape, source, numbers
        self.region, self.body = shape.region, shape.region.body
        self.size = shape.slots[self.body.size]
        self.rows: list[tuple[Records, int, int, int]] = []  # record, body's place and bytes, record around it

    def read(self, at: int, limit: int, count: int | None) -> Instance:
        """The region from `at` to at most `limit`; records inside others come behind those around them."""
        end = self._level(at, limit, count, -1, 0)
        content = SliceSource(self.source, at, end - at)
        instance = Instance(self.region, "", at, end - at, content, self._joined())
        instance.body = np.array([(r[1], r[2]) for r in self.rows], np.int64).reshape(-1, 2)
        instance.inside = np.array([r[3] for r in self.rows], np.int64)
        holders = instance.holders
        if not self.frames:
            items = len(self.rows) - int(self.region.ends_itself and bool(self.rows))
            instance.rows = np.array([n for n in range(items) if n not in holders], np.int64)
        return instance

    def _error(self, what: str, at: int, field: str) -> ZubretError:
        return ZubretError(what, file=self.source.name, offset=at, field=field, next=DAMAGED)

    def _level(self, pos: int, end: int, most: int | None, around: int, depth: int) -> int:
        """The records of one level; the place behind them."""
        if depth > DEEPEST:
            raise self._error(f"Records stand {DEEPEST} deep in each other.", pos, self.region.name)
        done = 0
        while (most is None and pos < end) or (most is not None and done < most):
            if most is None and self.region.until == "zero" and self._only_zeros(pos, end):
                break
            record, after = read_records(self.shape, self.source, pos, end, 1, self.numbers, pos, alone=True)
            size = self._body_size(record)
            if size < 0 or after + size + self.behind > end:
                field = f"{self.region.name}.{self.body.size} of record {len(self.rows)}"
                raise self._error(f"The body of {size:,} bytes leaves the {end:,} bytes that there are.", pos, field)
            self.rows.append((record, after, size, around))
            mine, stop = len(self.rows) - 1, after + size
            if self.body.nested and ids_of(self.shape, record)[0] in self.body.nested and size >= self.body.skip:
                self._level(after + self.body.skip, stop, None, mine, depth + 1)
            stop += self.behind
            pos = min(end, stop + -stop % self.body.align)
            done += 1
            if len(self.rows) > MOST:
                raise self._error(f"More than {MOST:,} records.", pos, self.region.name)
            if self.region.ends_itself and self._is_last(record):
                break
        return pos

    def _only_zeros(self, pos: int, end: int) -> bool:
        width = sum(self.shape.widths[f.name] or 1 for f in self.region.fields)
        return not self.source.read(pos, min(width, end - pos)).strip(b"\0")

    def _own(self, record: Records) -> dict[str, int]:
        whole = {n: int(record.numbers(s)[0]) for n, s in self.shape.slots.items() if s.whole}
        return {**self.numbers, **whole}

    def _is_last(self, record: Records) -> bool:
        return bool(evaluate(self.region.until or 0, self._own(record), self.source.name, self.region.name))

    def _body_size(self, record: Records) -> int:
        tie = self.size.tie
        if isinstance(self.size.type, Result):
            of = self.size.field.of
            stored = evaluate(of if of is not None else 0, self._own(record), self.source.name, tie.name)
        else:
            stored = int(record.numbers(self.size)[0])
        if tie.plain:
            return stored
        names = self._own(record)
        parts = tie.xor, tie.unit, tie.per, tie.base
        key, unit, per, base = (evaluate(x, names, self.source.name, tie.name) for x in parts)
        stored ^= key
        if per < 1 or stored * unit % per:
            what = f"{stored:,} with a unit of {unit:,} per {per:,} is no whole number of bytes."
            raise self._error(what, int(record.places[0]), f"{self.region.name}.{tie.name} of record {len(self.rows)}")
        return stored * unit // per + base

    def _joined(self) -> Records:
        """The records, read one by one, as one set of columns."""
        parts = [r[0] for r in self.rows]
        fields = len(self.shape.fields)
        if not parts:
            none, empty = np.zeros(0, np.int64), np.zeros((0, fields), np.int64)
            return Records.measured(self.shape, np.zeros(0, np.uint8), none, none, empty, empty)
        lengths = np.array([len(p.data) for p in parts], np.int64)
        starts = np.concatenate([[0], np.cumsum(lengths)[:-1]]).astype(np.int64)
        places = np.array([p.places[0] for p in parts], np.int64)
        data = np.concatenate([p.data for p in parts])
        if all(p.size and p.size == parts[0].size for p in parts) and not self.shape.by_record:
            new = Records.fixed(self.shape, self.shape.present(self.numbers, ""), data, len(parts), 0)
            new.moved(places)
            return new
        spans = [[p.span(s, 0) for s in self.shape.fields] for p in parts]
        at = np.array([[s[0] for s in row] for row in spans], np.int64).reshape(-1, fields) + starts[:, None]
        length = np.array([[s[1] for s in row] for row in spans], np.int64).reshape(-1, fields)
        return Records.measured(self.shape, data, starts, places, at, length)
