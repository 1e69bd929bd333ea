"""Many small banks of one layout, surveyed together."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from ..base import Format, ZubretError
from ..codec import codec_of
from ..codec.base import frames_held
from ..layout import Layout
from ..layout.checks.batch import Batch, can_batch, read_batch
from ..layout.document.document import DEFAULTS
from ..source import Source
from .base import SAID, Bank, Stream, said_of, spoken
from .described import FORMAT, format_of

MOST = 2048
"""Banks that are read together at most."""


@dataclass(frozen=True)
class Surveyed:
    """What a survey wants to know of a bank."""

    language: str
    streams: list[Stream]


@dataclass
class _Opens:
    """The bytes of a bank's streams; the bank is opened when somebody wants them."""

    open: Callable[[], Bank]

    def payload(self, ordinal: int) -> Source:
        return self.open().streams[ordinal].payload

    def slot(self, ordinal: int) -> int:
        return self.open().streams[ordinal].slot

    def told(self, ordinal: int, format: Format) -> Format:
        return self.open().streams[ordinal].told(format)


def survey_many(
    layout: Layout, heads: Sequence[bytes], sizes: Sequence[int], opens: Sequence[Callable[[], Bank]]
) -> list[Surveyed | None]:
    """Banks by their first bytes and their sizes; None for each that has to be opened by itself: because it reaches
    further than its head, or because something in it is not as it should be."""
    nothing: list[Surveyed | None] = [None] * len(heads)
    if not can_batch(layout):
        return nothing
    longest = max(map(len, heads))
    rows = np.frombuffer(b"".join(h.ljust(longest, b"\0") for h in heads), np.uint8).reshape(-1, longest)
    try:
        batch = read_batch(layout, rows, np.array(sizes, np.int64))
    except ZubretError:
        return nothing
    return _banks(layout, batch, opens)


def _banks(layout: Layout, batch: Batch, opens: Sequence[Callable[[], Bank]]) -> list[Surveyed | None]:
    count, owner = len(batch.good), batch.owner.tolist()
    languages = batch.once.get("bank.language", ["none"] * count)
    banks = [Surveyed("" if t == "none" else str(t), []) for t in languages]
    payloads, keeps, good = [_Opens(o) for o in opens], tuple(layout.keeps), batch.good.tolist()
    forms = zip(*(_column(layout, batch, what) for what in FORMAT), strict=True)
    named = zip(*(_column(layout, batch, what) for what in ("id", "name", "at", "stored", "size")), strict=True)
    own, told = _column(layout, batch, "language"), {what: batch.columns.get(what) for what in SAID}
    told = {what: None if values is None else np.asarray(values).tolist() for what, values in told.items()}
    for n, (file, form, (id, name, at, stored, size)) in enumerate(zip(owner, forms, named, strict=True)):
        format = format_of(layout, b"", *form)
        codec = codec_of(format)
        asks = codec.asks(format)
        if format.frames < 0:
            format = format.with_(frames=frames_held(codec, format, stored if size is None else size))
        if asks or not format.possible:  # by itself, its payloads are looked into, or it tells what is wrong
            good[file] = False
        bank = banks[file]
        language = spoken(own[n], bank.language)
        bank.streams.append(Stream(len(bank.streams), id or "", name or "", format, at, stored, language,
                                   payloads[file], (), keeps, said_of(told, n)))  # fmt: skip
    for bank in banks:
        _share(bank.streams)
    return [bank if fine else None for bank, fine in zip(banks, good, strict=True)]


def _column(layout: Layout, batch: Batch, what: str) -> list:
    found = batch.columns.get(what)
    if found is None:
        usual = layout.given.get(f"stream.{what}", DEFAULTS.get(what))  # type: ignore[call-overload]
        return [usual] * len(batch.owner)
    return found.tolist() if isinstance(found, np.ndarray) else found


def _share(streams: list[Stream]) -> None:
    """Tell streams in the very same bytes of each other."""
    if len(streams) < 2:
        return
    spans: dict[tuple[int, int], list[Stream]] = {}
    for stream in streams:
        if stream.stored:
            spans.setdefault((stream.at, stream.stored), []).append(stream)
    for alike in spans.values():
        if len(alike) > 1:
            for stream in alike:
                stream.shares = tuple(s.ordinal for s in alike if s is not stream)


__all__ = ["MOST", "Surveyed", "survey_many"]
