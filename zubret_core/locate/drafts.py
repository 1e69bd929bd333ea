"""The first text of a layout for a file that nothing describes, from what is seen in it: tables of numbers that step through the file,
texts, counts, pointers, packed payloads. Each guess is told with its evidence; what stands first explains most."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass
from functools import cache
from typing import Any

import yaml
from pydantic import TypeAdapter

from ..bank import DescribedBank
from ..base import ZubretError
from ..container import DescribedArchive, Siblings
from ..layout import load_layout
from ..layout.document.chains import chain_of
from ..layout.document.words import FileWords
from ..layout.language.steps import Steps
from ..layout.trial import explained
from ..source import BytesSource, Source
from .draft_texts import DraftText, Span, of_fixed_records, of_named_records, of_one_stream, stem
from .named import NamedTable, named_tables
from .packed_tables import PackedTable, packed_tables, signed
from .tables import HEAD, MANY, TableGuess, find_tables
from .unknown import rank_frames

MOST_DRAFTS = 6
MOST_BESIDE = 4
"""Files beside it that are looked into, for payloads or for a table."""
SURE = 0.9
"""Share of a file from which on what stands beside it is not looked at."""
MARK = b"\xff" * 4
"""Stands in front of an unpacked table while it is looked into, as a mark does in files."""
FEW = 4
"""A draft with this many times fewer entries than another one is not told."""
LARGEST = 1 << 26
"""Bytes of a payload that is unpacked for that, at most."""
_BARE = ("deflate", "lz4-block", "lzo", "snappy", "brotli", "lzma")
"""Ways of packing without a signature, tried where a number says how many bytes come out."""
_LZSS = "{by: lzss, window: 4096, code: [{offset: 8}, {length: 4}, {offset: 4}], start: 4078, initial: '%s'}"
"""Common practice since the first published programs: a window of 4,096 bytes, filled with spaces or zeros."""


@dataclass(frozen=True)
class Draft:
    """A text of a layout. title: what it takes the file for; evidence: what speaks for it; share: of the file's bytes that it explains,
    with those of the file that has the payloads, 0 to 1; items: entries; places: where their payloads begin; beside: the file in which
    the table stands, where it is another one, for which a layout would be: this one has no text then."""

    title: str
    text: str
    evidence: tuple[str, ...]
    share: float
    items: int
    places: frozenset[int] = frozenset()
    beside: str = ""


@dataclass(frozen=True)
class Beside:
    """What stands beside a file. sizes: bytes by name, its own among them or not; open: opens one by its name."""

    sizes: Mapping[str, int]
    open: Siblings

    def near(self, name: str, larger: bool, size: int) -> list[str]:
        """Those that may belong to a file, the largest first: with the same stem, or where there are none, any larger ones."""
        fitting = [other for other, n in self.sizes.items() if other != name and n and (n > size) == larger]
        own = stem(name)
        fitting.sort(key=lambda other: (-self.sizes[other], other))
        near = [other for other in fitting if stem(other) == own]
        return (near or (fitting if larger else []))[:MOST_BESIDE]


def drafts(name: str, source: Source, beside: Beside | None = None) -> list[Draft]:
    """Layouts for a file, the one that explains most first; none where nothing was seen."""
    found: list[Draft] = []
    data = source.read(0, min(HEAD, source.size))
    for text, table in _texts(name, data, source):
        found += _tried(source, source, text, table)
    if not any(draft.share > SURE for draft in found):
        for packed in packed_tables(source):
            for text, table in _texts(name, data, BytesSource(MARK + packed.data), source, packed):
                found += _tried(source, source, text, table)
    if beside is not None and not any(draft.share > SURE for draft in found):
        found += _apart(name, data, source, beside)
    found += _streams(name, data, source)
    found.sort(key=lambda d: (-round(d.share, 2), -d.items, -len(d.evidence)))
    most = max((d.items for d in found), default=0)
    different: dict[str, Draft] = {}
    for draft in found:
        if draft.items * FEW >= most:  # two numbers in a large table that happen to fit say little
            different.setdefault(re.sub(r"#.*", "", draft.text), draft)
    return list(different.values())[:MOST_DRAFTS]


def _texts(
    name: str, data: bytes, source: Source, held: Source | None = None, packed: PackedTable | None = None
) -> Iterator[tuple[DraftText, TableGuess | NamedTable]]:
    """Texts by the tables that are in a file, and these; their payloads are in itself, or in the one that is `held` apart. packed: the
    file is what comes out of a packed table of the other one, behind MARK."""
    sure = False
    for table in find_tables(source, held):
        if packed and table.pool:
            continue  # names that are packed with it
        yield of_fixed_records(name, data, table, held, packed), table
        sure |= "path" in table.fields and table.count >= MANY and table.covered > SURE
    if sure:
        return  # records that all have a name and the same length are no others by chance
    for named in named_tables(source, held):
        yield of_named_records(name, data, named, held, packed), named


def _apart(name: str, data: bytes, source: Source, beside: Beside) -> Iterator[Draft]:
    """Drafts for a table that points into another file, and what tells that another one's table points into this."""
    for other in beside.near(name, True, source.size):
        with suppress(ZubretError), beside.open(other) as held:
            for text, found in _texts(name, data, source, held):
                yield from _tried(source, held, text, found, beside.open)
    for other in beside.near(name, False, source.size):
        with suppress(ZubretError), beside.open(other) as table:
            texts = list(_texts(other, table.read(0, min(HEAD, table.size)), table, source))
            if texts:
                text, best = max(texts, key=lambda found: found[1].count * found[1].covered)
                title = f"{best.count:,} payloads, whose places stand in {other}"
                yield Draft(title, "", tuple(text.evidence), best.covered, best.count, beside=other)


def _streams(name: str, data: bytes, source: Source) -> Iterator[Draft]:
    """A file that is one stream whose frames say themselves what they are."""
    for reading in rank_frames(source):
        text = of_one_stream(name, data, reading, 0)
        evidence = [*reading.reasons, *([f"{reading.skip:,} bytes stand before them"] if reading.skip else [])]
        text = "".join(f"# {line}\n" for line in evidence) + text
        with suppress(ZubretError):
            bank = DescribedBank(load_layout(text), source)
            yield Draft(f"one stream of {reading.label}", text, tuple(evidence), explained(bank.document), 1)


def _tried(
    source: Source, payloads: Source, text: DraftText, table: TableGuess | NamedTable, siblings: Siblings | None = None
) -> list[Draft]:
    """A draft of this text, with payloads packed in the way in which they can be unpacked."""
    made, told = text.made()
    try:
        archive = _opened(source, made, siblings)
    except ZubretError:
        return []
    for way in _ways(payloads, text, table.spans):
        if not _unpacks(archive, way):
            continue
        packed = f"packed: [{way.line}], {'' if way.size is None else 'plain: equal, '}"
        packed_text, why = text.made(packed, way.size or "", [way.evidence])
        with suppress(ZubretError):
            archive, made, told = _opened(source, packed_text, siblings), packed_text, why
            break
    places = frozenset(archive.document.array("at").tolist())
    share = explained(archive.document)
    if payloads is not source:  # of both files together
        share = (share * source.size + table.covered * payloads.size) / (source.size + payloads.size)
    return [Draft(text.title, made, tuple(told), share, len(archive.entries), places)]


def _opened(source: Source, text: str, siblings: Siblings | None) -> DescribedArchive:
    return DescribedArchive(load_layout(text), source, siblings)


@dataclass(frozen=True)
class _Way:
    """A step by which payloads may be packed, as a line of YAML and as it is; size: the field that would say how many bytes come out, None
    where the payload says it."""

    line: str
    step: Any
    size: str | None
    evidence: str


def _unpacks(archive: DescribedArchive, way: _Way) -> bool:
    """Whether some payloads unpack to as many bytes as their records say, of which one at least gets longer by it."""
    document = archive.document
    stored = [e.stored for e in archive.entries]
    if way.size is None:
        sizes = [0] * len(stored)
        for n, length in enumerate(stored):
            width = int(way.step.width[1:]) // 8
            sizes[n] = int.from_bytes(document.payload(n).read(0, min(width, length)), way.step.byte_order)
    else:
        table = document.groups[0].instances[0]
        sizes = table.records.numbers(table.shape.slots[way.size])[table.rows].tolist()
        if any(size < length for size, length in zip(sizes, stored, strict=True)):
            return False
    packed = sorted((size, n) for n, size in enumerate(sizes) if size != stored[n] and 0 < size < LARGEST)
    if not packed or packed[-1][0] <= stored[packed[-1][1]]:
        return False
    chain = chain_of([way.step], archive.layout, {}, document.file.name, FileWords(document))
    try:
        for size, n in (packed[0], packed[len(packed) // 2], packed[-1]):
            content = chain.unpacked(document.payload(n), size)
            content.read(0, content.size)
    except ZubretError:
        return False
    return True


def _way(line: str, size: str | None, evidence: str) -> _Way:
    return _Way(line, _step(line), size, evidence)


@cache
def _step(line: str) -> Any:
    return _STEPS.validate_python([yaml.safe_load(line)])[0]


_STEPS: TypeAdapter[Any] = TypeAdapter(Steps)


def _ways(source: Source, text: DraftText, spans: list[Span]) -> Iterator[_Way]:
    """Ways of packing that may be right."""
    heads = [source.read(at, min(12, length)) for at, length in spans[:64]]
    known = signed(heads)
    if known:
        for size in text.sizes:
            yield _way(
                known, size, f"payloads begin as those of {known} do, and unpack to as many bytes as {size} says"
            )
        return
    for width, order in ((4, "little"), (4, "big"), (8, "little")):
        if inner := signed([head[width:] for head in heads]):
            line = f"{{by: sized, width: u{8 * width}, byte_order: {order}, packed: [{inner}]}}"
            yield _way(line, None, f"payloads begin with how many bytes {inner} gives")
    for size in text.sizes:
        for step in _BARE:
            yield _way(step, size, f"payloads unpack by {step} to as many bytes as {size} says")
        for fill in ("20", "00"):
            yield _way(_LZSS % fill, size, f"payloads unpack by LZSS to as many bytes as {size} says")
