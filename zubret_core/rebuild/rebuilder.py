"""Archives rebuilt with all that changes inside them, however deep."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from ..bank import NewStream
from ..base import ZubretError
from ..container import Container, NewEntry
from ..locate import Spot
from ..locate.spot import IN, Step, check_step
from ..source import Built, FileSource, Source
from .account import Account
from .planned import EntryFile, StreamSwap
from .suspects import Suspect, suspects_of


@dataclass
class Changes:
    """What changes in an archive: the new contents of entries by their numbers, with what they were, and those that are added.
    loose: of a file that is a bank by itself, how it is rebuilt."""

    entries: dict[int, Source] = field(default_factory=dict)
    bases: dict[int, Source] = field(default_factory=dict)
    added: list[NewEntry] = field(default_factory=list)
    loose: Built | None = None


class Rebuilder:
    """Rebuilds an archive with the banks and archives in it that something goes into, and keeps the accounts of all
    levels but the outermost."""

    def __init__(self, tight: bool):
        self.tight = tight
        self.accounts: list[Account] = []
        self.suspects: list[Suspect] = []

    def changes(
        self, spot: Spot, swaps: Sequence[StreamSwap], files: Sequence[EntryFile], inside: tuple[Step, ...] = ()
    ) -> Changes:
        """What changes in an archive, with all that is in it. `spot` is what stands at `inside` of the swaps' locators and of the
        files."""
        archive, depth = spot.archive, len(inside)
        out = Changes()

        def change(index: int, content: Source, base: Source) -> None:
            for n in (index, *archive.sharing(index)):
                out.entries[n], out.bases[n] = content, base

        here = [f for f in files if len(f.inside) == depth]
        for file in here:
            if file.index is not None:
                check_step(archive, (file.path, file.index), str(file))
                change(file.index, FileSource(file.content), archive.open(file.index, spot.cache))
        for index in _next_entries(archive, swaps, files, depth):
            if index in out.entries:
                raise ZubretError(
                    "A stream in this entry is swapped, and the entry is replaced as a whole, too.",
                    file=f"{spot.name}{IN}{archive.label(index)}",
                    next="Remove the swap, or the file that takes the entry's place.",
                )
            step = (archive.entries[index].path, index)
            within = spot.entry(index)
            built = self._entry(
                within,
                [s for s in swaps if s.locator.entries[depth][1] == index],
                [f for f in files if len(f.inside) > depth and f.inside[depth][1] == index],
                (*inside, step),
            )
            self._note((*inside, step), built, within.source, not archive.is_plain(index))
            change(index, built.source, within.source)
            if archive.kind == "file":
                out.loose = built
                continue
            for companion, part in built.others.items():
                number, base = self._companion(spot, index, companion, part, inside)
                out.entries[number], out.bases[number] = part.source, base
        out.added = [NewEntry(f.path, FileSource(f.content)) for f in here if f.index is None]
        return out

    def archive(
        self, spot: Spot, swaps: Sequence[StreamSwap], files: Sequence[EntryFile], inside: tuple[Step, ...] = ()
    ) -> Built:
        """An archive with all that changes in it."""
        return self.written(spot, self.changes(spot, swaps, files, inside), inside)

    def written(self, spot: Spot, what: Changes, inside: tuple[Step, ...] = ()) -> Built:
        """The same, of changes that are worked out already."""
        whole = spot.archive.rebuild(what.entries, added=what.added, anew=self.tight)
        if what.loose is not None:  # a loose file is what is in it
            built = what.loose
            whole = Built(whole.source, built.segments, built.in_place, built.moved, built.others, built.unpacked)
        else:
            self._suspect(spot, whole)
        if not inside:
            self.note_parts((), whole)
        return whole

    def _companion(
        self, spot: Spot, index: int, name: str, part: Built, inside: tuple[Step, ...]
    ) -> tuple[int, Source]:
        """The number of the entry that is a rebuilt bank's companion, and its old bytes."""
        archive = spot.archive
        folder = archive.label(index).rpartition("/")[0]
        number = archive.index_of(f"{folder}/{name}" if folder else name)
        if number is None:
            raise ZubretError(
                f"{name}, which would be new, can't be put beside its bank.",
                file=archive.label(index),
                next="Shorten the swap.",
            )
        step = (archive.entries[number].path, number)
        base = archive.open(number, spot.cache, f"{spot.key}/{number}")
        self._note((*inside, step), part, base, not archive.is_plain(number))
        return number, base

    def _note(self, inside: tuple[Step, ...], built: Built, base: Source, read: bool) -> None:
        self.accounts.append(Account(built.source, base, inside, "", read))
        self.note_parts(inside, built)

    def note_parts(self, inside: tuple[Step, ...], built: Built) -> None:
        """Accounts of what is packed by itself in a file."""
        for part, (new, old) in built.unpacked.items():
            self.accounts.append(Account(new, old, inside, part))

    def _entry(self, spot: Spot, swaps: list[StreamSwap], files: list[EntryFile], inside: tuple[Step, ...]) -> Built:
        """The new bytes of an entry that is a bank with swapped streams, or an archive."""
        if files or len(swaps[0].locator.entries) > len(inside):
            return self.archive(spot, swaps, files, inside)
        new = {s.locator.ordinal: NewStream(FileSource(s.payload), s.format) for s in swaps}
        built = spot.bank.rebuild(new, anew=self.tight)
        self._suspect(spot, built)
        return built

    def _suspect(self, spot: Spot, built: Built) -> None:
        self.suspects += suspects_of(spot, built)


def _next_entries(archive: Container, swaps: Sequence[StreamSwap], files: Sequence[EntryFile], depth: int) -> list[int]:
    """The entries of an archive in which something changes further in; each has to be where it was found."""
    steps: dict[int, None] = {}
    for swap in swaps:
        check_step(archive, swap.locator.entries[depth], str(swap.locator))
        steps[swap.locator.entries[depth][1]] = None
    for file in files:
        if len(file.inside) > depth:
            check_step(archive, file.inside[depth], str(file))
            steps[file.inside[depth][1]] = None
    return list(steps)
