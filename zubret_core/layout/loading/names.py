"""Rules about names in expressions: each has a value when it is needed, and no two ties wait for each other."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator

from ..language.expression import compiled
from ..language.fields import FieldModel, Tied
from ..language.order import Circle, check_reading_order, writing_order
from ..language.schema import Guard, Layout, Region, ties_of
from ..language.terms import NUMBER, UNITS, meaning_of
from ..types import TYPES

Path = tuple[str | int, ...]
"""A place in a layout's text: keys and numbers from the outermost inwards."""
Fault = tuple[Path, str]
BUILT_IN = {"file.size", "region.at", "region.room", "region.index", "record.at", "record.index"}
"""Names that have a value in every tie."""


def walk(layout: Layout) -> Iterator[tuple[Region, Path, FieldModel, Tied, Path]]:
    """Every tie with its region and its field, and the places of region and tie."""
    for r, region in enumerate(layout.regions):
        for f, field in enumerate(region.fields):
            where: Path = ("regions", r, "fields", f)
            yield region, ("regions", r), field, field, where
            for p, part in enumerate(field.parts or ()):
                yield region, ("regions", r), field, part, (*where, "parts", p)


def _once(regions: Iterable[Region]) -> set[str]:
    """Numbers of regions that stand once, by `region.field`, and where regions stand."""
    regions = list(regions)
    whole = ((r, f) for r in regions if r.once for f in r.fields if TYPES[f.type].whole)
    places = {f"{r.name}.at" for r in regions if r.each is None and not r.linked}
    return places | {f"{r.name}.{t.name}" for r, f in whole for t in (f, *(f.parts or ()))}


def _whole_names(fields: Iterable[FieldModel], scanned: bool = False) -> set[str]:
    """Whole numbers of a record; only those that are known while it is measured where `scanned`."""
    kinds = ((f, TYPES[f.type]) for f in fields)
    return {t.name for f, kind in kinds if (kind.scanned if scanned else kind.whole) for t in (f, *(f.parts or ()))}


def names_known(layout: Layout) -> Iterator[Fault]:
    """Faults of expressions that name what is not there, or not read yet."""
    every = _once(layout.regions) | {"file.size"}
    items, pieces = layout.item_regions(), layout.piece_regions()
    of_item = _item_names(layout)
    for r, region in enumerate(layout.regions):
        where: Path = ("regions", r)
        around = [layout.region(name) for name in layout.around(region)]
        around += [layout.region(region.origin)] if region.chunk is not None else []
        held = {f"{a.name}.{name}" for a in around if a is not None for name in _whole_names(a.fields)}
        earlier = _once(layout.regions[:r]) | {"file.size"} | held
        earlier |= {"region.room"} if region.chunk is not None else set()
        own = _whole_names(region.fields)
        for key in ("when", "at", "repeat", "size"):
            yield from _known(
                getattr(region, key), (*where, key), earlier, "a field of an earlier region that stands once"
            )
        if region.ends_itself:
            yield from _known(
                region.until,
                (*where, "until"),
                earlier | _whole_names(region.fields, True),
                "a number of the record or of an earlier region",
            )
        of_record = earlier | _whole_names(region.fields, True) | BUILT_IN
        yield from _known(region.items, (*where, "items"), of_record, "a number of the record or of an earlier region")
        tied = BUILT_IN | own | (every | held | of_item if region in items or region in pieces else earlier)
        for f, field in enumerate(region.fields):
            place: Path = (*where, "fields", f)
            before = earlier | _whole_names(region.fields[:f], True)
            yield from _known(
                field.of, place, tied, "a number of the record, of a region that stands once, or of the item"
            )
            for text in (field.when, field.length_worked_out):
                yield from _known(text, place, before, "an earlier number of the record or of an earlier region")
            for tie in (field, *(field.parts or ())):
                texts = [tie.xor, tie.base, *(() if tie.unit_name else (tie.unit, tie.per))]
                if tie.sum is not None:
                    for text in (tie.sum.start, tie.sum.end):
                        yield from _known(text, place, every | {"region.at"}, "a field of a region that stands once")
                for text in texts:
                    yield from _known(
                        text, place, tied, "a number of the record, of a region that stands once, or of the item"
                    )
        if region.payload is not None:
            yield from _stand_names(region.payload, (*where, "payload"), every | BUILT_IN | own | of_item)
    firsts = [_whole_names(region.fields) for region in items]
    common = set.intersection(*firsts) if firsts else set()
    yield from _stand_names(layout.payload, ("payload",), every | BUILT_IN | common | of_item)


def _item_names(layout: Layout) -> set[str]:
    """Meanings of an item that expressions may name: whole numbers that a field, `given` or the places give."""
    kind = layout.kind
    present = {t.means for r in layout.item_regions() for t in ties_of(r) if t.means}
    numbers = {m for m in present if meaning_of(m).takes == (NUMBER,)}
    return (
        numbers
        | ({f"{kind}.at", f"{kind}.stored"} if layout.has_payloads else set())
        | {m for m in layout.given if m != "stream.codec"}
    )


def _stand_names(stand, where: Path, known: set[str]) -> Iterator[Fault]:
    texts = [stand.align]
    for guard in (stand.before, stand.behind):
        assert isinstance(guard, Guard)
        texts += [guard.bytes, guard.frames]
    for text in texts:
        yield from _known(text, where, known, "a number of the record or of a region that stands once")


def _known(text: int | str | None, where: Path, known: set[str], what: str) -> Iterator[Fault]:
    for name in compiled(text).names if text is not None else ():
        if name not in known:
            near = difflib.get_close_matches(name, sorted(known - {name}), 1)
            hint = f' Did you mean "{near[0]}"?' if near else ""
            more = f" Units by name are {', '.join(UNITS)}." if not near and "." not in name else ""
            yield where, f'"{name}" is not {what}.{hint}{more}'


# Circles ----------------------------------------------------------------------------------------------


def no_circles(layout: Layout) -> Iterator[Fault]:
    """Faults of values that need each other."""
    try:
        check_reading_order(layout)
    except Circle as e:
        yield _both(layout, lambda tie: (tie.means or "").partition(".")[2], e)
    for region in layout.regions:
        try:
            writing_order(region)
        except Circle as e:
            yield _both(layout, lambda tie: tie.name, e, region)


def _both(layout: Layout, name_of, circle: Circle, region: Region | None = None) -> Fault:
    """A circle at the place of its later field; the text has the places of both as {0} and {1}."""
    places: dict[str, Path] = {}
    for other, _, _, tie, where in walk(layout):
        if name_of(tie) in circle.names and (region is None or other is region):
            places.setdefault(name_of(tie), where)
    first, second = (places[n] for n in circle.names)
    if circle.names[0] == circle.names[1]:
        return first, f"the tie {circle.names[0]} is worked out from itself"
    return (
        first,
        f"the ties {circle.names[0]} and {circle.names[1]} are each worked out from the other (see also {{{second}}})",
    )
