"""Transform steps: what stands between the bytes in a file and the bytes that they mean.

A step works on a whole file, a region or a payload, in both directions. Steps that keep every byte's place
(ciphers, XOR, byte order) are views that can be read anywhere; chunked steps unpack only the chunks that are asked
for; the others unpack from the start and go through the disk cache when they are large. Steps stand in chains: the
first one is applied first when reading, and last when writing.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal

import xxhash

from ..base import ZubretError, tell
from .base import BytesSource, SliceSource, Source
from .cache import DiskCache
from .chain import ChainSource, Part
from .coders.base import Coder
from .packing import LONGEST_HEAD, bounded, packed, told, unpacked, unpacked_small
from .step import Step
from .unpack import IN_MEMORY, spooled


@dataclass(frozen=True)
class Packed(Step):
    """A compression method of `packing.METHODS`."""

    method: str
    level: int | None = None
    dictionary: bytes = field(default=b"", repr=False)

    def unpacked(self, stored: Source, size: int, exact: bool) -> Iterator[bytes]:
        return unpacked(self.method, stored, size, exact, self.dictionary)

    def pieces(self, plain: Source, like: Source | None = None) -> Iterator[bytes]:
        """The stored pieces of `plain`."""
        return packed(self.method, plain, self.level, like, self.dictionary)

    def packed(self, plain: Source, like: Source | None = None) -> Source:
        return spooled(self.pieces(plain, like), plain.size, plain.name)


@dataclass(frozen=True)
class Coded(Step):
    """A way of packing of our own, or of a plug-in; name: how it is told of in errors."""

    coder: Coder
    name: str

    def unpacked(self, stored: Source, size: int, exact: bool) -> Iterator[bytes]:
        return bounded(self.coder.unpacked(stored, size + (not exact)), self.name, stored, size, exact)

    def pieces(self, plain: Source, like: Source | None = None) -> Iterator[bytes]:
        """The stored pieces of `plain`."""
        return told(self.coder.packed(plain), self.name, plain)

    def packed(self, plain: Source, like: Source | None = None) -> Source:
        return spooled(self.pieces(plain, like), plain.size, plain.name)


@dataclass(frozen=True)
class Chunked(Step):
    """A payload cut into pieces of `chunk` unpacked bytes (the last may be shorter), each packed by itself.

    width, order: of the stored numbers; place: "table" in front of all chunks, or "inline" before each.
    plain: how a chunk that did not shrink is marked: "never" stored plain, "equal" (its stored size is its own),
    "top" (the number's highest bit is set). align: of each chunk from the payload's start, filled with zeros.
    says: what a table's numbers are: "sizes", "begins" (where each chunk begins; it reaches to the next one), "bounds" (the same, and
    one number more, where the last one ends) or "ends". behind: whether these places count from behind the table, instead of from the
    payload's start.
    """

    chunk: int
    inside: Chain
    width: int = 4
    order: Literal["little", "big"] = "little"
    place: Literal["table", "inline"] = "table"
    plain: Literal["never", "equal", "top"] = "never"
    align: int = 1
    says: Literal["sizes", "begins", "bounds", "ends"] = "sizes"
    behind: bool = False

    def unpacked(self, stored: Source, size: int, exact: bool) -> Source:
        return _ChunkedSource(self, stored, size)

    @property
    def _top(self) -> int:
        """One above the greatest number; as a bit it marks plain chunks."""
        return 1 << (8 * self.width - (self.plain == "top"))

    def _table(self, count: int) -> tuple[int, int]:
        """The bytes of the table of so many chunks, and from where on its places count."""
        length = (count + (self.says == "bounds")) * self.width if self.place == "table" else 0
        return length, length if self.behind else 0

    def spans(self, stored: Source, size: int) -> list[tuple[int, int, bool]]:
        """Where each chunk stands in `stored`, its stored bytes, and whether it is plain."""
        count = -(-size // self.chunk)
        (at, origin), width = self._table(count), self.width
        if max(at, count * width) > stored.size:
            raise self._lies(stored, 0, f"{count:,} chunks have no room in {stored.size:,} bytes.")
        table = stored.read(0, at)
        numbers = [int.from_bytes(table[n : n + width], self.order) for n in range(0, at, width)]
        out = []
        for n in range(count):
            whole, after = min(self.chunk, size - n * self.chunk), at
            if self.says in ("begins", "bounds"):
                at = origin + numbers[n] % self._top
            else:
                at += -at % self.align
            if self.place == "inline":
                numbers.append(int.from_bytes(stored.read(at, width), self.order))
                at += width
            if self.says == "sizes":
                length = numbers[n] % self._top
            elif self.says == "ends":
                length = origin + numbers[n] % self._top - at
            else:
                length = (origin + numbers[n + 1] % self._top if n + 1 < len(numbers) else stored.size) - at
            is_plain = length == whole if self.plain == "equal" else numbers[n] >= self._top
            if at < after or length < 0 or at + length > stored.size or (is_plain and length != whole):
                raise self._lies(stored, at, f"Chunk {n} of {length:,} bytes does not fit here.")
            out.append((at, length, is_plain))
            at += length
        return out

    def _lies(self, stored: Source, at: int, what: str) -> ZubretError:
        next = "The entry is damaged, or the layout's chunks are described wrongly."
        return ZubretError(what, file=stored.name, offset=at, field="chunk table", next=next)

    def packed(self, plain: Source, like: Source | None = None) -> Source:
        numbers: list[bytes] = []
        body = spooled(self._chunks(plain, numbers), plain.size, plain.name)
        table = BytesSource(b"".join(numbers) if self.place == "table" else b"")
        return ChainSource([Part(table, 0, table.size), Part(body, 0, body.size)], plain.name)

    def _chunks(self, plain: Source, numbers: list[bytes]) -> Iterator[bytes]:
        """The stored chunks one by one; their numbers, as stored, go to `numbers`."""
        count = -(-plain.size // self.chunk)
        at, origin = self._table(count)
        for n in range(count):
            piece = SliceSource(plain, n * self.chunk, min(self.chunk, plain.size - n * self.chunk))
            source = self.inside.packed(piece)
            is_plain = self.plain != "never" and source.size >= piece.size
            data = (piece if is_plain else source).read(0, piece.size if is_plain else source.size)
            filling = -at % self.align
            begin = at + filling - origin
            number = {"sizes": len(data), "ends": begin + len(data)}.get(self.says, begin)
            numbers.append(self._stored(number, is_plain and self.plain == "top", plain))
            out = bytes(filling) + (numbers[-1] if self.place == "inline" else b"") + data
            at += len(out)
            yield out
        if self.says == "bounds":
            numbers.append(self._stored(at - origin, False, plain))

    def _stored(self, number: int, is_marked: bool, plain: Source) -> bytes:
        if number >= self._top:
            raise ZubretError(
                f"{number:,} is more than a number of {self.width} bytes in a chunk table can say here.",
                file=plain.name,
                field="chunk table",
                next="Shorten the replacement: the format can't hold more.",
            )
        return (number | self._top * is_marked).to_bytes(self.width, self.order)


@dataclass(frozen=True)
class Sized(Step):
    """A number of `width` bytes in front, which says how many bytes come out of what stands behind it."""

    inside: Chain
    width: int = 4
    order: Literal["little", "big"] = "little"

    def size_of(self, stored: Source) -> int:
        """The number; ZubretError where there is no room for it."""
        return int.from_bytes(stored.read(0, self.width), self.order)

    def unpacked(self, stored: Source, size: int, exact: bool) -> Source:
        promised = self.size_of(stored)
        if promised > size or (exact and promised != size):
            raise ZubretError(
                f"The number in front says {promised:,} bytes, but {size:,} are wanted.",
                file=stored.name,
                next="The entry is damaged: check the file against another copy.",
            )
        behind = SliceSource(stored, self.width, stored.size - self.width, stored.name)
        return self.inside.unpacked(behind, promised)

    def packed(self, plain: Source, like: Source | None = None) -> Source:
        if plain.size >> 8 * self.width:
            raise ZubretError(
                f"{plain.size:,} bytes are more than the number in front of a payload can say.",
                file=plain.name,
                next="Shorten the replacement: the format can't hold more.",
            )
        old = SliceSource(like, self.width, like.size - self.width) if like and like.size >= self.width else None
        number, body = BytesSource(plain.size.to_bytes(self.width, self.order)), self.inside.packed(plain, old)
        return ChainSource([Part(number, 0, self.width), Part(body, 0, body.size)], plain.name)


class _ChunkedSource(Source):
    """Unpacks the chunks that are read and keeps the last few."""

    KEPT = 8

    def __init__(self, step: Chunked, stored: Source, size: int):
        self.name, self.size = stored.name, size
        self._step, self._stored = step, stored
        self._spans = step.spans(stored, size)
        self._recent: OrderedDict[int, bytes] = OrderedDict()

    def _chunk(self, n: int) -> bytes:
        found = self._recent.get(n)
        if found is not None:
            return found
        at, length, plain = self._spans[n]
        whole = min(self._step.chunk, self.size - n * self._step.chunk)
        source = SliceSource(self._stored, at, length)
        if not plain:
            source = self._step.inside.unpacked(source, whole)  # type: ignore[assignment]
        data = source.read(0, whole)
        self._recent[n] = data
        while len(self._recent) > self.KEPT:
            try:
                self._recent.popitem(last=False)
            except KeyError:  # another thread was quicker
                break
        return data

    def _read(self, at: int, length: int) -> bytes:
        step = self._step.chunk
        first, last = at // step, (at + length - 1) // step
        data = b"".join(self._chunk(n) for n in range(first, last + 1))
        return data[at - first * step : at - first * step + length]


@dataclass(frozen=True)
class Chain:
    """Steps one after the other; no steps leave the bytes as they are."""

    steps: Sequence[Step] = ()

    def __bool__(self) -> bool:
        return bool(self.steps)

    @property
    def keeps_places(self) -> bool:
        """Whether every byte keeps its place."""
        return all(step.view for step in self.steps)

    def unpacked(
        self, stored: Source, size: int, *, exact: bool = True, cache: DiskCache | None = None, key: str = ""
    ) -> Source:
        """The `size` unpacked bytes, readable anywhere; large ones go through `cache` under `key`.

        Where not `exact`, `size` is the most that may come out. ZubretError where the bytes are damaged; one that
        is found while unpacking comes at once, one behind a view when that part is read.
        """
        source = stored
        for n, step in enumerate(self.steps):
            last = n == len(self.steps) - 1
            # What stands between two steps is no longer than what they are about, but for the packing's own words.
            room = size if last else max(stored.size, size + size // 8 + 4096)
            out = step.unpacked(source, room, exact and last)
            if isinstance(out, Source):
                source = out
            else:
                source = spooled(out, room, stored.name, cache, f"{key}/{n}" if key else "")
        if exact and source.size != size:
            raise ZubretError(
                f"The entry has {source.size:,} bytes, but its table gives {size:,}.",
                file=stored.name,
                next="The archive's table is damaged: check it against another copy.",
            )
        return source

    def data(self, stored: bytes, size: int, name: str) -> bytes:
        """What `unpacked` gives, for few bytes that are at hand."""
        if len(self.steps) == 1 and isinstance(self.steps[0], Packed) and not self.steps[0].dictionary:
            return unpacked_small(self.steps[0].method, stored, size, name)
        whole = self.unpacked(BytesSource(stored, name), size)
        return whole.read(0, size)

    def packed(self, plain: Source, like: Source | None = None, cache: DiskCache | None = None) -> Source:
        """The stored bytes of `plain`; `like` is a stored source whose manner is kept where there is a choice. What takes
        long to pack is kept in `cache` under its content, so that a rebuild need not do again what its plan did."""
        for step in reversed(self.steps):
            model = like if step is self.steps[0] else None
            if cache and isinstance(step, Packed | Coded) and plain.size > IN_MEMORY:
                head = model.read(0, min(LONGEST_HEAD, model.size)) if model else b""
                key = f"packed by {step!r} {_digest(plain)} like {head.hex()}"
                if isinstance(step, Packed):
                    key += xxhash.xxh3_128_hexdigest(step.dictionary)
                plain = cache.get(key, step.pieces(plain, model), plain.name)
            else:
                plain = step.packed(plain, model)
        return plain

    def head(self, stored: Source, size: int, length: int) -> bytes:
        """At most the first `length` unpacked bytes, without unpacking the rest; empty where that fails."""
        length = min(length, size)
        try:
            source = stored
            for step in self.steps:
                out = step.unpacked(source, size, False)
                source = out if isinstance(out, Source) else BytesSource(_first(out, length + 4096))
            return source.read(0, min(length, source.size))
        except (ZubretError, EOFError):
            return b""


def _digest(source: Source) -> str:
    """The xxh3-128 of all bytes."""
    value, done = xxhash.xxh3_128(), 0
    for piece in source.chunks():
        value.update(piece)
        done += len(piece)
        tell(done, source.size, f"reading {source.name}")
    return value.hexdigest()


def _first(pieces: Iterator[bytes], length: int) -> bytes:
    """What comes out of a stream until `length` bytes are there; a cut or damage behind them does not matter."""
    out = b""
    try:
        for piece in pieces:
            out += piece
            if len(out) >= length:
                break
    except ZubretError:
        pass
    return out[:length]
