"""Checking a layout on a file: everything is read and decoded, written back unchanged, and changed there and back."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..base import Loop, Progress, ZubretError, silent
from ..codec import codec_of
from ..container import DescribedArchive
from ..layout import Document, Layout, read_layout
from ..layout.checks.extents import segments_of
from ..layout.checks.sums import check_item, verify
from ..layout.checks.told import is_given
from ..layout.document import Siblings
from ..layout.document.chains import Keys
from ..layout.trial import compare_rebuilt, explained
from ..layout.types.numbers import stretched
from ..layout.writing.records import DoesNotFit
from ..source import Built, BytesSource, Source, same_bytes
from .base import NewStream, Stream
from .described import DescribedBank

TRIED = 6
"""Items that are changed there and back at most."""
PIECE = 1 << 16
"""Frames that are decoded at once."""
ALL_COMPARED = 1 << 26
"""Bytes up to which every other payload is compared after a change; of larger files the neighbours are."""
Described = DescribedArchive | DescribedBank


@dataclass(frozen=True)
class CheckResult:
    """Whether a layout reads a file and gives it back; items: entries or streams; decoded: frames that were decoded;
    tried: changes that were made there and back; explained: the share (0 to 1) of the bytes that the layout explains;
    problem: the error."""

    ok: bool
    items: int
    decoded: int
    tried: int
    explained: float
    moved: bool
    problem: dict[str, Any] | None = None


def check(
    layout: Layout,
    source: Source,
    siblings: Siblings | None = None,
    keys: Keys | None = None,
    progress: Progress = silent,
) -> CheckResult:
    """Read a file by a layout, take every sum, unpack every entry or decode every stream to its end, rebuild it with
    nothing changed, and change some items by longer, shorter and equal payloads and back again; ZubretError at the
    first thing that does not hold."""
    tried = decoded = 0
    if not layout.has_payloads:
        document = read_layout(layout, source, siblings, keys)
    else:
        opened = open_described(layout, source, siblings, keys)
        document = opened.document
        verify(document)
        decoded = _read_all(opened, progress)
    compare_rebuilt(document, progress)
    if layout.has_payloads:
        tried = _there_and_back(opened, siblings, keys, progress)
    unexplained = any(s.kind == "unexplained" for name in document.files() for s in segments_of(document, name))
    return CheckResult(True, document.count, decoded, tried, explained(document), unexplained)


def open_described(layout: Layout, source: Source, siblings: Siblings | None, keys: Keys | None) -> Described:
    """A file as the archive or the bank that a layout describes."""
    kind = DescribedBank if layout.kind == "stream" else DescribedArchive
    return kind(layout, source, siblings, keys)


def _read_all(opened: Described, progress: Progress) -> int:
    """Every item unpacked and its sums taken, every stream decoded; frames decoded."""
    document, frames = opened.document, 0
    for n in range(document.count):
        progress(n, document.count, f"reading {document.file.name}")
        content = _content(opened, n)
        for _ in content.chunks():
            pass
        check_item(document, n, partial(_itself, content))
        if isinstance(opened, DescribedBank):
            stream = opened.streams[n]
            for at in range(0, stream.format.frames, PIECE):
                stream.decode(at, min(PIECE, stream.format.frames - at))
            frames += stream.format.frames
    return frames


def _itself(source: Source) -> Source:
    return source


def _content(opened: Described, n: int) -> Source:
    return opened.open(n) if isinstance(opened, DescribedArchive) else opened.streams[n].payload


# There and back ---------------------------------------------------------------------------------------


def _there_and_back(opened: Described, siblings: Siblings | None, keys: Keys | None, progress: Progress) -> int:
    tried = 0
    chosen = _chosen(opened.document)
    for step, n in enumerate(chosen):
        for new in _variants(opened, n):
            progress(step, len(chosen), f"changing item {n} there and back")
            try:
                _try(opened, n, new, siblings, keys)
                tried += 1
            except DoesNotFit:
                continue  # the format's own limit, and no fault of the layout
    return tried


def _chosen(document: Document) -> list[int]:
    """The first, the last, the smallest, the largest, and some between."""
    sizes = document.array("stored")
    there = np.flatnonzero(sizes > 0)
    if not len(there):
        return []
    order = there[np.argsort(sizes[there], kind="stable")]
    picks = [there[0], there[-1], order[0], order[-1], *there[:: max(1, len(there) // 2)]]
    return list(dict.fromkeys(int(n) for n in picks))[:TRIED]


def _variants(opened: Described, n: int) -> Iterator[Source | NewStream]:
    """Contents for an item: another one of equal length, a shorter and a longer one, as far as the format allows it."""
    if isinstance(opened, DescribedArchive):
        content = _content(opened, n)
        data = content.read(0, min(content.size, 1 << 20))
        rest = content.read(len(data), content.size - len(data))
        yield BytesSource(bytes(reversed(data)) + rest, content.name)
        heads = opened.document.column("head")
        kept = len(heads[n] or b"") + 1 if heads else 1  # what stands in the record alone has no place of its own
        yield BytesSource(data[: max(kept, len(data) // 2)], content.name)
        yield BytesSource(data + rest + data[:40] + bytes(range(7)), content.name)
        return
    stream = opened.streams[n]
    codec, frames = codec_of(stream.format), stream.format.frames
    if not frames or codec.obstacle(stream.format):
        return
    pcm = stream.decode(0, min(frames, 1 << 20))
    step = max(1, codec.block_frames(stream.format))
    lengths = [len(pcm)]
    if "length" not in opened.layout.keeps:
        lengths += [max(1, len(pcm) // 2 // step * step), (len(pcm) // step + 3) * step]
    for length in lengths:
        yield _encoded(stream, np.resize(pcm, (length, pcm.shape[1])), step)


def _encoded(stream: Stream, pcm: NDArray, step: int) -> NewStream:
    loop = stream.format.loop
    if loop is not None:
        start = loop.start if loop.start < len(pcm) else 0
        loop = Loop(start // step * step, max(start // step * step + 1, min(loop.end, len(pcm))))
    format = stream.told(stream.format.with_(frames=len(pcm), loop=loop))
    codec, pcm = codec_of(format), np.resize(pcm, (format.frames, pcm.shape[1]))
    format = codec.fitted(pcm, format)
    payload = BytesSource(codec.encode(pcm, format), stream.payload.name)
    return NewStream(payload, codec.told(payload, format))


def _try(opened: Described, n: int, new: Source | NewStream, siblings: Siblings | None, keys: Keys | None) -> None:
    document = opened.document
    stored = [document.array("stored")[n], document.payload(n).size]
    size = (new.payload if isinstance(new, NewStream) else new).size
    what = f"item {n} by {size:,} bytes instead of {stored[1]:,}"
    try:
        there = _rebuilt(opened, n, new, ())
        again = _opened(opened, there, siblings, keys)
        _compare(opened, again, n, new)
        old = _content(opened, n)
        back_item = NewStream(old, opened.streams[n].format) if isinstance(opened, DescribedBank) else old
        back = _rebuilt(again, n, back_item, there.moved_files())
    except DoesNotFit:
        raise
    except ZubretError as e:
        raise ZubretError(f"Changing {what}: {e.what}", file=e.file, offset=e.offset, field=e.field, next=e.next) from e
    chains = [document.chain(n), document.whole_chain, *(i.chain for i in document.instances)]
    forgotten = document.in_pieces and size < stored[1]  # how long the pieces were
    if all(chain.keeps_places for chain in chains) and not _stretched(document) and not forgotten:
        pairs = [("", document.file, back.source)]
        pairs += [(name, document.file_named(name), b.source) for name, b in back.others.items()]
        for name, before, after in pairs:
            if name not in there.others and name:
                continue
            if not same_bytes(before, after):
                raise _not_back(what, name or before.name, _first_difference(before, after))


def _stretched(document: Document) -> bool:
    """Whether a varint has more bytes than its number needs: once it is written with all of them, nobody knows that."""
    for instance in document.instances:
        for slot in instance.shape.fields:
            if slot.field.type == "varint" and any(
                stretched(c) > 1 for c in instance.records.cells(slot).contents() if c
            ):
                return True
    return False


def _not_back(what: str, file: str, at: int) -> ZubretError:
    return ZubretError(
        f"Changing {what} and back gives another file.",
        file=file,
        offset=at,
        next="Look at what stands there: a field that should be tied, an alignment, a fill, guard space.",
    )


def _first_difference(one: Source, other: Source) -> int:
    at = 0
    for a, b in zip(one.chunks(), other.chunks(), strict=False):
        if a != b:
            return at + next((n for n, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
        at += len(a)
    return at


def _rebuilt(opened: Described, n: int, new: Source | NewStream, anew: Collection[str]) -> Built:
    items: Mapping[int, Any] = dict.fromkeys((n, *_sharing(opened, n)), new)
    rebuild: Callable[..., Built] = opened.rebuild
    return rebuild(items, anew=anew)


def _sharing(opened: Described, n: int) -> list[int]:
    return list(opened.streams[n].shares) if isinstance(opened, DescribedBank) else opened.sharing(n)


def _opened(opened: Described, built: Built, siblings: Siblings | None, keys: Keys | None) -> Described:
    """A rebuilt file, read from nothing; its companions are the rebuilt ones where they changed."""
    built.source.name = opened.source.name

    def beside(name: str) -> Source:
        if name in built.others:
            return built.others[name].source
        if siblings is None:
            raise ZubretError(f"{name} is not beside it.", file=opened.source.name, next="Copy it there.")
        return siblings(name)

    return open_described(opened.layout, built.source, beside, keys)


def _compare(old: Described, new: Described, changed: int, wanted: Source | NewStream) -> None:
    """The changed item is what was given, and every other one is as it was."""
    a, b = old.document, new.document

    def fail(what: str, next: str) -> ZubretError:
        return ZubretError(what, file=new.source.name, next=next)

    if a.count != b.count:
        raise fail(f"{b.count:,} items are read back instead of {a.count:,}.", "Tie the field that counts them.")
    payload = wanted.payload if isinstance(wanted, NewStream) else wanted
    if not is_given(payload, _content(new, changed), partial(new.is_filled, changed)):
        raise fail("its bytes are not read back as they were given.", "Tie the fields that say its place and its size.")
    alike = {changed, *_sharing(old, changed)}
    for what in ("path", "id", "name", "method", "codec", "rate", "channels", "block_size", "frames", "loop_start",
                 "loop_end", "looped", "size"):  # fmt: skip
        before, after = a.column(what), b.column(what)
        for n, (x, y) in enumerate(zip(before or (), after or (), strict=True)):
            if x != y and n not in alike:
                raise fail(
                    f"{a.kind}.{what} of item {n}, which nobody touched, was {x} and is {y} now.",
                    f"Tie {a.kind}.{what} so that it does not depend on where payloads stand: by a base.",
                )
    small = int(a.array("stored").sum()) <= ALL_COMPARED
    near = range(a.count) if small else range(max(0, changed - 3), min(a.count, changed + 4))
    for n in near:
        if n not in alike and not same_bytes(a.payload(n), b.payload(n)):
            raise fail(f"the bytes of item {n}, which nobody touched, are others now.", "Tie the field of its place.")
    if isinstance(wanted, NewStream) and isinstance(new, DescribedBank):
        found = new.streams[changed].format
        if (found.frames, found.loop) != (wanted.format.frames, wanted.format.loop):
            raise fail(
                f"it is read back with {found.frames:,} frames and the loop {found.loop}.",
                "Tie stream.frames and the loop's fields.",
            )
