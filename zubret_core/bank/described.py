"""A bank that a layout describes."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from ..base import Format, Loop
from ..codec import codec_of
from ..codec.base import frames_held
from ..layout import Layout, NewItem, read_layout, rebuild
from ..layout.checks.extents import extents_of, segments_of
from ..layout.document import Siblings
from ..layout.document.chains import Keys
from ..layout.language.codecs import CodecModel, name_of, spec_of
from ..source import Built, Segment, Source
from .base import Bank, NewStream, Stream


class DescribedBank(Bank):
    """Streams by a layout's table."""

    kind = "layout"

    def __init__(self, layout: Layout, source: Source, siblings: Siblings | None = None, keys: Keys | None = None):
        self.layout, self.source = layout, source
        self.layout_id = layout.id
        self.reading = read_layout(layout, source, siblings, keys)
        language = self.reading.once.get("bank.language", "none")
        self.language = "" if language == "none" else str(language)
        self.name = str(self.reading.once.get("bank.name", ""))
        setup = self.reading.once.get("bank.setup", b"")
        self._setup = setup if isinstance(setup, bytes) else b""
        self.streams = self._streams()

    def _streams(self) -> list[Stream]:
        reading = self.reading
        sizes = reading.column("size")
        slots: dict[int, tuple[int, list[int]]] = {}
        for extent in [e for name in reading.files() for e in extents_of(reading, name)]:
            slots |= dict.fromkeys(extent.items, (extent.slot, extent.items))

        def column(what: str, default: object) -> list:
            values = reading.column(what)
            given = self.layout.given.get(f"stream.{what}", default)  # type: ignore[call-overload]
            return [given] * reading.count if values is None else [given if v is None else v for v in values]

        rows = zip(
            column("id", ""),
            column("name", ""),
            column("codec", "pcm16"),
            column("rate", 0),
            column("channels", 1),
            column("frames", -1),
            column("block_size", 0),
            column("looped", None),
            column("loop_start", 0),
            column("loop_end", 0),
            column("at", 0),
            column("stored", 0),
            strict=True,
        )
        out = []
        for n, (id, name, codec, rate, channels, frames, block, looped, start, end, at, stored) in enumerate(rows):
            is_looped = end > start if looped is None else bool(looped)
            loop = Loop(start, end) if is_looped else None
            kind, parameters = spec_of(self.layout.codecs, codec)
            format = Format(kind, rate, channels, frames, loop, block, parameters=parameters)
            if getattr(codec_of(format), "headers", "") == "setup":
                format = format.with_(setup=self._setup)
            where = f"{self.source.name} › {id or n}"
            slot, sharing = slots.get(n, (0, [n]))
            packed = reading.payload(n)
            payload = reading.chain(n).unpacked(packed, packed.size if sizes is None else sizes[n])
            payload.name = where
            if frames < 0:
                format = format.with_(frames=frames_held(codec_of(format), format, payload.size))
            format.checked(where)
            shares = tuple(r for r in sharing if r != n)
            keeps = tuple(self.layout.keeps)
            out.append(Stream(n, id, name, format, at, stored, slot, self.language, payload, shares, keeps))
        return out

    def rebuild(self, changes: Mapping[int, NewStream], *, anew: bool | Collection[str] = False) -> Built:
        codecs = self.layout.codecs
        items = {n: _item(new, self.reading.chain(n).packed(new.payload), codecs) for n, new in changes.items()}
        return rebuild(self.reading, items, anew=anew)

    def spans(self) -> Sequence[tuple[str, int, int]] | None:
        reading = self.reading
        if self.layout.packed or reading.column("head") is not None:
            return None
        columns = reading.payload_files(), reading.column("at") or [], reading.column("stored") or []
        return list(zip(*columns, strict=True))

    def segments(self) -> list[Segment]:
        return segments_of(self.reading)


def _item(new: NewStream, payload: Source, codecs: Mapping[str, CodecModel]) -> NewItem:
    format = new.format
    loop = format.loop or Loop(0, 0)
    return NewItem(
        payload,
        {
            "codec": name_of(codecs, format.codec, format.parameters),
            "rate": format.rate,
            "channels": format.channels,
            "block_size": format.block_size,
            "frames": format.frames,
            "looped": int(format.loop is not None),
            "loop_start": loop.start,
            "loop_end": loop.end,
            "loop_length": loop.length,
            "size": new.payload.size,
        },
        new.payload,
        format=format,
    )
