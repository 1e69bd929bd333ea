"""Finding a table of payloads in a file that nothing describes, and the draft of a layout from it."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..codec import codec_named
from ..source import Source
from .unknown import Candidate

HEAD = 64 << 10
"""Bytes from the beginning that are searched."""
STRIDES = range(8, 132, 2)
UNITS = (1, 16, 32, 512, 2048)
RATES = (8000, 11025, 12000, 16000, 22050, 24000, 32000, 37800, 44100, 48000)
MOST = 4096
TRIED = 60
"""Runs of places in order that are looked into at each stride and unit, the longest first."""
RELATIVE = 0.95
"""What a table counts whose places are measured from the first payload, against one that names them outright."""


@dataclass(frozen=True)
class TableGuess:
    """Records of `stride` bytes from `at` on, `count` of them, in which places and sizes stand.

    fields: place of the number within the record, by meaning: at and stored (u32), and where found id (u16 or u32),
    frames and rate. unit, base: place = number * unit + base, where base is 0 or the place of the first payload. spans: the payloads, (place, bytes).
    """

    at: int
    stride: int
    count: int
    order: str
    unit: int
    base: int
    fields: dict[str, tuple[int, str]]
    spans: list[tuple[int, int]]
    counter: tuple[int, str] | None = None
    rate: int = 0


@dataclass
class _Best:
    covered: float = 0.0
    found: TableGuess | None = None
    tried: int = field(default=0)


def find_table(source: Source) -> TableGuess | None:
    """The table that explains most of the file as payloads; None where no two records fit."""
    data = source.read(0, min(HEAD, source.size))
    best = _Best()
    for order in ("little", "big"):
        words = _words(data, order)
        for stride in STRIDES:
            for unit in UNITS:
                _try(source.size, words, order, stride, unit, best)
    return _with_more(data, best.found) if best.found else None


def _words(data: bytes, order: str) -> NDArray[np.int64]:
    """The 32-bit number at each even byte."""
    kind = np.dtype("<u4" if order == "little" else ">u4")
    even = np.frombuffer(data[: len(data) // 4 * 4], kind).astype(np.int64)
    rest = data[2:]
    odd = np.frombuffer(rest[: len(rest) // 4 * 4], kind).astype(np.int64)
    out = np.zeros(len(even) + len(odd), np.int64)
    out[0::2], out[1::2] = even, odd
    return out


def _try(size: int, words: NDArray[np.int64], order: str, stride: int, unit: int, best: _Best) -> None:
    step = stride // 2
    place = words * unit
    good = (place[step:] > place[:-step]) & (place[step:] < size)
    named = good & (place[:-step] >= 16)
    begins = named & ~np.concatenate([np.zeros(step, bool), named[:-step]])[: len(named)]
    counted = good & (place[:-step] == 0)  # from the first payload on
    if not (begins.any() or counted.any()):
        return
    runs = _runs(good, step)
    for first in [*_longest(begins, runs), *_longest(counted, runs)]:
        count = min(MOST, 1 + int(runs[first]))
        if count < 3 and not place[first]:
            continue  # two numbers of which the first is 0 say nothing
        rows = first + step * np.arange(count)
        at = place[rows]
        # A size within the record, beside the place: looked for in the first two records, then in all.
        others = np.arange(max(0, first - step + 1), min(first + step, len(words) - (count - 1) * step))
        stored = words[others[:, None] + step * np.arange(min(count, 2))]
        fits = (stored > 0).all(axis=1) & (at[0] + stored[:, 0] <= at[1])
        for other in others[fits & (others != first)].tolist():
            stored = words[other + step * np.arange(count)]
            ends = at + stored
            if (stored <= 0).any() or ends[-1] > size or (ends[:-1] > at[1:]).any():
                continue
            begin, end = 2 * min(first, other), 2 * (max(first, other) + (count - 1) * step) + 4
            base = 0 if at[0] else _base(end, int(ends[-1]), size, _alignment(at[1:].tolist()))
            gaps = at[1:] - ends[:-1]
            covered = float(stored.sum()) / max(1, size - end) * (RELATIVE if base else 1)
            if covered < 0.5 or (gaps > 4096).any() or at[0] + base < end:
                continue
            if covered * count**0.1 > best.covered:
                best.covered = covered * count**0.1
                fields = {"at": (first * 2 - begin, "u32"), "stored": (other * 2 - begin, "u32")}
                spans = list(zip((at + base).tolist(), stored.tolist(), strict=True))
                best.found = TableGuess(begin, stride, count, order, unit, base, fields, spans)


def _runs(good: NDArray[np.bool_], step: int) -> NDArray[np.int64]:
    """How many are good in a row, from each one on in steps."""
    rows = -(-len(good) // step)
    grid = np.zeros((rows, step), bool)
    grid.reshape(-1)[: len(good)] = good
    numbers = np.arange(rows)[:, None]
    ends = np.minimum.accumulate(np.where(grid, rows, numbers)[::-1])[::-1]
    return (ends - numbers).reshape(-1)[: len(good)]


def _longest(begins: NDArray[np.bool_], runs: NDArray[np.int64]) -> list[int]:
    """The beginnings of the longest runs, as many as are tried."""
    found = np.flatnonzero(begins)
    return found[np.argsort(-runs[found], kind="stable")[:TRIED]].tolist()


def _base(table_end: int, sounds: int, size: int, align: int) -> int:
    """Where payloads begin whose places are counted from the first of them; 0 where that can't be told.

    sounds: bytes from the first payload to the end of the last. They end with the file, but for what fills it up to the
    grid of `align` bytes; or they begin at the next round place behind the table.
    """
    last = size - sounds
    if table_end <= last <= table_end + 4096:
        return last - last % align if last != table_end and last - last % align >= table_end else last
    rounded = (-(-table_end // grid) * grid for grid in (16, 32, 64, 256, 512, 2048, 4096))
    return next((at for at in rounded if 0 <= last - at < 4096), 0)


def _with_more(data: bytes, found: TableGuess) -> TableGuess:
    """The same with the record's beginning, its id, rate, and the field that counts the records."""
    order = "<" if found.order == "little" else ">"
    counter = None
    for width in (4, 2):
        for at in range(4, min(found.at, 256) - width + 1, 2):
            if int.from_bytes(data[at : at + width], found.order) == found.count:  # type: ignore[arg-type]
                counter = counter or (at, f"u{8 * width}")
    # A record may begin before its first known field: as far back as the bytes before allow, the id found there.
    begin, fields = found.at, dict(found.fields)
    floor = (counter[0] + int(counter[1][1:]) // 8) if counter else 4
    used = max(at for at, _ in fields.values()) + 4

    def column(at: int, width: int) -> NDArray[np.int64] | None:
        last = at + (found.count - 1) * found.stride + width
        if at < floor or last > len(data):
            return None
        kind = np.dtype(f"{order}u{width}")
        places = [at + n * found.stride for n in range(found.count)]
        return np.array([np.frombuffer(data, kind, 1, p)[0] for p in places], np.int64)

    for back in range(2, found.stride - used + 1, 2):
        for width in (4, 2):
            ids = column(begin - back, width)
            # Two numbers of two bytes would make one of four whose upper half never changes.
            paired = width == 4 and ids is not None and ids[0] >> 16 and len(np.unique(ids >> 16)) == 1
            distinct = ids is not None and len(np.unique(ids)) == len(ids) and ids.any()
            if "id" not in fields and back >= width and distinct and not paired:
                fields["id"] = (-back, f"u{8 * width}")
    rate = 0
    for offset in range(min(at for at, _ in fields.values()), found.stride, 2):
        for width in (4, 2):
            values = column(begin + offset, width)
            if values is not None and not rate and np.isin(values, RATES).all():
                rate = int(values[0])
                fields["rate"] = (offset, f"u{8 * width}")
    shift = min(at for at, _ in fields.values())
    fields = {name: (at - shift, kind) for name, (at, kind) in fields.items()}
    return TableGuess(
        begin + shift,
        found.stride,
        found.count,
        found.order,
        found.unit,
        found.base,
        fields,
        found.spans,
        counter,
        rate,
    )


def frames_field(data: bytes, found: TableGuess, candidate: Candidate) -> tuple[int, str] | None:
    """The field that holds each payload's length in frames, by how many frames its bytes hold in this codec."""
    most = [candidate.format(44_100, stored).frames for _, stored in found.spans]
    least = [candidate.format(44_100, max(1, stored - 1) * 15 // 16).frames for _, stored in found.spans]
    taken = [(at, int(kind[1:]) // 8) for at, kind in found.fields.values()]
    for offset in range(0, found.stride - 3, 2):
        if any(offset < at + width and at < offset + 4 for at, width in taken):
            continue
        places = [found.at + n * found.stride + offset for n in range(found.count)]
        if places[-1] + 4 > len(data):
            continue
        values = [int.from_bytes(data[p : p + 4], found.order) for p in places]  # type: ignore[arg-type]
        if all(low < v <= high for low, v, high in zip(least, values, most, strict=True)):
            return offset, "u32"
    return None


def draft(name: str, data: bytes, candidate: Candidate, rate: int, start: int, found: TableGuess | None) -> str:
    """The text of a layout for a file by what was found: `data` is its beginning, `start` where the heard payload begins.

    Without a table, all from there on is one stream, and its place stands in the layout.
    """
    if found is None and codec_named(candidate.codec, candidate.parameters).tells:
        return _one_stream(name, data, candidate, start)
    slug = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:50] or "format"
    mark = data[:4].hex(" ")
    parameters = ", ".join([f"codec: {candidate.codec}", *(f"{k}: {_yaml(v)}" for k, v in candidate.parameters)])
    given = {"stream.codec": "sound", "stream.channels": candidate.channels}
    if candidate.block_size:
        given["stream.block_size"] = candidate.block_size
    lines = [
        "zubret: 1", f"id: {slug}", f"title: {json.dumps(name, ensure_ascii=False)}", "describes: bank",
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
    lines += [
        f"given: {{{', '.join(f'{k}: {v}' for k, v in given.items())}}}",
        "regions:",
        "  - name: head",
        "    at: 0",
    ]
    lines += ["    fields:", "      - {name: mark, type: bytes, length: 4}"]
    lines += _fields({"count": found.counter} if found.counter else {}, 4, found.at, {"count": "streams.count"})
    lines += ["  - name: table", "    after: head", f"    repeat: {'head.count' if found.counter else found.count}"]
    lines += ["    fields:"]
    place = (f", unit: {found.unit}" if found.unit > 1 else "") + (f", base: {found.base}" if found.base else "")
    lines += _fields(fields, 0, found.stride, {k: f"stream.{k}" for k in fields}, {"at": place})
    align = _alignment([at for at, _ in found.spans])
    gap = next((data[a + s : a + s + 1] for a, s in found.spans if (a + s) % align and a + s < len(data)), b"\0")
    fill = f'{{align: {align}, fill: "{gap.hex()}"}}'
    lines += [f"payload: {fill}", f"end: {fill}", "keeps: [rate, channels, codec, block_size]"]
    return "\n".join(lines) + "\n"


def _one_stream(name: str, data: bytes, candidate: Candidate, start: int) -> str:
    """The draft for a file that is one stream which says itself what it is."""
    slug = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:50] or "format"
    ending = "." + name.rpartition(".")[2].lower() if "." in name else ""
    parameters = ", ".join([f"codec: {candidate.codec}", *(f"{k}: {_yaml(v)}" for k, v in candidate.parameters)])
    head = start + candidate.skip
    lines = ["zubret: 1", f"id: {slug}", f"title: {json.dumps(name, ensure_ascii=False)}", "describes: stream"]
    if ending:
        lines.append(f"names: [{json.dumps(ending, ensure_ascii=False)}]")
    if head >= 4:
        lines.append(f'recognise: [{{at: 0, bytes: "{data[:4].hex(" ")}"}}]')
    lines += [
        "whole: true  # what its frames do not fill from there to the end is no such file",
        f"codecs: {{sound: {{{parameters}}}}}",
        "given: {stream.codec: sound}",
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


def _fields(known: dict, start: int, end: int, means: dict[str, str], more: dict[str, str] | None = None) -> list[str]:
    """Lines for fields at known places, and bytes that nothing is known of between them."""
    out, at, number = [], start, 1
    for name, (place, kind) in sorted(known.items(), key=lambda item: item[1][0]):
        if place > at:
            out.append(f"      - {{name: unknown{number}, type: bytes, length: {place - at}}}")
            number += 1
        out.append(f"      - {{name: {name}, type: {kind}, means: {means[name]}{(more or {}).get(name, '')}}}")
        at = place + int(kind[1:]) // 8
    if end > at:
        out.append(f"      - {{name: unknown{number}, type: bytes, length: {end - at}}}")
    return out


def _alignment(places: list[int]) -> int:
    """The largest power of two, up to 4,096, of which all places are multiples."""
    align = 4096
    while align > 1 and any(place % align for place in places):
        align //= 2
    return align
