"""What files that somebody else has made change in a game: which of them stands where in it, and what is another there, down to the
stream in a bank.

A file is found by the path that the game's folder, its load rules or its archives know, from any folder of its own path on; by
its mere name only where one entry of the whole game has that. What is an archive is looked into.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field

from ..bank import Bank, Stream
from ..base import Progress, ZubretError, silent
from ..container import Container, GameFolder, Siblings
from ..source import DiskCache, Source, same_bytes
from .known import Known
from .locator import Locator
from .reads import LoadOrder, Mount
from .recognise import kind_of
from .spot import Spot, Step

Place = tuple[str, tuple[Step, ...], int | None, str]
"""A file of the game, the entries on the way in, the number of an entry there (None: there is none yet), and its path there."""


@dataclass(frozen=True)
class Given:
    """A file that somebody gives. path: what they call it, with `/`; open: gives its bytes."""

    path: str
    open: Callable[[], Source]


@dataclass(frozen=True)
class OtherStream:
    """A stream that is another one: where it stands in the game; the stream to take instead, as it is stored; by: the file it is
    from."""

    where: Locator
    stream: Stream
    by: str


@dataclass(frozen=True)
class OtherEntry:
    """An entry that is another one as a whole, or is new (index None)."""

    archive: str
    inside: tuple[Step, ...]
    path: str
    index: int | None
    content: Source
    by: str


@dataclass(frozen=True)
class OtherSound:
    """An audio file that is called by the id of one stream of the game: it is encoded for it."""

    where: Locator
    content: Source
    by: str


@dataclass
class Brought:
    """What some files change. same: those that are as the game has them; unknown: those that stand nowhere in it, and why."""

    streams: list[OtherStream] = field(default_factory=list)
    entries: list[OtherEntry] = field(default_factory=list)
    sounds: list[OtherSound] = field(default_factory=list)
    same: list[str] = field(default_factory=list)
    unknown: list[tuple[str, str]] = field(default_factory=list)


NOWHERE = "nothing in the game has this path or name"


class Foreign:
    """Finds out what files change in a game. archives: the paths of the files of the game that hold entries, the strongest last; loose:
    those that are sounds or banks by themselves, of which there may be very many; by_id:
    the one stream of the game that has an id, by_content: whether an entry of the game has these very bytes; of who knows that."""

    def __init__(
        self,
        game: GameFolder,
        known: Known,
        archives: Sequence[str],
        order: LoadOrder | None = None,
        cache: DiskCache | None = None,
        loose: Collection[str] = (),
        by_id: Callable[[str], Locator | None] = lambda id: None,
        by_content: Callable[[Source], bool] = lambda content: False,
    ):
        self.game, self.known, self.order, self.cache = game, known, order, cache
        self._by_id, self._by_content = by_id, by_content
        self._spots = {path: Spot.file(game, path, known, cache) for path in archives}
        self._loose = frozenset(loose)
        self._files = {_plain(file.path): file.path for file in game.files()}
        self._entries: dict[str, list[Place]] = defaultdict(list)
        self._names: dict[str, list[Place]] = defaultdict(list)
        self._volumes: dict[str, str] = {}
        for path in archives:
            with suppress(ZubretError):  # a damaged one holds nothing
                self._learn(path, self._spots[path].archive)

    def _learn(self, path: str, archive: Container) -> None:
        folder = path.rpartition("/")[0]
        self._volumes |= {f"{folder}/{name}" if folder else name: path for name in archive.companions()}
        mount = self.order.of(path) if self.order else None
        for n in range(len(archive.entries)) if archive.kind != "file" else ():
            label, place = archive.label(n), (path, (), n, archive.entries[n].path)
            self._names[_plain(label.rpartition("/")[2])].append(place)
            own = archive.entries[n].path  # an id, where a name list gives names
            for known in {label, own, mount.outer(label) if mount else label}:
                self._entries[_plain(known)].append(place)

    def _spot(self, path: str) -> Spot:
        """A file of the game that holds something; a loose one is open only as long as it is looked at."""
        return self._spots.get(path) or Spot.file(self.game, path, self.known, self.cache)

    def look(self, files: Sequence[Given], progress: Progress = silent) -> Brought:
        """What the files change."""
        out, self._beside = Brought(), {f.path: f for f in files}
        for n, file in enumerate(sorted(files, key=lambda f: f.path)):
            progress(n, len(files), f"looking into {file.path}")
            try:
                self._file(file, out)
            except ZubretError as e:
                out.unknown.append((file.path, e.what))
        out.streams = list(
            {found.where: found for found in out.streams}.values()
        )  # a bank and its companion tell the same
        return out

    # One file ---------------------------------------------------------------------------------------

    def _file(self, file: Given, out: Brought) -> None:
        source = file.open()
        own = self._own(file.path)
        if own is not None and own not in self._spots and own not in self._loose:
            self._no_archive(file, source, own, out)
        elif own is not None:
            source.name = own  # by which its key is found
            new = Spot(own, source, self._siblings(file, own), self.known, self.cache)
            self._archive(self._spot(own), new, own, (), file.path, out)
        elif (place := self._place(file.path)) is not None:
            self._entry(place, source, self._siblings(file), file.path, out)
        elif (mount := self._mount(file.path)) is not None or kind_of(source, self.known) is not None:
            self._pack(file, source, mount, out)
        else:
            self._by_itself(file, source, out)

    def _by_itself(self, file: Given, source: Source, out: Brought) -> None:
        """A file that no path leads to: another copy of what the game has, or a sound that is called by a stream's id."""
        kind = kind_of(source, self.known)
        where = self._by_id(file.path.rpartition("/")[2].rpartition(".")[0]) if kind and kind.name == "audio" else None
        if self._by_content(source):
            out.same.append(file.path)
        elif where is not None:
            out.sounds.append(OtherSound(where, source, file.path))
        else:
            out.unknown.append((file.path, NOWHERE))

    def _no_archive(self, file: Given, source: Source, own: str, out: Brought) -> None:
        """A file of the game that is no archive by itself."""
        if own in self._volumes and self._volumes[own] in {self._own(path) for path in self._beside}:
            return  # it is read with the archive that it belongs to
        with self.game.open(own) as old:
            if same_bytes(old, source):
                out.same.append(file.path)
            elif own in self._volumes:
                out.unknown.append((file.path, f"it belongs to {self._volumes[own]}, which was not given"))
            else:
                out.unknown.append((file.path, "a file of the game that holds no sound that is known"))

    def _own(self, path: str) -> str | None:
        """The file of the game that is meant by a path; an archive, or a volume of one, also by its mere name."""
        for tail in _tails(path):
            if tail in self._files:
                return self._files[tail]
        name = _plain(path.rpartition("/")[2])
        named = {own for own in (*self._spots, *self._volumes) if _plain(own.rpartition("/")[2]) == name}
        return named.pop() if len(named) == 1 else None

    def _place(self, path: str) -> Place | None:
        """The entry that is meant: the strongest of those that have the longest end of the path."""
        for tail in _tails(path):
            if ("/" in tail or tail == _plain(path)) and (found := self._entries.get(tail)):
                return found[-1]
        named = self._names.get(_plain(path.rpartition("/")[2]), [])
        paths = {place[3] for place in named}
        return named[-1] if named and len(paths) == 1 else None

    def _mount(self, path: str) -> Mount | None:
        """Where the game would read an archive of this name."""
        if self.order is None:
            return None
        return next((m for tail in _tails(path) if (m := self.order.would_be(tail)) is not None), None)

    def _pack(self, file: Given, source: Source, mount: Mount | None, out: Brought) -> None:
        """An archive that the game does not have: each of its entries is a file."""
        spot = Spot(file.path, source, self._siblings(file), self.known, self.cache)
        archive = spot.opened
        if archive is None or archive.kind == "file":
            self._by_itself(file, source, out)
            return
        for n in range(len(archive.entries)):
            label = archive.label(n)
            by = f"{file.path} › {label}"
            place = self._place(mount.outer(label) if mount else label)
            if place is None:
                out.unknown.append((by, NOWHERE))
            else:
                self._entry(place, archive.open(n, self.cache, f"{spot.key}/{n}"), archive.beside(n), by, out)

    def _siblings(self, file: Given, own: str = "") -> Siblings:
        """What was given beside a file; of what was not, the game's own."""
        folder = file.path.rpartition("/")[0]

        def open_named(name: str) -> Source:
            beside = self._beside.get(f"{folder}/{name}" if folder else name)
            if beside is not None:
                return beside.open()
            if own:
                return self.game.beside(own)(name)
            raise ZubretError(f"{name}, which belongs to it, was not given.", file=file.path, next="Give both.")

        return open_named

    # What is another there --------------------------------------------------------------------------

    def _entry(self, place: Place, content: Source, siblings: Siblings, by: str, out: Brought) -> None:
        path, inside, index, name = place
        spot = self._spot(path).down(inside, path)
        assert index is not None
        old = spot.entry(index)
        new = Spot(old.name, content, self._or_own(siblings, old), self.known, self.cache)
        self._compare(spot, new, (path, inside, index, name), by, out)

    @staticmethod
    def _or_own(siblings: Siblings, old: Spot) -> Siblings:
        def open_named(name: str) -> Source:
            try:
                return siblings(name)
            except ZubretError:
                if old.siblings is None:
                    raise
                return old.siblings(name)

        return open_named

    def _of_bank(self, around: Spot, index: int, new: Spot) -> tuple[tuple[Bank, Bank], Step] | None:
        """The bank, old and new, that keeps payloads in an entry; None where there is none of the same name beside it."""
        label = around.archive.label(index)
        stem, name = label.rpartition(".")[0], label.rpartition("/")[2]

        def open_named(wanted: str) -> Source:
            return new.source if wanted == name else siblings(wanted)

        for n in range(len(around.archive.entries)):
            if n == index or around.archive.label(n).rpartition(".")[0] != stem:
                continue
            with suppress(ZubretError):
                old = around.entry(n)
                if not any(file == name for file, _, _ in old.bank.spans() or ()):
                    continue
                siblings, content = self._or_own(new.siblings or _nothing, old), old.source
                with suppress(ZubretError):
                    content = (new.siblings or _nothing)(around.archive.label(n).rpartition("/")[2])
                pair = _banks(old, Spot(old.name, content, open_named, self.known, self.cache))
                return (pair, (around.archive.entries[n].path, n)) if pair else None
        return None

    def _compare(self, around: Spot, new: Spot, place: Place, by: str, out: Brought) -> None:
        """An entry, old and new: as it was; the same bank with other streams; an archive with others in it; or another one."""
        path, inside, index, name = place
        assert index is not None
        old = around.entry(index)
        if same_bytes(old.source, new.source) and not _elsewhere(old):
            out.same.append(by)
            return
        step = (*inside, (name, index))
        pair = _banks(old, new)
        if pair is not None:
            found = len(out.streams)
            out.streams += _other_streams(*pair, path, step, by)
            if len(out.streams) == found:
                out.same.append(by)
        elif old.opened is not None and old.opened.kind != "file" and new.opened is not None:
            self._archive(old, new, path, step, by, out)
        elif (held := self._of_bank(around, index, new)) is not None:
            banks, owner = held
            out.streams += _other_streams(*banks, path, (*inside, owner), by)
        else:
            out.entries.append(OtherEntry(path, inside, name, index, new.source, by))

    def _archive(self, old: Spot, new: Spot, path: str, inside: tuple[Step, ...], by: str, out: Brought) -> None:
        """An archive that the game has, entry by entry; what it has no more is left alone."""
        a, b = old.archive, new.archive
        if a.kind == "file":
            self._compare(old, new.entry(0), (path, inside, 0, a.entries[0].path), by, out)
            return
        places = {a.label(n): n for n in reversed(range(len(a.entries)))}
        before = len(out.streams) + len(out.entries)
        for n in range(len(b.entries)):
            label = b.label(n)
            at, own = places.get(label), f"{by} › {label}"
            if at is None:
                content = b.open(n, self.cache, f"{new.key}/{n}")
                out.entries.append(OtherEntry(path, inside, b.entries[n].path, None, content, own))
            elif not _surely_same(a, at, b, n):
                quiet = Brought()
                self._compare(old, new.entry(n), (path, inside, at, a.entries[at].path), own, quiet)
                out.streams += quiet.streams
                out.entries += quiet.entries
        if len(out.streams) + len(out.entries) == before:
            out.same.append(by)


def _banks(old: Spot, new: Spot) -> tuple[Bank, Bank] | None:
    """Both as banks with the same streams in the same order; None where they are none, or have others."""
    try:
        pair = old.bank, new.bank
    except ZubretError:
        return None
    ids = [[(s.id, s.name) for s in bank.streams] for bank in pair]
    return pair if ids[0] == ids[1] and pair[0].layout_id == pair[1].layout_id else None


def _other_streams(old: Bank, new: Bank, path: str, steps: tuple[Step, ...], by: str) -> Iterator[OtherStream]:
    for x, y in zip(old.streams, new.streams, strict=True):
        if x.format != y.format or not same_bytes(x.payload, y.payload):
            yield OtherStream(Locator(path, steps, x.id, x.ordinal), y, by)


def _elsewhere(spot: Spot) -> bool:
    """Whether a bank keeps payloads in other files, so that its own bytes do not tell all."""
    with suppress(ZubretError):
        return any(file for file, _, _ in spot.bank.spans() or ())
    return False


def _surely_same(a: Container, n: int, b: Container, m: int) -> bool:
    """Whether two entries are the same by what their tables say: size and CRC-32, of the same length."""
    x, y = a.entries[n], b.entries[m]
    return x.crc32 is not None and (x.crc32, x.size) == (y.crc32, y.size)


def _nothing(name: str) -> Source:
    raise ZubretError("Nothing stands beside it.", file=name)


def _plain(path: str) -> str:
    return path.replace("\\", "/").strip("/").casefold()


def _tails(path: str) -> Iterator[str]:
    """A path, and what is left of it without its first folders, as they compare."""
    parts = _plain(path).split("/")
    return ("/".join(parts[n:]) for n in range(len(parts)))
