"""Many swaps at once: streams put into a mod as they are, with a gain, equally loud, or as silence; takes that are treated alike and
prepared."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, field
from statistics import median
from typing import Any, ClassVar

from django.db import transaction
from django.db.models import F, QuerySet
from django.utils import timezone

from zubret_core.base import Progress, ZubretError
from zubret_core.codec import codec_of
from zubret_core.swap import ORIGINAL, SILENCE, Treatment
from zubret_core.swap.treatment import LUFS

from ..bulk import among
from ..errors import stopped
from ..games.models import Game
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from ..shelf.models import Stream, numbered, streams_of
from . import treating
from .entry_files import in_the_way
from .models import Mod, Swap
from .preparing import TRY_AGAIN, SideBySide, Task, forget_old_results, level_of_original, task_of
from .services import with_places
from .takes import choose_newest, let_wait

NONE = "none"
"""No swap: what the game has."""
NAMES = {ORIGINAL: "the original", SILENCE: "silence"}
"""What a swap begins from, as people read it."""
MOST = 5_000
"""Streams that are put in at once."""


@dataclass(frozen=True)
class PutIn:
    """The swaps that were made, and the takes that were chosen before them; how many streams were left out: skipped, since a file
    of the mod replaces their whole entry; unable, since their codec can't be written."""

    swaps: list[int]
    aside: list[int]
    skipped: int
    unable: int


def put_in(mod: Mod, chosen: list[int], source: str, steps: dict[str, Any]) -> PutIn:
    """Make swaps of streams of the newest survey, by their numbers, that begin from what the game has; one job prepares them.
    steps: of the treatment of the original. With `none` their swaps are removed, whatever takes they have."""
    if source not in (*NAMES, NONE):
        raise stopped(
            422, f"A swap can't begin from {source!r}.", f"Choose one of {', '.join((*NAMES, NONE))}.", "source"
        )
    how = Treatment.from_dict({**Treatment().as_dict(), **({} if source == SILENCE else steps)}).as_dict()
    rows = (
        numbered(Stream.objects.all(), chosen, mod.game.current_survey())
        .order_by("pk")
        .select_related("bank", "archive")
    )
    streams = list(rows[: MOST + 1])
    if len(streams) > MOST:
        raise stopped(422, f"More than {MOST:,} streams are chosen.", "Put them in by parts.", "chosen")
    files = list(mod.live_files())
    if source == NONE:
        return PutIn([], _removed(mod, [s.locator for s in streams]), 0, 0)
    able = [s for s in streams if not codec_of(s.format()).obstacle(s.format())]
    locators = [s.locator for s in able if not (files and in_the_way(files, s.where()))]
    if not locators:
        raise stopped(
            409,
            "None of these streams can be put into the mod.",
            "Choose streams of the newest survey whose codec can be written.",
            "chosen",
        )
    with transaction.atomic():
        aside = _chosen(mod, locators)
        let_wait(mod, locators)
        made = Swap.objects.bulk_create(
            Swap(mod=mod, locator=locator, source=source, source_name=NAMES[source], treatment=how)
            for locator in locators
        )
        Game.has_said(mod.game_id)
    numbers = [swap.pk for swap in made]
    prepare_many(mod, numbers)
    return PutIn(numbers, aside, len(able) - len(locators), len(streams) - len(able))


def _chosen(mod: Mod, locators: list[str]) -> list[int]:
    """The chosen takes of streams."""
    return list(mod.live_swaps().filter(locator__in=among(locators)).values_list("pk", flat=True))


def _removed(mod: Mod, locators: list[str]) -> list[int]:
    """Remove the swaps of streams with all their takes; the chosen ones."""
    with transaction.atomic():
        aside = _chosen(mod, locators)
        mod.takes().filter(locator__in=among(locators)).update(removed=timezone.now())
        Game.has_said(mod.game_id)
    return aside


def prepare_many(mod: Mod, swaps: list[int], how: Alike | None = None) -> Job:
    """Have the worker prepare swaps, one after the other; how they are treated first, if they are."""
    return start(PrepareMany(swaps, how or Alike()), f"Preparing {len(swaps):,} swaps", mod.game)


def prepare(mod: Mod, swaps: list[int], how: Alike) -> Job:
    """The same of takes of a mod, which wait meanwhile."""
    Treatment.from_dict(how.steps)
    own = mod.takes().filter(pk__in=among(swaps))
    numbers = list(own.values_list("pk", flat=True)[:MOST])
    if not numbers:
        raise stopped(409, "None of these swaps is there any more.", "Choose others.", "swaps")
    own.filter(pk__in=among(numbers)).update(
        state=Swap.PREPARING, prepared=None, error=None, revision=F("revision") + 1
    )
    return prepare_many(mod, numbers, how)


def of_streams(mod: Mod, chosen: list[int]) -> list[int]:
    """The takes that a mod has of streams, by their numbers."""
    streams = numbered(Stream.objects.all(), chosen, mod.game.current_survey())
    return list(mod.live_swaps().filter(locator__in=streams.values("locator")).values_list("pk", flat=True))


def take_back(mod: Mod, swaps: list[int], aside: list[int]) -> int:
    """Undo `put_in`: its swaps go, and the takes that were chosen before are chosen again, unless others are since; how many
    went."""
    with transaction.atomic():
        gone = mod.live_swaps().filter(pk__in=among(swaps)).update(removed=timezone.now())
        before = mod.swaps.filter(pk__in=among(aside)).exclude(locator__in=mod.live_swaps().values("locator"))
        times = set(before.filter(removed__isnull=False).values_list("removed", flat=True))
        streams = list(before.values_list("locator", flat=True))
        numbers = list(before.values_list("pk", flat=True))
        mod.swaps.filter(removed__in=times, locator__in=among(streams)).update(removed=None)
        mod.swaps.filter(pk__in=among(numbers)).update(chosen=True)
        choose_newest(mod, list(mod.swaps.filter(pk__in=among(swaps)).values_list("locator", flat=True)))
        Game.has_said(mod.game_id)
    return gone


@dataclass(frozen=True)
class Alike:
    """How many swaps are treated before they are prepared: steps are changed, and what each one's report proposes is done (fit),
    brought to the median loudness of the originals of all (median); or their last step is undone (back)."""

    steps: dict[str, Any] = field(default_factory=dict)
    fit: bool = False
    back: bool = False
    median: bool = False


@dataclass(frozen=True)
class PrepareMany(Order):
    """Prepare swaps, by their numbers, and how they are treated first."""

    kind: ClassVar[str] = "prepare many"
    swaps: list[int]
    how: Alike = Alike()


@dataclass(frozen=True)
class ManyPrepared:
    """How many came to an end, and how many of them failed."""

    swaps: int
    failed: int


def _settle(job: Job, order: PrepareMany, result: ManyPrepared | None) -> None:
    """Swaps do not go on waiting for a job that came to no end: each says so, and can be tried again."""
    if result is not None:
        return
    error = job.error or {"what": "Preparing was cancelled.", "where": "", "next": ""}
    _waiting(order).update(state=Swap.FAILED, error={**error, "next": TRY_AGAIN}, prepared=None)


def _waiting(order: PrepareMany) -> QuerySet[Swap]:
    return Swap.objects.filter(pk__in=among(order.swaps), state__in=(Swap.READING, Swap.PREPARING))


def _median(swaps: list[int], progress: Progress) -> dict[str, Any]:
    """Steps to the median loudness of the originals, each as lines are compared; none where nothing can be measured."""
    found: list[float] = []
    for n, number in enumerate(swaps):
        progress(0, len(swaps) * 1000, f"measuring original {n + 1:,} of {len(swaps):,}")
        swap = Swap.objects.select_related("mod__game").filter(pk=number).first()
        with suppress(ZubretError):  # its preparing will say it
            level = level_of_original(swap) if swap else None
            if level and (loudness := level.loudness(level.short)) is not None:
                found.append(loudness)
    if not found:
        return {}
    lufs = max(LUFS[0], min(LUFS[1], round(median(found), 1)))
    return {"match": "number", "lufs": lufs}


class _Ahead:
    """Swaps with their streams in the newest survey, read some at once in their order; one that is asked for again is read anew."""

    AT_ONCE = 100

    def __init__(self, swaps: list[int]):
        self._left = swaps
        self._read: dict[int, tuple[Swap, Stream | None]] = {}

    def of(self, number: int) -> tuple[Swap | None, Stream | None]:
        """A swap that is there still, and its stream, if the survey has it."""
        if self._left[:1] == [number]:
            some, self._left = self._left[: self.AT_ONCE], self._left[self.AT_ONCE :]
            self._read = _with_streams(some)
        if number in self._read:
            return self._read.pop(number)
        return _with_streams([number]).get(number, (None, None))


def _with_streams(swaps: list[int]) -> dict[int, tuple[Swap, Stream | None]]:
    found = list(Swap.objects.select_related("mod__game").filter(pk__in=among(swaps), removed__isnull=True))
    games = {swap.mod.game_id: swap.mod.game for swap in found}
    rows = {
        (number, row.locator): row
        for number, game in games.items()
        for row in with_places(streams_of(game).filter(locator__in=among([swap.locator for swap in found])))
    }
    return {swap.pk: (swap, rows.get((swap.mod.game_id, swap.locator))) for swap in found}


@work("long", _settle)
def prepare_swaps(job: Job, order: PrepareMany, progress: Progress) -> ManyPrepared:
    """Prepare all that wait; one that can't be keeps its reason, and the others go on."""
    swaps = list(_waiting(order).filter(removed__isnull=True).order_by("pk").values_list("pk", flat=True))
    failed, how = set[int](), order.how
    steps = {**how.steps, **(_median(swaps, progress) if how.median else {})}

    def begin(number: int) -> tuple[Swap, Task] | None:
        swap, row = ahead.of(number)
        if swap is None:  # taken back meanwhile
            return None
        if how.back and swap.undos and number not in stepped:
            stepped.add(number)
            treating.step_back(swap)
        return swap, task_of(swap, row, steps, how.fit)

    def fail(number: int, error: ZubretError) -> None:
        failed.add(number)
        Swap.objects.filter(pk=number).update(state=Swap.FAILED, error=error.as_dict(), prepared=None)

    stepped, ahead = set[int](), _Ahead(swaps)
    SideBySide(begin, fail).prepare(swaps, progress)
    for mod in Mod.objects.filter(swaps__in=among(swaps)).distinct():
        forget_old_results(mod)
    return ManyPrepared(len(swaps), len(failed))
