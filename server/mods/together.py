"""Several mods of a game as one: which take part, in which order, and who wins what two of them want.

Of mods that swap the same stream, or put a file in the place of the same entry, the later one wins, unless somebody has turned that
round for this stream. Mods that swap different streams of one bank are merged: a rebuild sees streams, not banks.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from zubret_core.install.files import link_or_copy
from zubret_core.locate.spot import IN
from zubret_core.source import PART

from ..errors import one, stopped
from ..games.models import Game
from ..shelf.models import unpack_locator
from .models import EntryFile, Mod, Swap, Turn
from .uploads import mod_folder

HEAVY = ("info", "report", "treatment", "original_level")
"""Of a swap, what nobody asks for who rebuilds."""


def mods_of(game: Game) -> QuerySet[Mod]:
    """A game's mods that have not been removed, in their order."""
    return game.mods.filter(removed__isnull=True).order_by("place", "id")


def live_mod(number: int) -> Mod:
    """A mod that has not been removed, with its game; a 404 where there is none."""
    return one(Mod.objects.filter(removed__isnull=True).select_related("game"), number)


def current_mod(game: Game) -> Mod:
    """The mod that is worked on."""
    mod = mods_of(game).order_by("-current", "place", "id").first()
    assert mod is not None, "a game has a mod from its first day"
    return mod


@dataclass(frozen=True)
class Conflict:
    """A stream that several mods swap, by its locator: their swaps in the order of the mods, and which one wins; turned: somebody has
    said so."""

    locator: str
    swaps: tuple[Swap, ...]
    winner: Swap
    turned: bool


Entry = tuple[str, tuple[tuple[str, int | None], ...]]
"""A file of the game, and the entries on the way to one in it, that one at the end."""


@dataclass(frozen=True)
class Overlap:
    """An entry that one mod replaces as a whole, and another one as well, or in part: where it is; the mods, in their order, each with
    how many of its streams it swaps (0: all of it is replaced); the numbers of those that win, by the order."""

    place: str
    mods: tuple[tuple[Mod, int], ...]
    wins: set[int]


@dataclass(frozen=True)
class Together:
    """Mods of one game that are rebuilt as one, in their order."""

    game: Game
    mods: tuple[Mod, ...]

    @classmethod
    def used(cls, game: Game) -> Together:
        """All that are on."""
        return cls(game, tuple(mods_of(game).filter(used=True)))

    @classmethod
    def numbered(cls, game: Game, numbers: Sequence[int]) -> Together:
        """Those with some numbers, as far as they are still there."""
        known = {mod.pk: mod for mod in mods_of(game).filter(pk__in=numbers)}
        return cls(game, tuple(known[n] for n in numbers if n in known))

    @property
    def numbers(self) -> list[int]:
        """Of the mods."""
        return [mod.pk for mod in self.mods]

    @property
    def name(self) -> str:
        """In words."""
        return " + ".join(mod.name for mod in self.mods) or "no mod"

    @cached_property
    def _wanted(self) -> dict[str, list[Swap]]:
        """The swaps of each stream, in the order of the mods."""
        found = defaultdict(list)
        order = self._order
        rows = Swap.objects.filter(mod__in=self.mods, removed__isnull=True, chosen=True).defer(*HEAVY)
        for swap in sorted(rows, key=lambda s: (order[s.mod_id], s.pk)):
            swap.mod = self.mods[order[swap.mod_id]]
            found[swap.locator].append(swap)
        return found

    @cached_property
    def _turns(self) -> dict[str, int]:
        return dict(Turn.objects.filter(game=self.game).values_list("locator", "mod"))

    def conflicts(self) -> list[Conflict]:
        """The streams that several of them swap."""
        return [
            Conflict(locator, tuple(swaps), self._winner(locator), locator in self._turns)
            for locator, swaps in self._wanted.items()
            if len(swaps) > 1
        ]

    def _winner(self, locator: str) -> Swap:
        swaps = self._wanted[locator]
        return next((s for s in swaps if s.mod_id == self._turns.get(locator)), swaps[-1])

    @cached_property
    def _order(self) -> dict[int, int]:
        return {mod.pk: n for n, mod in enumerate(self.mods)}

    @cached_property
    def _whole(self) -> dict[Entry, list[EntryFile]]:
        """The files for whole entries, in the order of the mods, by the entry."""
        found = defaultdict[Entry, list[EntryFile]](list)
        for mod in self.mods:
            for file in mod.live_files():
                steps = (*((path, n) for path, n in file.inside), (file.path, file.index))
                found[file.archive, steps].append(file)
        return found

    @cached_property
    def _within(self) -> dict[Entry, list[Swap]]:
        """Of entries for which there are files: the swaps of the streams that stand in them, those that win."""
        found = defaultdict[Entry, list[Swap]](list)
        for locator in self._wanted if self._whole else ():
            where = unpack_locator(locator)
            for n in range(1, len(where.entries) + 1):
                if (key := (where.archive, where.entries[:n])) in self._whole:
                    found[key].append(self._winner(locator))
        return found

    @cached_property
    def _kept(self) -> dict[Entry, EntryFile]:
        """The file that wins each entry: the last one, unless a later mod swaps a stream in there."""
        return {
            key: files[-1]
            for key, files in self._whole.items()
            if all(self._order[s.mod_id] <= self._order[files[-1].mod_id] for s in self._within.get(key, ()))
        }

    @property
    def files(self) -> list[EntryFile]:
        """The files for whole entries that win."""
        return list(self._kept.values())

    @cached_property
    def swaps(self) -> list[Swap]:
        """The swap of each stream that wins, oldest first; none of a stream whose whole entry another mod's file replaces."""
        over = {s.pk for key in self._kept for s in self._within.get(key, ()) if s.mod_id != self._kept[key].mod_id}
        return sorted((s for s in map(self._winner, self._wanted) if s.pk not in over), key=lambda s: s.pk)

    def overlaps(self) -> list[Overlap]:
        """The entries that one mod replaces as a whole and another one, too, or in which it swaps streams."""
        out = []
        for key, files in self._whole.items():
            mods = {file.mod_id for file in files} | {s.mod_id for s in self._within.get(key, ())}
            if len(mods) > 1:
                streams = Counter(s.mod_id for s in self._within.get(key, ()))
                kept = self._kept.get(key)
                wins = {kept.mod_id} if kept else set(streams)
                out.append(
                    Overlap(
                        f"{files[0].shown_in}{IN}{files[0].label}",
                        tuple((mod, streams[mod.pk]) for mod in self.mods if mod.pk in mods),
                        wins,
                    )
                )
        return out

    def made_of(self) -> dict[str, str | None]:
        """What a rebuild would take now: the digest of every swap's result and of every file."""
        swaps = {str(s.pk): (s.prepared or {}).get("digest") for s in self.swaps}
        return swaps | {f"file {f.pk}": f.digest for f in self.files}


def new_mod(game: Game, name: str) -> Mod:
    """A mod behind all others; it is the one that is worked on from now on."""
    with transaction.atomic():
        last = mods_of(game).order_by("place").last()
        mod = Mod.objects.create(game=game, name=name, place=last.place + 1 if last else 0)
        choose(mod)
    return mod


def copied(mod: Mod, name: str, game: Game | None = None) -> Mod:
    """A new mod with the swaps and files of another, for its own game or another build of it; both go on by themselves. The files are
    linked, where the disk can."""
    own = {f: getattr(mod, f) for f in ("version", "author", "licence", "note", "picture")}
    new = new_mod(game or mod.game, name)
    Mod.objects.filter(pk=new.pk).update(**own)
    old_folder, folder = mod_folder(mod), mod_folder(new)
    for place in old_folder.rglob("*"):
        if place.is_file() and not place.name.endswith(PART):
            twin = folder / place.relative_to(old_folder)
            twin.parent.mkdir(parents=True, exist_ok=True)
            link_or_copy(place, twin)
    with transaction.atomic():
        rows: list[Swap | EntryFile] = [*mod.takes(), *mod.live_files()]
        for row in rows:
            row.pk, row.mod, row._state.adding = None, new, True
            if row.source_path:
                row.source_path = str(folder / Path(row.source_path).relative_to(old_folder))
            if isinstance(row, Swap):
                row.step = row.undos = row.redos = 0
                if row.state in (Swap.READING, Swap.PREPARING):
                    row.state = Swap.HELD
            row.save()
    return new


def choose(mod: Mod) -> None:
    """Work on this mod."""
    with transaction.atomic():
        Mod.objects.filter(game=mod.game_id).exclude(pk=mod.pk).update(current=False)
        Mod.objects.filter(pk=mod.pk).update(current=True)


def arrange(game: Game, numbers: Sequence[int]) -> None:
    """Put a game's mods into an order, in which each stands once."""
    known = set(mods_of(game).values_list("pk", flat=True))
    if sorted(numbers) != sorted(known):
        raise stopped(
            409, "These are not the mods of this game any more.", "Look at the list again, then arrange them."
        )
    with transaction.atomic():
        for place, number in enumerate(numbers):
            Mod.objects.filter(pk=number).update(place=place)


def remove(mod: Mod) -> None:
    """Take a mod away; it can be brought back. The last one stays."""
    others = mods_of(mod.game).exclude(pk=mod.pk)
    if not others.exists():
        raise stopped(409, "This is the only mod of the game.", "Make another one first, or remove its swaps.")
    with transaction.atomic():
        Mod.objects.filter(pk=mod.pk).update(removed=timezone.now(), current=False)
        if mod.current:
            choose(others.order_by("place", "id")[0])


def bring_back(mod: Mod) -> None:
    """Undo a removal."""
    Mod.objects.filter(pk=mod.pk).update(removed=None)


def turn(game: Game, locator: str, mod: Mod | None) -> None:
    """Have a mod win a stream, whatever the order says; None: the order decides again."""
    if mod is None:
        Turn.objects.filter(game=game, locator=locator).delete()
        return
    if not mod.live_swaps().filter(locator=locator).exists():
        raise stopped(409, "This mod does not swap the stream any more.", "Look at the list again.")
    Turn.objects.update_or_create(game=game, locator=locator, defaults={"mod": mod})
