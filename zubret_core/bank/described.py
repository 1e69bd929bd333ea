"""A bank that a layout describes."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import Any

from ..base import Format, Loop, ZubretError, once
from ..base.format import frozen
from ..codec import codec_of
from ..codec.base import Codec, frames_held
from ..layout import Document, Layout, NewItem, read_layout, rebuild
from ..layout.checks.extents import extents_of, segments_of
from ..layout.checks.told import ToldSizes
from ..layout.document import Siblings
from ..layout.document.chains import Keys
from ..layout.document.ties import next_told
from ..layout.language.codecs import CodecModel, name_of, spec_of
from ..source import Built, Segment, Source
from .base import SAID, Bank, NewStream, Stream, said_of, spoken

FORMAT = ("codec", "rate", "channels", "frames", "block_size", "looped", "loop_start", "loop_end")


def format_of(
    layout: Layout, setup: bytes, codec: str, rate: int, channels: int, frames: int | None, block: int,
    looped: int | None, start: int | None, end: int | None,
) -> Format:  # fmt: skip
    """A stream's format by its meanings; -1 frames, and a loop to there, where nothing says how many."""
    if layout.loops_to_end:
        looped, end = int(start is not None) if looped is None else looped, -1 if frames is None else frames
    start, end = start or 0, end or 0
    is_looped = end > start if looped is None else bool(looped)
    kind, parameters = spec_of(layout.codecs, codec)
    loop = Loop(start, end) if is_looped else None
    format = Format(kind, rate, channels, -1 if frames is None else frames, loop, block, parameters=parameters)
    return format.with_(setup=setup) if setup and codec_of(format).wants_setup else format


class _Described:
    """The bytes of a described bank's streams."""

    def __init__(self, document: Document, name: str):
        self.document, self.name = document, name
        self._slots: dict[int, int] | None = None

    def payload(self, ordinal: int) -> Source:
        document = self.document
        sizes, stored, chain = document.column("size"), document.payload(ordinal), document.chain(ordinal)
        size = stored.size if sizes is None else sizes[ordinal]
        if stored.size > size and chain.keeps_places:
            stored = self.told_sizes.without(ordinal, stored, size)
        payload = chain.unpacked(stored, size)
        payload.name = self.named(ordinal)
        return payload

    @once
    def told_sizes(self) -> ToldSizes:
        """Which stored sizes the streams may have."""
        return ToldSizes(self.document)

    def told(self, ordinal: int, format: Format) -> Format:
        format = format.with_(frames=self._frames(ordinal, format))
        if format.loop is None or not self.document.layout.loops_to_end:
            return format
        start = format.loop.start if self.document.column("loop_start") is not None else 0
        return format.with_(loop=Loop(start, format.frames))

    def _frames(self, ordinal: int, format: Format) -> int:
        document, codec = self.document, codec_of(format)
        if codec.asks(format) or document.column("size") is not None or document.column("cut") is not None:
            return format.frames
        frames, size = document.column("frames"), codec.stored_size(format)
        said = "stream.frames" in document.layout.given or (frames is not None and frames[ordinal] is not None)
        if said:
            return self._said(ordinal, format)
        if size is None:
            return format.frames
        return frames_held(codec, format, self.told_sizes.size(ordinal, size))

    def _said(self, ordinal: int, format: Format) -> int:
        """The least length from a format's on that the stream's record can tell."""
        document, layout = self.document, self.document.layout
        group = document.group_of(ordinal)
        old = tuple(document.format_column(what)[ordinal] for what in ("codec", "channels", "block_size"))
        if old != (name_of(layout.codecs, format.codec, format.parameters), format.channels, format.block_size):
            return format.frames  # units may be others then
        for instance, slot in document.slots("stream.frames", group):
            row, has = int(instance.rows[ordinal - group.first]), instance.records.has(slot)
            if not instance.records.absent(slot) and (has is None or has[row]):
                return next_told(slot, format.frames, row, document.scope(instance))
        return format.frames

    def named(self, ordinal: int) -> str:
        """A stream as people call it."""
        ids = self.document.column("id")
        return f"{self.name} › {(ids[ordinal] if ids else '') or ordinal}"

    def slot(self, ordinal: int) -> int:
        if self._slots is None:
            extents = [e for name in self.document.files() for e in extents_of(self.document, name)]
            self._slots = {item: e.slot for e in extents for item in e.items}
        pieces = self.document.pieces_of(ordinal) if self.document.in_pieces else []
        lengths = self.document.spans()[1]
        return sum(int(lengths[n]) for n in pieces[:-1]) + self._slots.get(pieces[-1] if pieces else ordinal, 0)


class DescribedBank(Bank):
    """Streams by a layout's table."""

    kind = "layout"
    document: Document

    def __init__(self, layout: Layout, source: Source, siblings: Siblings | None = None, keys: Keys | None = None):
        self.layout, self.source = layout, source
        self.layout_id = layout.id
        self.document = read_layout(layout, source, siblings, keys)
        once = self.document.once
        language = once.get("bank.language", "none")
        self.language = "" if language == "none" else str(language)
        self.name = str(once.get("bank.name", ""))
        setup = once.get("bank.setup", b"")
        self._setup = setup if isinstance(setup, bytes) else b""
        self._payloads = _Described(self.document, source.name)
        self.streams = self._streams()

    def _streams(self) -> list[Stream]:
        """All streams; a ZubretError where one has a format that no audio can have."""
        document, layout = self.document, self.layout
        shares, keeps = self._shares(), tuple(layout.keeps)
        forms = zip(*(self._column(what) for what in FORMAT), strict=True)
        places = document.column("at") or [], document.column("stored") or []
        blank = [""] * document.count
        names = document.column("name") or document.column("label") or blank
        named = zip(document.column("id") or blank, names, *places, strict=True)
        languages, told = document.column("language"), {what: document.column(what) for what in SAID}
        out = []
        for n, ((id, name, at, stored), form) in enumerate(zip(named, forms, strict=True)):
            format = self._format(n, *form)
            language = spoken(languages and languages[n], self.language)
            out.append(Stream(n, id or "", name or "", format, at, stored, language, self._payloads,
                              shares.get(n, ()), keeps, said_of(told, n)))  # fmt: skip
        return out

    def _column(self, what: str) -> list:
        """A column of formats. A loop's start is None where the stream does not loop, if only that says so."""
        if what == "loop_start" and self.layout.loops_to_end:
            tie = self.document.tie("stream.loop_start")
            says = tie is not None and (tie.none is not None or self.document.column("looped") is not None)
            return (self.document.column(what) if says else None) or [None] * self.document.count
        return self.document.format_column(what)

    def _format(self, n: int, *form: Any) -> Format:
        own = self.document.column("setup")
        format = format_of(self.layout, (own[n] if own else b"") or self._setup, *form)
        skips = self.document.column("skip")
        if skips and skips[n] is not None:
            format = format.with_(parameters=frozen({**dict(format.parameters), "skip": skips[n]}))
        codec = codec_of(format)
        if codec.asks(format):
            told = codec.told(self._payloads.payload(n), format)
            format = told if format.frames < 0 else told.with_(frames=format.frames)
        elif format.frames < 0:
            stored = self.document.column("size") or self.document.column("stored") or []
            format = format.with_(frames=frames_held(codec, format, stored[n]))
        cuts = self.document.column("cut")
        if (
            cuts and cuts[n] is not None
        ):  # its length follows from a number, so that of a replacement is no other than it shall be
            format = format.with_(frames=format.frames - cuts[n], variant="" if codec.counts else format.variant)
        if format.loop is not None and self.layout.loops_to_end:
            format = format.with_(loop=Loop(format.loop.start, format.frames))
        if not format.possible:
            self._impossible(n, format)
        return format

    def _impossible(self, n: int, format: Format) -> None:
        try:
            format.checked(self._payloads.named(n))
        except ZubretError as e:
            e.next = f"The bank is damaged, or the layout {self.layout.id} is not right for it: check both."
            raise

    def _shares(self) -> dict[int, tuple[int, ...]]:
        """The other streams in the very same bytes, of those that share theirs."""
        document = self.document
        spans: dict[tuple, list[int]] = {}
        for n, span in enumerate(document.places()):
            if span:
                spans.setdefault(span, []).append(n)
        if len(spans) == document.count:
            return {}
        return {n: tuple(m for m in items if m != n) for items in spans.values() for n in items if len(items) > 1}

    def rebuild(self, changes: Mapping[int, NewStream], *, anew: bool | Collection[str] = False) -> Built:
        return rebuild(self.document, {n: self._item(n, new) for n, new in changes.items()}, anew=anew)

    def _item(self, n: int, new: NewStream) -> NewItem:
        document = self.document
        chain = document.chain(n, new.payload.size)
        packed = chain.packed(new.payload)
        told = self._payloads.told(n, new.format).loop
        if told != new.format.loop and new.format.loop is not None and told is not None:
            raise ZubretError(
                f"A loop from {new.format.loop.start:,} to {new.format.loop.end:,} can't be stored: this bank would tell one from "
                f"{told.start:,} to {told.end:,}.",
                file=self._payloads.named(n),
                next="Take such a loop, or leave out what stands behind it.",
            )
        filled = self._payloads.told_sizes.filled(n, packed)
        if document.column("size") is None and not chain:
            new = NewStream(filled, new.format)
        cuts = document.column("cut") is not None
        return _new_item(new, filled, self.layout.codecs, cuts, self.layout.loops_to_end)

    def is_filled(self, ordinal: int, size: int) -> bool:
        chain = self.document.chain(ordinal)
        return (
            self.document.column("size") is None
            and chain.keeps_places
            and self._payloads.told_sizes.is_filled(ordinal, size)
        )

    def spans(self) -> Sequence[tuple[str, int, int]] | None:
        document = self.document
        if self.layout.packed or document.scattered:
            return None
        columns = document.payload_files(), document.column("at") or [], document.column("stored") or []
        return list(zip(*columns, strict=True))

    def unpacked(self, part: str) -> Source:
        return self.document.unpacked(part)

    def segments(self) -> list[Segment]:
        return segments_of(self.document)


def _left(codec: Codec, payload: Source, format: Format) -> int:
    """How many frames of a payload are behind its end."""
    bare = format.with_(frames=-1)
    held = codec.told(payload, bare).frames if codec.asks(bare) else frames_held(codec, format, payload.size)
    return held - format.frames


def _new_item(new: NewStream, payload: Source, codecs: Mapping[str, CodecModel], cuts: bool, to_end: bool) -> NewItem:
    """cuts: whether the length follows from what is cut; to_end: whether what loops does so to its end."""
    format = new.format
    loop = format.loop or Loop(0, 0)
    return NewItem(
        payload,
        {
            "codec": name_of(codecs, format.codec, format.parameters),
            "skip": dict(format.parameters).get("skip"),
            "rate": format.rate,
            "channels": format.channels,
            "block_size": format.block_size,
            "setup": format.setup,
            "frames": format.frames,
            "cut": _left(codec_of(format), new.payload, format) if cuts else None,
            "looped": int(format.loop is not None),
            "loop_start": None if format.loop is None and to_end else loop.start,
            "loop_end": loop.end,
            "loop_length": loop.length,
            "size": new.payload.size,
        },
        new.payload,
        format=format,
    )
