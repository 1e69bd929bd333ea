"""Where a stream of one build of a game stands in another one, and whether it is still what a mod was made against.

What is known of the stream: where it stood (archive, entries, id), its format, and the digest of its payload. A build is looked up by
each of the three; payloads are read only where the sizes agree.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace

from ..base import Format, Progress, silent
from ..base.wording import spaced
from .locator import Locator

SAME, MOVED, CHANGED, FORMAT, GONE = "same", "moved", "changed", "format", "gone"
"""What can be said of a stream. same: it is where it was, and what it was, even if entries before it came or went; moved: the same
payload at another place; changed: another sound in the same format; format: what it is encoded as is another; gone: nothing of this
build is it."""
SAFE = (SAME, MOVED)
"""Whose replacement holds as it is."""


@dataclass(frozen=True)
class Was:
    """A stream as a mod knows it. format, stored: null where nobody has written them down; digest: of the payload, empty where
    nothing was made against it yet."""

    where: Locator
    digest: str
    format: Format | None = None
    stored: int | None = None


@dataclass(frozen=True)
class Is:
    """A stream of the build: number names it for `digest_of`; stored: bytes of its payload."""

    number: int
    where: Locator
    format: Format
    stored: int


@dataclass(frozen=True)
class Verdict:
    """now: where it is, null where it is gone; digest: of the payload there, empty where it was not read; detail: for people."""

    kind: str
    now: Is | None = None
    digest: str = ""
    detail: str = ""


Place = tuple[str, tuple[str, ...], str]


def place_of(where: Locator) -> Place:
    """What a locator says without counting entries: those that come before may come and go."""
    return where.archive, tuple(path for path, _ in where.entries), where.stream_id or f"#{where.ordinal}"


class Streams:
    """The streams of a build that may be what is looked for. digest_of reads a payload."""

    def __init__(self, streams: Iterable[Is], digest_of: Callable[[Is], str]) -> None:
        self._digest_of, self._digests = digest_of, dict[int, str]()
        self._places = defaultdict[Place, list[Is]](list)
        self._sizes = defaultdict[tuple[str, int], list[Is]](list)
        self._ids = defaultdict[str, list[Is]](list)
        for stream in streams:
            self._places[place_of(stream.where)].append(stream)
            self._sizes[stream.format.codec, stream.stored].append(stream)
            if stream.where.stream_id:
                self._ids[stream.where.stream_id].append(stream)

    def at(self, where: Locator) -> Is | None:
        """The stream at a place, however many entries stand before it."""
        there = self._places.get(place_of(where), [])
        return min(there, key=lambda s: abs(s.where.ordinal - where.ordinal), default=None)

    def digest(self, stream: Is) -> str:
        """Of its payload, read once."""
        if stream.number not in self._digests:
            self._digests[stream.number] = self._digest_of(stream)
        return self._digests[stream.number]

    def judge_all(self, known: Sequence[Was], progress: Progress = silent) -> list[Verdict]:
        """What became of all streams that a mod knows. No two of them are the same stream now: what is safe goes first."""
        found = []
        for n, was in enumerate(known):
            progress(n, len(known), f"judging {was.where}")
            found.append(self.judge(was))
        claimed = set[int]()
        for n in sorted(range(len(found)), key=lambda n: found[n].kind not in SAFE):
            now = found[n].now
            if now and now.number in claimed:
                found[n] = Verdict(GONE, detail=f"in {now.where} stands another stream that the mod swaps")
            elif now:
                claimed.add(now.number)
        return found

    def judge(self, was: Was) -> Verdict:
        """What became of a stream."""
        here = self.at(was.where)
        if here and (not was.digest or self._holds(here, was)):
            return self._same_payload(was, here, SAME)
        twin = self._twin(was)
        if twin:
            return self._same_payload(was, twin, MOVED)
        elsewhere = None if here else self._by_id(was)
        now = here or elsewhere
        if now is None:
            return Verdict(GONE, detail="no stream with its place, its id or its contents")
        if not was.digest:
            return Verdict(MOVED, now, "", f"now in {now.where}")
        new = _differences(was.format, now.format) if was.format else []
        moved = [f"now in {now.where}"] if elsewhere else []
        return Verdict(FORMAT if new else CHANGED, now, self.digest(now), ", ".join([*new, *moved]))

    def _holds(self, stream: Is, was: Was) -> bool:
        return was.stored in (None, stream.stored) and self.digest(stream) == was.digest

    def _twin(self, was: Was) -> Is | None:
        """A stream with the same payload: the one with the same id, or else the only one."""
        if not was.digest or was.stored is None or was.format is None:
            return None
        twins = [s for s in self._sizes.get((was.format.codec, was.stored), ()) if self._holds(s, was)]
        alike = [s for s in twins if s.where.stream_id == was.where.stream_id]
        if was.where.stream_id and len(alike) == 1:
            return alike[0]
        return twins[0] if len(twins) == 1 else None

    def _by_id(self, was: Was) -> Is | None:
        """The one stream elsewhere with its id, in a bank of the same name if there are several."""
        found: Sequence[Is] = self._ids.get(was.where.stream_id, [])
        if len(found) > 1:
            found = [s for s in found if _bank(s.where) == _bank(was.where)]
        return found[0] if len(found) == 1 else None

    @staticmethod
    def _same_payload(was: Was, now: Is, kind: str) -> Verdict:
        new = _differences(was.format, now.format, True) if was.format and was.digest else []
        moved = [f"now in {now.where}"] if kind == MOVED else []
        return Verdict(FORMAT if new else kind, now, was.digest, ", ".join([*new, *moved]))


def _bank(where: Locator) -> str:
    return (where.entries[-1][0] if where.entries else where.archive).rpartition("/")[2]


def _differences(old: Format, new: Format, whole: bool = False) -> list[str]:
    """In what two formats differ, in words; whole: also where the loop lies and what a codec needs to be told, which another sound may
    have of its own."""
    pairs = [
        ("codec", old.codec, new.codec),
        ("variant", old.variant or "none", new.variant or "none"),
        ("rate", f"{spaced(old.rate)} Hz", f"{spaced(new.rate)} Hz"),
        ("channels", old.channels, new.channels),
        ("block size", spaced(old.block_size), spaced(new.block_size)),
        ("loop", "yes" if old.loop else "none", "yes" if new.loop else "none"),
    ]
    told = [f"{name} {before} to {after}" for name, before, after in pairs if before != after]
    if whole and not told and _plain(old) != _plain(new):
        told.append("other loop points" if old.loop != new.loop else "other parameters")
    return told


def _plain(format: Format) -> Format:
    """Without what a survey does not keep."""
    return replace(format, setup=b"", more=())
