"""What a layout must fulfil besides its grammar: types that suit their meanings, regions that can be found, items that are
whole. Each rule gives the place in the layout's text and one sentence."""

from __future__ import annotations

import difflib
from collections.abc import Iterator

from ...base import Format, ZubretError
from ...codec import CODECS, codec_named, parameters_of
from ...plugins import STEPS, installed
from ..language.codecs import spec_of
from ..language.expression import compiled
from ..language.fields import WHOLE, BitPart, FieldModel, Tied
from ..language.schema import Layout, Region, ties_of
from ..language.steps import PlugInStep, Shrinks, SizedStep, all_steps, numbers_of
from ..language.terms import BYTES, MEANINGS, NUMBER, OF_REGION, ONCE, TEXT, meaning_of
from ..types import TYPES
from .names import Fault, Path, names_known, no_circles, walk


def faults_of(layout: Layout) -> Iterator[Fault]:
    """Everything that is wrong with a layout, the plainest first."""
    for rule in (_regions, _fields, _ties, _steps, _streams, _items, _pieces, names_known, no_circles):
        yield from rule(layout)


# Regions ----------------------------------------------------------------------------------------------


def _regions(layout: Layout) -> Iterator[Fault]:
    names = [r.name for r in layout.regions]
    for n, region in enumerate(layout.regions):
        where: Path = ("regions", n)
        if names.count(region.name) > 1:
            yield where, f"two regions have the name {region.name}"
        own = [t.name for t in ties_of(region)]
        for name in own:
            if own.count(name) > 1:
                yield where, f'the name "{name}" stands twice in region {region.name}'
        before = names[:n]
        tied = {t.means for r in layout.regions[:n] for t in ties_of(r)}
        places = sum(
            (
                region.at is not None and region.chunk is None,
                region.after is not None,
                f"{region.name}.at" in tied,
                region.chunk is not None,
            )
        )
        if region.each is not None:
            yield from _each(layout, n, region)
        if region.follows is not None:
            yield from _follows(layout, region, (*where, "follows"))
        if region.chunk is not None:
            frames = layout.region(region.origin)
            if frames is None or frames.body is None:
                yield (
                    (*where, "chunk"),
                    f"`origin` of region {region.name} is a region whose records have bodies, where there is a `chunk`",
                )
        if places != 1:
            yield (
                where,
                (
                    f"region {region.name} needs exactly one of `at`, `after`, and an earlier field that means {region.name}.at"
                ),
            )
        for word, other in (("after", region.after), ("origin", region.origin)):
            if other is not None and other not in before and not (word == "origin" and other in ("file", "end")):
                yield (*where, word), f'"{other}" is no earlier region ({word} of region {region.name})'
        if region.file is not None and region.file not in layout.files:
            yield (*where, "file"), f'"{region.file}" is not one of `files` (region {region.name})'
        if region.sentinel and region.repeat is None and region.until is None:
            yield (
                (*where, "sentinel"),
                f"region {region.name} needs `repeat` or `until`, whose last record is the sentinel",
            )
        if region.items is not None and (region not in layout.item_regions() or region.once):
            told = f"region {region.name} is no table of {layout.kind}.* meanings, so it has no items to be told from others"
            yield (*where, "items"), told
        if region.payload is not None and region not in [*layout.item_regions(), *layout.piece_regions()]:
            yield (
                (*where, "payload"),
                f"region {region.name} holds no {layout.kind}.* meanings, so no payload is its own",
            )
        if region.body is not None:
            yield from _body(region, (*where, "body"))
        means = [t.means for f in region.fields for t in (f, *(f.parts or ())) if t.means and f.when is None]
        for m in means:
            if means.count(m) > 1 and not (region.once and m not in MEANINGS):
                yield where, f'"{m}" stands twice in region {region.name}'


def _each(layout: Layout, n: int, region: Region) -> Iterator[Fault]:
    """What a region that stands for each record of another must fulfil."""
    where: Path = ("regions", n, "each")
    holder = next((r for r in layout.regions[:n] if r.name == region.each), None)
    if holder is None:
        yield where, f'"{region.each}" is no earlier region (each of region {region.name})'
    elif layout.trails(region):
        yield from _trails(layout, region, where)
    elif region.chunk is not None:
        if region.origin != region.each:
            yield where, f"region {region.name} stands in each chunk, so `each` and `origin` are the same region"
    elif holder.once or holder.pool or holder.body or holder.packed or holder.file:
        yield where, f"region {region.each} must repeat, stand in the described file, and have no body and no packing"
    elif region.after == region.each and sum(r.each == region.each for r in layout.regions) > 1:
        yield where, f"only one region can stand behind each record of {region.each}"
    same = [r for r in layout.item_regions() if r.group == region.group]
    if region in same and any(r.each != region.each for r in same):
        yield where, f'the regions of group "{region.group}" all stand for each record of the same region'


def _trails(layout: Layout, region: Region, where: Path) -> Iterator[Fault]:
    """What records that stand behind the bodies of others must fulfil."""
    if region.when is not None or not region.single or region.size is not None or region.align > 1:
        yield (
            where,
            f"each record of region {region.name} stands behind a body, so it has no when, repeat, until, size or align",
        )
    if any(f.when is not None or TYPES[f.type].width(f) is None or f.type == "result" for f in region.fields):
        yield where, f"region {region.name} stands behind bodies, so its fields are always there, of a fixed length"
    if any(t.means for t in ties_of(region)):
        yield where, f"region {region.name} stands behind bodies, where fields have no meaning; sums may stand there"


def _follows(layout: Layout, region: Region, where: Path) -> Iterator[Fault]:
    """What a table that follows a sound must fulfil."""
    own = {t.means for t in ties_of(region) if t.means and t.means.startswith("point.")}
    around = layout.region(region.each) if region.each else None
    if layout.kind != "stream" or (
        around not in layout.item_regions() if region.each else layout.describes != "stream"
    ):
        yield (
            where,
            f"region {region.name} follows a sound, so it stands for each record of a table of streams, or in a file that is one",
        )
    if region.single or region.pool:
        yield where, f"region {region.name} follows a sound, so it has records: `repeat` or `until`"
    if not own:
        yield where, f"no field of region {region.name} means point.at, point.frame or another point.*"
    assert region.follows is not None
    if region.follows.every is None and own != {"point.frame"}:
        yield (
            where,
            f"without `every`, the records of {region.name} are marks in time, which mean point.frame and nothing else",
        )


def _body(region: Region, where: Path) -> Iterator[Fault]:
    assert region.body is not None
    found = [(f, t) for f in region.fields for t in (f, *(f.parts or ())) if t.name == region.body.size]
    if not found:
        yield where, f"region {region.name} has no field {region.body.size} for the body's size"
    elif not (TYPES[found[0][0].type].whole or found[0][0].type == "result") or found[0][1].values:
        yield where, f"the size of a body is a whole number, but {region.body.size} is none"


# Fields by themselves ---------------------------------------------------------------------------------


def _fields(layout: Layout) -> Iterator[Fault]:
    for region, _, field, tie, where in walk(layout):
        if tie is not field:
            continue
        kind = TYPES[field.type]
        if fault := kind.fault(field):
            yield where, f"a field of type {field.type} {fault}"
        if field.length_field is not None:
            yield from _length_field(region, field, where)
        if field.of is not None and field.type != "result":
            yield where, f"`of` is for fields of type result, not {field.type}"
        if field.parts and not field.type.startswith("u"):
            yield where, "only an unsigned integer can have parts"
        elif field.parts and sum(p.bits for p in field.parts) > int(field.type[1:]):
            yield where, f"the parts have more bits than {field.type}"
        elif field.parts and (field.means or field.sum):
            yield where, f"field {field.name} has parts, so meanings and sums belong to these"
        if field.one_of is not None and not kind.whole:
            yield where, f"`one_of` lists whole numbers, but a field of type {field.type} holds none"
        if field.equals is not None and kind.whole != isinstance(field.equals, int):
            yield where, f"`equals` of a field of type {field.type} is {'a whole number' if kind.whole else 'bytes'}"


def _length_field(region: Region, field: FieldModel, where: Path) -> Iterator[Fault]:
    before: dict[str, Tied] = {}
    for other in region.fields:
        if other is field:
            break
        if TYPES[other.type].scanned:
            before |= {t.name: t for t in (other, *(other.parts or ()))}
    holder = before.get(field.length_field or "")
    if holder is None:
        yield where, f'"{field.length}" is no earlier integer (length of field {field.name} of region {region.name})'
    elif (
        holder.values
        or holder.per != 1
        or holder.xor != 0
        or not isinstance(holder.unit, int)
        or not isinstance(holder.base, int)
    ):
        yield (
            where,
            f"field {holder.name} gives a length, so its unit and base are plain numbers, and it has no `values`, `per` or `xor`",
        )


# Ties: what a field may mean --------------------------------------------------------------------------


def _ties(layout: Layout) -> Iterator[Fault]:
    regions = [r.name for r in layout.regions]
    for region, _, field, tie, where in walk(layout):
        named = f"field {tie.name} of region {region.name}"
        kind = TYPES[field.type]
        if tie.pool is not None and not any(r.name == tie.pool and r.pool for r in layout.regions):
            yield where, f'"{tie.pool}" is no region with a pool ({named})'
        yield from _text_length(layout, region, tie, where)
        if tie.sum is not None:
            if tie.sum.of == "body" and not layout.trails(region):
                yield (
                    where,
                    f"a sum over a body stands behind it, in a region with `each` and `after` of those records ({named})",
                )
            elif tie.sum.since is not None and tie.sum.since not in _names_in_front(layout, region):
                yield where, f'"{tie.sum.since}" is no field of the records in front ({named})'
            if tie.sum.of not in WHOLE and tie.sum.of not in regions:
                yield where, f'a sum covers {", ".join(WHOLE)} or a region, not "{tie.sum.of}" ({named})'
            if field.type in ("varint", "align", "f32", "f64", "f80", "bcd", "result"):
                yield where, f"a field of type {field.type} can't hold a sum; use an integer, bytes or text ({named})"
        if not kind.whole:
            taken = {"f": ("unit", "base"), "r": ("unit", "base", "per", "values", "none")}.get(field.type[0], ())
            taken = ("hash",) if field.type in ("bytes", "text") else taken
            for key in {"unit", "base", "per", "xor", "values", "none", "pool", "hash"}.difference(taken):
                if getattr(tie, key) != type(tie).model_fields[key].default:
                    yield where, f"`{key}` is for fields of whole numbers, but {tie.name} is of type {field.type}"
        if tie.means is not None:
            yield from _meaning(layout, region, field, tie, where)
        elif tie.unit_name:
            yield where, f"the unit {tie.unit_name} needs a meaning ({named})"
        if tie.none is not None and kind.whole and not _within(field, tie, tie.none):
            yield where, f"field {tie.name} can't hold {tie.none:,}, the number that stands for none"
        if kind.whole:
            for stored in [*tie.numbered, *(n for low, high, _ in tie.ranges for n in (low, high))]:
                if not _within(field, tie, stored):
                    yield where, f"field {tie.name} can't hold {stored:,}, which `values` lists"


def _text_length(layout: Layout, region: Region, tie: Tied, where: Path) -> Iterator[Fault]:
    """What says how long a text in a pool is: the bytes behind it, a number before it, or a field of the record."""
    named = f"field {tie.name} of region {region.name}"
    pool = next((r.pool for r in layout.regions if r.name == tie.pool and r.pool), None)
    if pool is not None and not pool.ends and pool.counted is None and tie.text_length is None:
        yield (
            where,
            f"nothing says where the texts of {tie.pool} end: give it `ends` or `counted`, or a `text_length` ({named})",
        )
    if tie.text_length is None:
        return
    whole = (f for f in region.fields if TYPES[f.type].whole and f.type != "result")
    length = next((t for f in whole for t in (f, *(f.parts or ())) if t.name == tie.text_length), None)
    if pool is None or pool.counted is not None:
        yield where, f"`text_length` is for texts in a pool that is not counted ({named})"
    elif length is None or not length.plain or length.means or length is tie:
        yield where, f'"{tie.text_length}" is no plain number of the record that means nothing else ({named})'


def _names_in_front(layout: Layout, region: Region) -> set[str]:
    """The fields of the records behind whose bodies a region stands."""
    front = layout.region(region.each) if region.each is not None and layout.trails(region) else None
    return {f.name for f in front.fields} if front is not None else set()


def _within(field: FieldModel, tie: Tied, number: int) -> bool:
    if isinstance(tie, BitPart):
        half = 1 << (tie.bits - 1)
        return -half <= number < half if tie.signed else 0 <= number < 2 * half
    low, high = TYPES[field.type].limits(field)
    return low <= number <= high


def _meaning(layout: Layout, region: Region, field: FieldModel, tie: Tied, where: Path) -> Iterator[Fault]:
    means, named = tie.means or "", f"field {tie.name} of region {region.name}"
    owner, _, what = means.partition(".")
    if means in MEANINGS:
        if MEANINGS[means].owner == "point":
            if region.follows is None:
                yield (
                    where,
                    f"a point belongs to a table that follows a sound: region {region.name} needs `follows` ({named})",
                )
            yield from _suits(field, tie, means, where)
            return
        if MEANINGS[means].owner == "piece" and layout.has_payloads:
            if region.once:
                yield (
                    where,
                    f"region {region.name} says where pieces of payloads stand, so it needs `repeat` or `until`",
                )
            yield from _suits(field, tie, means, where)
            return
        if MEANINGS[means].owner not in (layout.kind, "folder"):
            yield where, f"a layout of this kind ({layout.describes}) ties only {layout.kind}.* meanings ({named})"
            return
        if layout.describes == "stream" and not region.once:
            yield where, f"a file that is one stream has one record, so region {region.name} can't repeat"
        elif layout.describes != "stream" and region.once:
            yield where, f"region {region.name} holds meanings of many records, so it needs `repeat` or `until`"
    elif (
        means not in ONCE
        and not (owner in {r.name for r in layout.regions} and what in OF_REGION)
        and not (owner in layout.files and what in ("size", "count"))
    ):
        near = difflib.get_close_matches(means, [*MEANINGS, *ONCE], 1)
        hint = f' Did you mean "{near[0]}"?' if near else ""
        yield where, f'"{means}" is not a meaning that Zubret knows ({named}).{hint}'
        return
    elif means == f"{region.name}.next":
        if tie.none is None:
            yield (
                where,
                f"the last link says so: give field {tie.name} the number that stands for none, such as none: 0",
            )
    elif not region.once and (layout.region(owner) is None or layout.region(owner).each != region.name):  # type: ignore[union-attr]
        yield where, f'"{means}" is said once, so region {region.name} can\'t repeat ({named})'
    elif what == "next":
        yield where, f"only the records of {owner} themselves say where the next one stands ({named})"
    yield from _suits(field, tie, means, where)


def _suits(field: FieldModel, tie: Tied, means: str, where: Path) -> Iterator[Fault]:
    """Whether a field's type can give what its meaning takes."""
    wanted, gives = meaning_of(means), _gives(field, tie)
    if tie.unit_name and tie.unit_name not in wanted.units:
        units = " or ".join(wanted.units) or "no unit by name"
        yield where, f"the meaning {means} takes {units}, not {tie.unit_name} (field {tie.name})"
    if not gives:
        if tie.values:
            yield where, f"`values` of {tie.name} are all whole numbers, or all texts"
            return
        help = "an integer type such as u32" if NUMBER in wanted.takes else "text" if TEXT in wanted.takes else "bytes"
        yield where, f"a field of type {field.type} can't mean {means}, which is {wanted.takes[0]}; use {help}"
    elif gives not in wanted.takes:
        help = {
            NUMBER: "use an integer type such as u32, or digits",
            TEXT: "use text, or give the number `values` or a `pool`",
            BYTES: "use bytes",
        }[wanted.takes[0]]
        yield where, f"field {tie.name} gives {gives}, but {means} is {' or '.join(wanted.takes)}; {help}"


def _gives(field: FieldModel, tie: Tied) -> str:
    """The kind of value that a tie gives; empty where it gives none."""
    if tie.pool:
        return TEXT
    if tie.values:
        texts = {isinstance(v, str) for v in tie.values.values()}
        return "" if len(texts) > 1 else TEXT if texts == {True} else NUMBER
    carries = TYPES[field.type].carries
    return carries[0] if carries else ""


# Steps ------------------------------------------------------------------------------------------------


def _steps(layout: Layout) -> Iterator[Fault]:
    chains: list[tuple[Path, list, int]] = [(("packed",), layout.packed, 0), (("payload",), layout.payload.packed, -1)]
    chains += [(("methods", name), steps, -1) for name, steps in layout.methods.items()]
    chains += [(("regions", n, "packed"), r.packed, n) for n, r in enumerate(layout.regions)]
    for where, steps, before in chains:
        known = _fields_before(layout, before)
        for step in all_steps(steps):
            key = getattr(step, "key", None)
            if key is not None and key not in layout.keys:
                yield where, f'"{key}" is not one of `keys` (a step by {step.by})'
            if isinstance(step, PlugInStep) and step.name not in (names := steps_there()):
                there = f"there are {', '.join(names)}" if names else "there are none"
                yield where, f'no installed plug-in brings the step "{step.name}"; {there}'
            for text in numbers_of(step).values():
                for name in compiled(text).names:
                    if name not in known:
                        what = "that never changes and is read before" if before >= 0 else "that never changes"
                        yield where, f'"{name}" is no whole number of a field {what} (a step by {step.by})'
    if layout.payload.file is not None and layout.payload.file not in layout.files:
        yield ("payload",), f'"{layout.payload.file}" is not one of `files` (payload)'


def steps_there() -> list[str]:
    """The names of the steps that installed plug-ins bring."""
    return [plug_in.name for plug_in in installed() if plug_in.group == STEPS]


def _fields_before(layout: Layout, before: int) -> set[str]:
    """Numbers that steps may name: those of the regions that stand once before region `before`, or (below 0) of all, and of an
    item's record. What would change with a payload is no key to it."""
    regions = layout.regions if before < 0 else layout.regions[:before]
    out = {f"{r.name}.{t.name}" for r in regions if r.once for t in _lasting(r)}
    if before < 0:
        items = [{t.name for t in _lasting(r)} for r in layout.item_regions()]
        out |= (set.union(*items) if items else set()) | {f"{layout.kind}.size"}
    return out


def _lasting(region: Region) -> Iterator[Tied]:
    for field in region.fields:
        if TYPES[field.type].whole:
            for tie in (field, *(field.parts or ())):
                if tie.sum is None and (tie.means is None or tie.means.endswith((".id", ".method", ".volume"))):
                    yield tie


def _shrinks(steps: list) -> bool:
    """Whether a field has to say how many bytes come out."""
    return any(isinstance(s, Shrinks) for s in steps) and not isinstance(steps[0], SizedStep)


# Items ------------------------------------------------------------------------------------------------


def _items(layout: Layout) -> Iterator[Fault]:
    kind, items, where = layout.kind, layout.item_regions(), ("regions",)
    if layout.describes == "stream":
        if any(r.body and not layout.frames(r) and r not in layout.piece_regions() for r in layout.regions):
            yield (
                where,
                "a file that is one stream has no bodies but those of its pieces, and of chunks in which its regions stand",
            )
        return
    if not items:
        yield where, f"at least one region must hold {kind}.* meanings"
        return
    present = {t.means for r in items for t in ties_of(r)}
    if kind == "listed":
        if "listed.path" not in present or any(r.body for r in items):
            yield where, "a list needs a field that means listed.path, and no bodies"
        return
    if kind == "row":
        if "row.id" not in present or not present & {"row.title", "row.text"} or any(r.body for r in items):
            yield where, "a table needs a field that means row.id, one that means row.title or row.text, and no bodies"
        return
    body, pieces = any(r.body for r in items), bool(layout.piece_regions())
    if kind == "entry" and not present & {"entry.path", "entry.name", "entry.id"}:
        yield where, "entries need entry.path, entry.name or entry.id"
    if not body and not pieces and f"{kind}.at" not in present:
        yield where, f"no field means {kind}.at"
    placed = body or pieces
    if not placed and not present & {f"{kind}.stored", f"{kind}.end"} and layout.payload.sizes == "given":
        yield where, f"no field means {kind}.stored or {kind}.end; say payload: {{sizes: next}} if none does"
    if f"{kind}.size" not in present and any(map(_shrinks, [layout.payload.packed, *layout.methods.values()])):
        yield where, f"packed payloads need a field that means {kind}.size: how many bytes come out"
    if layout.payload.plain == "equal" and (f"{kind}.size" not in present or f"{kind}.stored" not in present):
        yield ("payload",), f"plain: equal needs fields that mean {kind}.stored and {kind}.size, or nothing could tell"
    for n, region in enumerate(layout.regions):
        own = {t.means for t in ties_of(region)}
        if f"{kind}.loop_length" in own and f"{kind}.loop_end" in own:
            yield ("regions", n), "a loop has an end or a length; tie one of them"


def _pieces(layout: Layout) -> Iterator[Fault]:
    """What payloads in several pieces must fulfil."""
    kind, regions = layout.kind, layout.piece_regions()
    items = layout.item_regions()
    places = {tie.means: where for region, _, _, tie, where in walk(layout) if region in items}
    if not regions:
        if f"{kind}.pieces" in places:
            yield (
                places[f"{kind}.pieces"],
                "no region says where the pieces stand: its fields mean piece.at and piece.stored",
            )
        return
    for what in ("at", "end", "head", "volume"):
        if f"{kind}.{what}" in places:
            yield places[f"{kind}.{what}"], f"payloads stand in pieces here, so nothing means {kind}.{what}"
    if layout.payload.sizes != "given" or (layout.payload.file and layout.files[layout.payload.file].volumes):
        yield ("payload",), "pieces of payloads say how long they are, and stand in the file or in one other"
    if any(r.body for r in items):
        yield (
            ("regions",),
            f"a record is a piece or has a payload of its own: bodies here are pieces or {kind} payloads, not both",
        )
    for _, _, field, tie, where in walk(layout):
        piece = (tie.means or "").startswith("piece.")
        if piece and (field.when is not None or tie.none is not None):
            yield where, f"every piece says all of itself, so field {tie.name} has neither `when` nor `none`"
    for n, region in enumerate(layout.regions):
        if region not in regions:
            continue
        own = {t.means for r in regions if r.group == region.group for t in ties_of(r)}
        around = any(layout.region(name) in items for name in layout.around(region))
        if region in items:
            yield ("regions", n), f"region {region.name} holds meanings of {kind} payloads and of their pieces"
        if not region.body and not ("piece.at" in own and own & {"piece.stored", "piece.end"}):
            yield ("regions", n), f"the pieces of region {region.name} need piece.at, and piece.stored or piece.end"
        if layout.describes != "stream" and not around and "piece.of" not in own and f"{kind}.pieces" not in places:
            yield (
                ("regions", n),
                f"nothing says to which {kind} the pieces of region {region.name} belong: use `each`, piece.of or {kind}.pieces",
            )


def _streams(layout: Layout) -> Iterator[Fault]:
    if layout.kind != "stream":
        return
    present = {t.means for r in layout.item_regions() for t in ties_of(r)}
    names = _codecs_named(layout)
    tells = bool(names) and all(_tells(layout, name) for _, name in names)
    for what in ("codec", "rate"):
        if f"stream.{what}" not in present | set(layout.given) and not (what == "rate" and tells):
            yield ("regions",), f"no field means stream.{what}, and `given` does not have it"
    for what, value in layout.given.items():
        if what in present:
            yield ("given",), f"the meaning {what} is given, and a field means it, too"
        if what != "stream.codec" and not isinstance(value, int):
            yield ("given",), f"the meaning {what} is a whole number"
    places = {tie.means: where for _, _, _, tie, where in walk(layout)}
    if {"stream.cut", "stream.frames"} <= present:
        where = places["stream.cut"]
        yield where, "a stream's length follows from stream.frames or from stream.cut; tie one of them"
    for _, name in names if "stream.skip" in present else ():
        kind = spec_of(layout.codecs, str(name))[0]
        if kind in CODECS and "skip" not in parameters_of(kind):
            yield places["stream.skip"], f"the codec {kind} skips nothing, so no field can mean stream.skip"
    for where, name in names:
        if name not in CODECS and name not in layout.codecs:
            known = ", ".join([*layout.codecs, *CODECS])
            yield where, f'"{name}" is no codec, and not one of `codecs`; there are {known}'
        elif "stream.frames" not in present and not _has_length(layout, str(name)):
            yield (
                where,
                f"the codec {name} does not tell a stream's length from its bytes, so a field must mean stream.frames",
            )


def _codecs_named(layout: Layout) -> list[tuple[Path, object]]:
    """Every codec that the streams of a layout can have, and where it is named."""
    named: list[tuple[Path, object]] = [(("given",), v) for w, v in layout.given.items() if w == "stream.codec"]
    for _, _, _, tie, where in walk(layout):
        if tie.means == "stream.codec":
            named += [(where, v) for v in (tie.values or {}).values()]
    return named


def _tells(layout: Layout, name: object) -> bool:
    """Whether the payloads of a codec say themselves what they are."""
    try:
        return codec_named(*spec_of(layout.codecs, str(name))).tells
    except ZubretError:
        return False


def _has_length(layout: Layout, name: str) -> bool:
    """Whether a codec's bytes say how many frames they hold."""
    codec, parameters = spec_of(layout.codecs, name)
    try:
        format = Format(codec, 1, 1, 1, None, 1024, parameters=parameters)
        made = codec_named(codec, parameters)
        return made.tells or made.stored_size(format) is not None
    except ZubretError:
        return True
