"""The first text of a layout for a file that nothing describes, from what is seen in it: tables of numbers that step through the file,
texts, counts, pointers, packed payloads. Each guess is told with its evidence; what stands first explains most."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import cache
from typing import Any

import yaml
from pydantic import TypeAdapter

from ..bank import DescribedBank
from ..base import ZubretError
from ..codec import Framed, Packets, codec_named
from ..codec.opus import RATE as OPUS_RATE
from ..container import DescribedArchive, Siblings
from ..layout import load_layout
from ..layout.document.chains import chain_of
from ..layout.document.words import FileWords
from ..layout.language.steps import Steps
from ..layout.trial import explained
from ..source import Source
from .named import NamedTable, named_tables
from .spot import IN
from .tables import HEAD, TableGuess, alignment, find_tables, frames_field, width_of
from .unknown import Candidate, rank_frames

MOST_DRAFTS = 6
MOST_BESIDE = 4
"""Files beside it that are looked into, for payloads or for a table."""
SURE = 0.9
"""Share of a file from which on what stands beside it is not looked at."""
Span = tuple[int, int]
"""Place and bytes of a payload."""
FEW = 4
"""A draft with this many times fewer entries than another one is not told."""
LARGEST = 1 << 26
"""Bytes of a payload that is unpacked for that, at most."""
_SIGNATURES = (
    (b"\x28\xb5\x2f\xfd", "zstd"), (b"\x04\x22\x4d\x18", "lz4"), (b"\x1f\x8b\x08", "gzip"), (b"BZh", "bzip2"),
    (b"\xfd7zXZ\0", "xz"), (b"\x5d\0\0", "lzma"),
)  # fmt: skip
"""RFC 8878, 3.1.1; the LZ4 frame format; RFC 1952, 2.3.1; the others by common practice."""
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
        own = _stem(name)
        fitting.sort(key=lambda other: (-self.sizes[other], other))
        near = [other for other in fitting if _stem(other) == own]
        return (near or (fitting if larger else []))[:MOST_BESIDE]


def drafts(name: str, source: Source, beside: Beside | None = None) -> list[Draft]:
    """Layouts for a file, the one that explains most first; none where nothing was seen."""
    found: list[Draft] = []
    data = source.read(0, min(HEAD, source.size))
    for text, table in _texts(name, data, source):
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


@dataclass
class _Text:
    """A text before it is known how payloads are packed: `%PACKED%` stands for that. sizes: the names of fields that may say how many
    bytes come out."""

    title: str
    lines: list[str]
    evidence: list[str]
    sizes: list[str]

    def made(self, packed: str = "", size: str = "", evidence: Sequence[str] = ()) -> tuple[str, list[str]]:
        """The text with a way of packing, and the field that says how many bytes come out; and all of its evidence."""
        told = [*self.evidence, *evidence]
        lines = [f"# {line}" for line in told]
        for line in self.lines:
            if size and re.match(rf" *- {{name: {size}, ", line):
                line = line.replace("}", ", means: entry.size}").replace(f"name: {size},", "name: size,")
            lines.append(line.replace("%PACKED%", packed))
        return "\n".join(lines) + "\n", told


def _texts(
    name: str, data: bytes, source: Source, held: Source | None = None
) -> Iterator[tuple[_Text, TableGuess | NamedTable]]:
    """Texts by the tables that are in a file, and these; their payloads are in itself, or in the one that is `held` apart."""
    for table in find_tables(source, held):
        yield _fixed(name, data, table, held), table
    for named in named_tables(source, held):
        yield _named(name, data, named, held), named


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
        text = _one_stream(name, data, reading, 0)
        evidence = [*reading.reasons, *([f"{reading.skip:,} bytes stand before them"] if reading.skip else [])]
        text = "".join(f"# {line}\n" for line in evidence) + text
        with suppress(ZubretError):
            bank = DescribedBank(load_layout(text), source)
            yield Draft(f"one stream of {reading.label}", text, tuple(evidence), explained(bank.document), 1)


def _tried(
    source: Source, payloads: Source, text: _Text, table: TableGuess | NamedTable, siblings: Siblings | None = None
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


def _ways(source: Source, text: _Text, spans: list[Span]) -> Iterator[_Way]:
    """Ways of packing that may be right."""
    heads = [source.read(at, min(12, length)) for at, length in spans[:64]]
    signed = _signed(heads)
    if signed:
        for size in text.sizes:
            yield _way(
                signed, size, f"payloads begin as those of {signed} do, and unpack to as many bytes as {size} says"
            )
        return
    for width, order in ((4, "little"), (4, "big"), (8, "little")):
        if inner := _signed([head[width:] for head in heads]):
            line = f"{{by: sized, width: u{8 * width}, byte_order: {order}, packed: [{inner}]}}"
            yield _way(line, None, f"payloads begin with how many bytes {inner} gives")
    for size in text.sizes:
        for step in _BARE:
            yield _way(step, size, f"payloads unpack by {step} to as many bytes as {size} says")
        for fill in ("20", "00"):
            yield _way(_LZSS % fill, size, f"payloads unpack by LZSS to as many bytes as {size} says")


def _signed(heads: list[bytes]) -> str:
    """The way of packing of which most payloads bear the signature."""
    for mark, step in _SIGNATURES:
        if sum(h.startswith(mark) for h in heads) * 2 > len(heads):
            return step
    zlib = [h for h in heads if len(h) > 1 and h[0] & 0x8F == 0x08 and (h[0] << 8 | h[1]) % 31 == 0]  # RFC 1950, 2.2
    return "zlib" if len(zlib) * 2 > len(heads) else ""


# Texts ------------------------------------------------------------------------------------------


def _called(held: Source | None) -> str:
    return held.name.rpartition(IN)[2].rpartition("/")[2] if held else "the file"


def _stem(name: str) -> str:
    return (name.rpartition(".")[0] or name).lower()


def _slug(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:50] or "format"


def _title(name: str) -> str:
    return json.dumps(name, ensure_ascii=False)


def _recognised(name: str, data: bytes, by_both: bool) -> list[str]:
    """How a file is recognised: by its first bytes, unless these are zeros or a small number, else by its name, or by both."""
    ending = "." + name.rpartition(".")[2].lower() if "." in name else ""
    mark = data[:4]
    letters = sum(32 < b < 127 for b in mark)
    marks = [f'recognise: [{{at: 0, bytes: "{mark.hex(" ")}"}}]'] if letters >= 3 or not ending else []
    names = [f"names: [{json.dumps(ending, ensure_ascii=False)}]"] if ending else []
    return marks + names if by_both else marks or names


def _fixed(name: str, data: bytes, table: TableGuess, held: Source | None) -> _Text:
    """An archive by a table of records that are all of one length; held: the file that has the payloads, where it is another one."""
    where = f"byte {table.at:,}"
    bits = "64" if table.fields["at"][1] == "u64" else "32"
    evidence = [
        f"numbers of {bits} bits, {table.stride} bytes apart from {where} on, step {table.count:,} times through "
        f"{_called(held)} without overlapping; their payloads take {table.covered:.0%} of "
        f"{'it' if held else 'the rest of it'}"
    ]
    if table.unit > 1:
        evidence.append(f"places count in steps of {table.unit:,} bytes")
    if table.base:
        evidence.append(f"places count from byte {table.base:,}, where the first payload begins")
    if table.counter:
        evidence.append(f"byte {table.counter[0]} holds how many there are")
    if table.pointer:
        evidence.append(f"byte {table.pointer[0]} holds where the table is")
    if "path" in table.fields:
        evidence.append("each record has a text of its own")
    if table.order == "big":
        evidence.append("numbers stand high byte first")
    lines = [*_top(name, data, table.order, held), *_around(table, "entries")]
    place = (f", unit: {table.unit}" if table.unit > 1 else "") + (f", base: {table.base}" if table.base else "")
    fields = {k: v for k, v in table.fields.items() if k not in ("rate", "frames")}
    more = {"at": place, "end": place}
    own, sizes = _record(fields, table.stride, more)
    lines += own
    if "path" not in fields and "id" not in fields:
        lines.append("      - {name: number, type: result, of: record.index, means: entry.id}")
    lines += _payload(held, data, table.spans)
    kept = f", kept in {_called(held)}," if held else ""
    return _Text(f"an archive of {table.count:,} entries{kept} by a table at {where}", lines, evidence, sizes)


def _around(table: TableGuess, items: str) -> list[str]:
    """The lines of a head, and the beginning of those of a table."""
    head = {"count": table.counter} if table.counter else {}
    if table.pointer and table.pointer != table.counter:
        head["table_at"] = table.pointer
    end = max((at + width_of(kind) for at, kind in head.values()), default=4)
    near = table.at <= 512
    lines = ["regions:", "  - name: head", "    at: 0", "    fields:", "      - {name: mark, type: bytes, length: 4}"]
    means = {"count": f"{items}.count", "table_at": "table.at"}
    behind = min((at for at, _ in table.spans if at >= end), default=end)  # what stands there is no head
    lines += _fields(head, 4, table.at if near else min(behind, -(-end // 16) * 16), means)
    lines += ["  - name: table"]
    if "table_at" not in head:
        lines += ["    after: head" if near else f"    at: {table.at}"]
    return [*lines, f"    repeat: {'head.count' if table.counter else table.count}", "    fields:"]


def _top(name: str, data: bytes, order: str, held: Source | None) -> list[str]:
    lines = [
        "zubret: 1", f"id: {_slug(name)}", f"title: {_title(name)}", "describes: archive", f"byte_order: {order}",
        *_recognised(name, data, held is not None),
    ]  # fmt: skip
    if held is None:
        return lines
    other, own = _called(held), name[: len(_stem(name))]
    other = "{stem}" + other[len(own) :] if _stem(other) == own.lower() and other.startswith(own) else other
    return [*lines, f"files: {{payloads: {{name: {json.dumps(other, ensure_ascii=False)}}}}}"]


def _record(fields: dict[str, tuple[int, str]], stride: int, more: dict[str, str]) -> tuple[list[str], list[str]]:
    """The lines of a record's fields, and the names of those that may say how many bytes come out of a payload: numbers of 32 bits
    that nothing is known of."""
    known = dict(fields)
    taken = [(at, width_of(kind)) for at, kind in known.values()]
    sizes: list[str] = []
    for at in range(min(a for a, _ in taken) % 4, stride - 3, 4):
        if not any(at < place + width and place < at + 4 for place, width in taken):
            name = f"number{len(sizes) + 1}"
            known[name] = at, "u32"
            sizes.append(name)
    return _fields(known, 0, stride, {k: f"entry.{k}" for k in fields}, more), sizes


def _payload(held: Source | None, data: bytes, spans: list[Span]) -> list[str]:
    align = alignment([at for at, _ in spans])
    data = held.read(0, min(HEAD, held.size)) if held else data
    gap = next((data[a + s : a + s + 1] for a, s in spans if (a + s) % align and a + s < len(data)), b"\0")
    fill = f'align: {align}, fill: "{gap.hex()}"'
    if held is not None:
        return [f"payload: {{file: payloads, %PACKED%{fill}}}"]
    return [f"payload: {{%PACKED%{fill}}}", f"end: {{{fill}}}"]


def _named(name: str, data: bytes, table: NamedTable, held: Source | None) -> _Text:
    """An archive by records each with a text of its own length; held as in `_fixed`."""
    evidence = [
        f"from byte {table.at:,} on, {table.count:,} texts follow one another, each with {len(table.numbers)} numbers of 32 bits; "
        f"two of these step through {_called(held)} without overlapping, and their payloads take "
        f"{table.covered:.0%} of {'it' if held else 'the rest of it'}"
    ]
    head = {}
    if table.counter:
        head["count"] = table.counter
        evidence.append(f"byte {table.counter[0]} holds how many there are")
    if table.order == "big":
        evidence.append("numbers stand high byte first")
    lines = _top(name, data, table.order, held)
    lines += ["regions:", "  - name: head", "    at: 0", "    fields:", "      - {name: mark, type: bytes, length: 4}"]
    lines += _fields(head, 4, table.at, {"count": "entries.count"})
    lines += [
        "  - name: table",
        "    after: head",
        f"    repeat: {'head.count' if table.counter else table.count}",
        "    fields:",
    ]
    text = f"      - {{name: path, type: text, {table.text}, means: entry.path}}"
    base = f", base: {table.base}" if table.base else ""
    numbers = []
    for n, means in enumerate(table.numbers):
        if means:
            place = base if means in ("at", "end") else ""
            numbers.append(f"      - {{name: {means}, type: u32, means: entry.{means}{place}}}")
        else:
            numbers.append(f"      - {{name: number{n + 1}, type: u32}}")
    lines += [text, *numbers] if table.text_first else [*numbers, text]
    lines += _payload(held, data, table.spans)
    sizes = [f"number{n + 1}" for n, means in enumerate(table.numbers) if not means]
    kept = f", kept in {_called(held)}," if held else ""
    return _Text(
        f"an archive of {table.count:,} named entries{kept} by a table at byte {table.at:,}", lines, evidence, sizes
    )


def draft(name: str, data: bytes, candidate: Candidate, rate: int, start: int, found: TableGuess | None) -> str:
    """The text of a layout for a file by what was found: `data` is its beginning, `start` where the heard payload begins.

    Without a table, all from there on is one stream, and its place stands in the layout.
    """
    codec = codec_named(candidate.codec, candidate.parameters)
    rate = OPUS_RATE if isinstance(codec, Packets) else rate
    if found is None and codec.tells:
        return _one_stream(name, data, candidate, start)
    mark = data[:4].hex(" ")
    parameters = ", ".join([f"codec: {candidate.codec}", *(f"{k}: {_yaml(v)}" for k, v in candidate.parameters)])
    given = {"stream.codec": "sound", "stream.channels": candidate.channels}
    if candidate.block_size:
        given["stream.block_size"] = candidate.block_size
    lines = [
        "zubret: 1", f"id: {_slug(name)}", f"title: {_title(name)}", "describes: bank",
        f"byte_order: {found.order if found else 'little'}", f'recognise: [{{at: 0, bytes: "{mark}"}}]',
        f"codecs: {{sound: {{{parameters}}}}}",
    ]  # fmt: skip
    if found is None:
        given["stream.rate"] = rate
        number = int.from_bytes(data[:4], "little")
        lines += [
            f"given: {{{', '.join(f'{k}: {v}' for k, v in given.items())}}}",
            "regions:",
            "  # No table was found: one stream from here to the end of the file. The mark stands for its place.",
            "  - name: head",
            "    at: 0",
            "    repeat: 1",
            f"    fields: [{{name: mark, type: u32, means: stream.at, values: {{{number}: {start + candidate.skip}}}}}]",
            "payload: {sizes: next}",
            "keeps: [rate, channels, codec, block_size]",
        ]
        return "\n".join(lines) + "\n"
    frames = frames_field(data, found, candidate)
    fields = dict(found.fields) | ({"frames": frames} if frames else {})
    if "rate" not in fields:
        given["stream.rate"] = rate
    lines += [f"given: {{{', '.join(f'{k}: {v}' for k, v in given.items())}}}", *_around(found, "streams")]
    place = (f", unit: {found.unit}" if found.unit > 1 else "") + (f", base: {found.base}" if found.base else "")
    if "path" in fields:
        fields["name"] = fields.pop("path")
    means = {k: f"stream.{k}" for k in fields}
    lines += _fields(fields, 0, found.stride, means, {"at": place, "end": place})
    align = alignment([at for at, _ in found.spans])
    gap = next((data[a + s : a + s + 1] for a, s in found.spans if (a + s) % align and a + s < len(data)), b"\0")
    fill = f'{{align: {align}, fill: "{gap.hex()}"}}'
    lines += [f"payload: {fill}", f"end: {fill}", "keeps: [rate, channels, codec, block_size]"]
    return "\n".join(lines) + "\n"


def _one_stream(name: str, data: bytes, candidate: Candidate, start: int) -> str:
    """The draft for a file that is one stream which says itself what it is."""
    ending = "." + name.rpartition(".")[2].lower() if "." in name else ""
    parameters = ", ".join([f"codec: {candidate.codec}", *(f"{k}: {_yaml(v)}" for k, v in candidate.parameters)])
    head = start + candidate.skip
    lines = ["zubret: 1", f"id: {_slug(name)}", f"title: {_title(name)}", "describes: stream"]
    if ending:
        lines.append(f"names: [{json.dumps(ending, ensure_ascii=False)}]")
    if head >= 4:
        lines.append(f'recognise: [{{at: 0, bytes: "{data[:4].hex(" ")}"}}]')
    lines += [
        "whole: true  # what its frames do not fill from there to the end is no such file",
        f"codecs: {{sound: {{{parameters}}}}}",
        "given: {stream.codec: sound}"
        if isinstance(codec_named(candidate.codec, candidate.parameters), Framed)
        else f"given: {{stream.codec: sound, stream.channels: {candidate.channels}}}",
    ]
    if head:
        lines += [
            "regions:",
            "  - name: head",
            "    at: 0",
            f"    fields: [{{name: head, type: bytes, length: {head}}}]",
        ]
    return "\n".join(lines) + "\n"


def _yaml(value: object) -> str:
    if isinstance(value, tuple):
        return "[" + ", ".join(_yaml(v) for v in value) + "]"
    return str(value).lower() if isinstance(value, bool) else str(value)


def _type(kind: str) -> str:
    return f"type: text, length: {kind[4:]}" if kind.startswith("text") else f"type: {kind}"


def _means(name: str, means: dict[str, str], more: dict[str, str]) -> str:
    return f", means: {means[name]}{more.get(name, '')}" if name in means else ""


def _fields(known: dict, start: int, end: int, means: dict[str, str], more: dict[str, str] | None = None) -> list[str]:
    """Lines for fields at known places, and bytes that nothing is known of between them."""
    out, at, number = [], start, 1
    for name, (place, kind) in sorted(known.items(), key=lambda item: item[1][0]):
        if place > at:
            out.append(f"      - {{name: unknown{number}, type: bytes, length: {place - at}}}")
            number += 1
        out.append(f"      - {{name: {name}, {_type(kind)}{_means(name, means, more or {})}}}")
        at = place + width_of(kind)
    if end > at:
        out.append(f"      - {{name: unknown{number}, type: bytes, length: {end - at}}}")
    return out
