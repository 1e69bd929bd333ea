"""Sound by address: the original, the uploaded file, the prepared replacement, the rebuilt result, a trial run.

An address is `<kind><row>.<digest>`; the digest changes with the content, so an old address never
gives new sound, nor a new one old sound.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zubret_core.bank import Bank
from zubret_core.bank import Stream as CoreStream
from zubret_core.base import Format, Kept, to_int16

from ..errors import stopped
from .models import Archive, Stream
from .opening import check_unchanged, spot_at, version_of

Opener = Callable[[int, str], "Sound | None"]
_openers: dict[str, Opener] = {}


def opens(kind: str) -> Callable[[Opener], Opener]:
    """Register what opens addresses of a kind: a function of the row's number and the digest."""

    def register(opener: Opener) -> Opener:
        assert kind not in _openers, f"two openers of the kind {kind}"
        _openers[kind] = opener
        return opener

    return register


@dataclass(frozen=True)
class Sound:
    """Something that can be heard: its format and a way to decode any range of frames."""

    name: str
    format: Format
    decode: Callable[[int, int], NDArray]
    digest: str
    check: Callable[[], None] = lambda: None
    """Raises where the file underneath has changed since the address was given."""

    def pcm(self, start: int, frames: int) -> NDArray[np.int16]:
        """int16 (frames, channels); the range is cut to the sound's length."""
        start = max(0, min(start, self.format.frames))
        return to_int16(self.decode(start, max(0, min(frames, self.format.frames - start))))


_open: Kept[str, Sound] = Kept(32)
_banks: Kept[str, Bank] = Kept(64 << 20, lambda bank: (1 << 20) + 1000 * len(bank.streams))
_archives: Kept[int, Archive] = Kept(64)
_listed: Kept[int, Stream] = Kept(1 << 13)


def sound_at(address: str) -> Sound:
    """The sound at an address; 404 or 410 where there is none (any more)."""
    if known := _open.get(address):
        known.check()
        return known
    kind, number, digest = address[:1], address[1:].partition(".")[0], address.partition(".")[2]
    opener = _openers.get(kind)
    if opener is None or not number.isdigit():
        raise stopped(404, "There is no sound at this address.", "Choose it from the list again.", address)
    sound = opener(int(number), digest)
    if sound is None or sound.digest != digest:
        raise stopped(410, "This sound has changed since the page was loaded.", "Choose it from the list again.")
    return _open.put(address, sound)


def original_address(stream: Stream) -> str:
    """The address of a stream as it is in the game."""
    return f"o{stream.pk}.{stream.digest()}"


def open_original(row: Stream) -> CoreStream:
    """The core's stream for a row; an error if the archive was changed since its survey."""
    archive, locator = row.archive, row.where()
    check_unchanged(archive)
    key = "/".join([version_of(archive), *(str(n) for _, n in locator.entries)])
    bank = _banks.made(key, lambda: spot_at(archive, locator.entries, str(locator)).bank)
    return locator.stream_in(bank)


def remember(rows: Iterable[Stream]) -> None:
    """Keep rows that were listed: what is listed is heard next, and asking for a row takes longer than decoding it."""
    for row in rows:
        row.archive = _archives.get(row.archive_id) or _archives.put(row.archive_id, row.archive)
        _listed.put(row.pk, row)


def _row(pk: int) -> Stream | None:
    """A stream's row. A survey writes new rows and changes no old ones, but for kinds, which nobody hears."""
    row = _listed.get(pk)
    if row is None:
        row = Stream.objects.filter(pk=pk).select_related("archive__game", "archive__outer").first()
        if row is not None:
            remember([row])
    return row


@opens("o")
def _original(pk: int, digest: str) -> Sound | None:
    row = _row(pk)
    if row is None or row.digest() != digest:
        return None
    stream = open_original(row)
    return Sound(
        row.name or row.stream_id or str(row.ordinal),
        stream.format,
        stream.decode,
        digest,
        lambda: check_unchanged(row.archive),
    )
