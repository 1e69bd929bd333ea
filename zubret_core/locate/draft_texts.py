"""The texts of first drafts: what was seen in a file, as lines of a layout, each guess with its evidence above them."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from ..codec import Framed, Packets, codec_named
from ..codec.opus import RATE as OPUS_RATE
from ..source import Source
from .named import NamedTable
from .packed_tables import PackedTable
from .spot import IN
from .tables import HEAD, TableGuess, alignment, frames_field, width_of
from .unknown import Candidate

Span = tuple[int, int]
"""Place and bytes of a payload."""


@dataclass
class DraftText:
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


def _called(held: Source | None) -> str:
    return held.name.rpartition(IN)[2].rpartition("/")[2] if held else "the file"


def stem(name: str) -> str:
    """A file's name without its ending, in small letters."""
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


def of_fixed_records(
    name: str, data: bytes, table: TableGuess, held: Source | None, packed: PackedTable | None = None
) -> DraftText:
    """An archive by a table of records that are all of one length; held: the file that has the payloads, where it is another one; packed:
    the table comes out of this one, and the payloads stand in the same file as that."""
    if packed:
        table, held = replace(table, at=packed.at, counter=packed.told(table.count).get("count"), pointer=None), None
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
    if packed:
        evidence += _told(packed)
    if table.counter:
        evidence.append(f"byte {table.counter[0]} holds how many there are")
    if table.pointer:
        evidence.append(f"byte {table.pointer[0]} holds where the table is")
    if "path" in table.fields and not table.pool:
        evidence.append("each record has a text of its own")
    if table.pool:
        evidence.append(
            f"a number of each record says where its name stands among the texts from byte {table.pool.at:,} on"
        )
    if table.order == "big":
        evidence.append("numbers stand high byte first")
    around = _around(table, "entries") if packed is None else _around_packed(packed, table)
    lines = [*_top(name, data, table.order, held), *around]
    place = (f", unit: {table.unit}" if table.unit > 1 else "") + (f", base: {table.base}" if table.base else "")
    fields = {k: v for k, v in table.fields.items() if k not in ("rate", "frames")}
    more = {"at": place, "end": place, "path": _pooled(table)}
    own, sizes = _record(fields, table.stride, more)
    lines += own
    if "path" not in fields and "id" not in fields:
        lines.append("      - {name: number, type: result, of: record.index, means: entry.id}")
    lines += _payload(held, data, table.spans, packed is not None and packed.ends)
    kept = f", kept in {_called(held)}," if held else ""
    return DraftText(f"an archive of {table.count:,} entries{kept} by a table at {where}", lines, evidence, sizes)


def _around(table: TableGuess, items: str) -> list[str]:
    """The lines of a head, and the beginning of those of a table."""
    pool = table.pool
    told = {"count": table.counter, "table_at": table.pointer}
    told |= {"names_at": pool.pointer, "names_size": pool.sized} if pool else {}
    head: dict[str, tuple[int, str]] = {}
    for what, place in told.items():
        if place and all(abs(place[0] - at) >= 4 for at, _ in head.values()):
            head[what] = place
    end = max((at + width_of(kind) for at, kind in head.values()), default=4)
    near = table.at <= 512 and not (pool and pool.at < table.at)
    lines = ["regions:", "  - name: head", "    at: 0", "    fields:", "      - {name: mark, type: bytes, length: 4}"]
    means = {"count": f"{items}.count", "table_at": "table.at", "names_at": "names.at", "names_size": "names.stored"}
    others = [at for at, _ in table.spans] + ([pool.at] if pool else [])
    behind = min((at for at in others if at >= end), default=end)  # what stands there is no head
    lines += _fields(head, 4, table.at if near else min(behind, -(-end // 16) * 16), means)
    if pool:
        lines += ["  - name: names", *([f"    at: {pool.at}"] if "names_at" not in head else [])]
        lines += [f"    size: {'head.names_size' if 'names_size' in head else pool.size}", '    pool: {ends: "00"}']
    lines += ["  - name: table"]
    if "table_at" not in head:
        lines += ["    after: head" if near else f"    at: {table.at}"]
    return [*lines, f"    repeat: {'head.count' if table.counter else table.count}", "    fields:"]


def _told(packed: PackedTable) -> list[str]:
    """What speaks for a packed table."""
    place = packed.head[packed.at][0]
    return [
        f"byte {place} holds where something stands that is packed by {packed.step}: {packed.stored:,} bytes give {len(packed.data):,}"
    ]


def _around_packed(packed: PackedTable, table: TableGuess | NamedTable) -> list[str]:
    """The lines of a head that says where a packed table is, and the beginning of those of the table."""
    head: dict[str, tuple[int, str]] = {}
    for what, place in packed.told(table.count).items():
        if all(abs(place[0] - at) >= 4 for at, _ in head.values()):
            head[what] = place
    end = max(at + width_of(kind) for at, kind in head.values())
    means = {
        "count": "entries.count", "table_at": "table.at", "table_size": "table.stored", "table_unpacked": "table.size"
    }  # fmt: skip
    lines = ["regions:", "  - name: head", "    at: 0", "    fields:", "      - {name: mark, type: bytes, length: 4}"]
    behind = min((at for at in (packed.at, *(at for at, _ in table.spans)) if at >= end), default=end)
    lines += _fields(head, 4, min(behind, -(-end // 16) * 16), means)
    rest = "file.size - head.table_at" if packed.ends else str(packed.stored)
    return [
        *lines, "  - name: table", f"    size: {'head.table_size' if 'table_size' in head else rest}", f"    packed: [{packed.step}]",
        f"    repeat: {'head.count' if 'count' in head else table.count}", "    fields:",
    ]  # fmt: skip


def _pooled(table: TableGuess) -> str:
    """What a field says besides that points to a name in a pool."""
    if table.pool is None:
        return ""
    return ", pool: names" + ("" if table.pool.counted else ', base: "-names.at"')


def _top(name: str, data: bytes, order: str, held: Source | None) -> list[str]:
    lines = [
        "zubret: 1", f"id: {_slug(name)}", f"title: {_title(name)}", "describes: archive", f"byte_order: {order}",
        *_recognised(name, data, held is not None),
    ]  # fmt: skip
    if held is None:
        return lines
    other, own = _called(held), name[: len(stem(name))]
    other = "{stem}" + other[len(own) :] if stem(other) == own.lower() and other.startswith(own) else other
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


def _payload(held: Source | None, data: bytes, spans: list[Span], ended: bool = False) -> list[str]:
    """How payloads stand; ended: the file ends with something else, with nothing behind it."""
    align = alignment([at for at, _ in spans])
    data = held.read(0, min(HEAD, held.size)) if held else data
    gap = next((data[a + s : a + s + 1] for a, s in spans if (a + s) % align and a + s < len(data)), b"\0")
    fill = f'align: {align}, fill: "{gap.hex()}"'
    if held is not None:
        return [f"payload: {{file: payloads, %PACKED%{fill}}}"]
    return [f"payload: {{%PACKED%{fill}}}", *([] if ended else [f"end: {{{fill}}}"])]


def of_named_records(
    name: str, data: bytes, table: NamedTable, held: Source | None, packed: PackedTable | None = None
) -> DraftText:
    """An archive by records each with a text of its own length; held, packed: as in `of_fixed_records`."""
    if packed:
        table, held = replace(table, at=packed.at, counter=packed.told(table.count).get("count")), None
    evidence = [
        f"from byte {table.at:,} on, {table.count:,} texts follow one another, each with {len(table.numbers)} numbers of 32 bits; "
        f"two of these step through {_called(held)} without overlapping, and their payloads take "
        f"{table.covered:.0%} of {'it' if held else 'the rest of it'}"
    ]
    if packed:
        evidence += _told(packed)
    head = {}
    if table.counter:
        head["count"] = table.counter
        evidence.append(f"byte {table.counter[0]} holds how many there are")
    if table.order == "big":
        evidence.append("numbers stand high byte first")
    lines = _top(name, data, table.order, held)
    if packed:
        lines += _around_packed(packed, table)
    else:
        lines += [
            "regions:",
            "  - name: head",
            "    at: 0",
            "    fields:",
            "      - {name: mark, type: bytes, length: 4}",
        ]
        lines += _fields(head, 4, table.at, {"count": "entries.count"})
        repeat = "head.count" if table.counter else table.count
        lines += ["  - name: table", "    after: head", f"    repeat: {repeat}", "    fields:"]
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
    lines += _payload(held, data, table.spans, packed is not None and packed.ends)
    sizes = [f"number{n + 1}" for n, means in enumerate(table.numbers) if not means]
    kept = f", kept in {_called(held)}," if held else ""
    return DraftText(
        f"an archive of {table.count:,} named entries{kept} by a table at byte {table.at:,}", lines, evidence, sizes
    )


def draft(name: str, data: bytes, candidate: Candidate, rate: int, start: int, found: TableGuess | None) -> str:
    """The text of a layout for a file by what was found: `data` is its beginning, `start` where the heard payload begins.

    Without a table, all from there on is one stream, and its place stands in the layout.
    """
    codec = codec_named(candidate.codec, candidate.parameters)
    rate = OPUS_RATE if isinstance(codec, Packets) else rate
    if found is None and codec.tells:
        return of_one_stream(name, data, candidate, start)
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
    lines += _fields(fields, 0, found.stride, means, {"at": place, "end": place, "name": _pooled(found)})
    align = alignment([at for at, _ in found.spans])
    gap = next((data[a + s : a + s + 1] for a, s in found.spans if (a + s) % align and a + s < len(data)), b"\0")
    fill = f'{{align: {align}, fill: "{gap.hex()}"}}'
    lines += [f"payload: {fill}", f"end: {fill}", "keeps: [rate, channels, codec, block_size]"]
    return "\n".join(lines) + "\n"


def of_one_stream(name: str, data: bytes, candidate: Candidate, start: int) -> str:
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
