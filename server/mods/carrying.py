"""A mod in a new build of its game: what became of each stream that it swaps and of each entry that it replaces, and carrying them
over. The core judges (`zubret_core.locate.carry`); a survey tells what there is.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import Any, ClassVar

from django.db import transaction
from django.db.models import Count, Exists, F, OuterRef, Q, QuerySet, Value
from django.db.models.functions import Concat

from zubret_core.base import Format, Progress, ZubretError
from zubret_core.base.wording import spaced
from zubret_core.locate import Locator
from zubret_core.locate.carry import CHANGED, FORMAT, GONE, MOVED, SAFE, SAME, Is, Streams, Was
from zubret_core.swap import STREAM

from ..bulk import among, bulk_insert
from ..errors import stopped
from ..games.models import Game, Survey
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from ..shelf import models as shelf
from ..shelf.models import Archive, Entry, Stream, format_of, seen_by, streams_in, unpack_locator
from ..shelf.sound import open_original
from .many import Alike, prepare_many
from .models import EntryFile, Judged, Judgement, Mod, Swap
from .preparing import payload_digest
from .services import prepared_file, with_places

VERDICTS = {
    SAME: "same",
    MOVED: "moved",
    CHANGED: "original changed",
    FORMAT: "format changed",
    GONE: "gone",
}
"""What became of a stream, as people read it."""
KEPT = (
    "locator",
    "source_locator",
    "payload_digest",
    "state",
    "prepared",
    "report",
    "original",
    "original_level",
    "error",
)
"""Of a take, what carrying over may change."""


def lost(game: Game) -> dict[int, int]:
    """How many streams each mod of a game swaps that the newest survey does not have where the mod knows them."""
    there = Stream.objects.filter(seen_by(game.current_survey()), locator=OuterRef("locator"))
    live = Swap.objects.filter(mod__game=game, mod__removed__isnull=True, removed__isnull=True, chosen=True)
    return dict(live.filter(~Exists(there)).order_by().values_list("mod").annotate(Count("pk")))


def is_fresh(judgement: Judgement) -> bool:
    """Whether it was made with the game's newest survey."""
    survey = judgement.mod.game.current_survey()
    return survey is not None and judgement.survey == survey.pk


def rows_of(judgement: Judgement) -> QuerySet[Judged]:
    """What was judged and is still part of the mod."""
    there = Q(swap__removed__isnull=True, swap__isnull=False) | Q(file__removed__isnull=True, file__isnull=False)
    return judgement.rows.filter(there).order_by("pk")


@dataclass(frozen=True)
class JudgeOrder(Order):
    """Judge a mod against the newest survey of its game, by its number."""

    kind: ClassVar[str] = "judge"
    mod: int


@dataclass(frozen=True)
class JudgeResult:
    """How many streams and entries were judged."""

    rows: int


def start_judging(mod: Mod) -> Job:
    """As a job; one that judges the same mod takes its place."""
    if mod.game.current_survey() is None:
        raise stopped(409, "This game has no survey yet.", "Survey it first.")
    return start(JudgeOrder(mod.pk), f"Judging {mod.name}", mod.game, Job.OPEN, ("mod",))


@work("long")
def judge_mod(job: Job, order: JudgeOrder, progress: Progress) -> JudgeResult:
    """The rows of a judgement, which take the place of those before."""
    mod = Mod.objects.select_related("game").filter(pk=order.mod, removed__isnull=True).first()
    survey = mod.game.current_survey() if mod else None
    if mod is None or survey is None:
        raise ZubretError("The mod or the survey is not there any more.", next="Look at the list of mods.")
    rows = [*_judge_swaps(mod, survey, progress), *_judge_files(mod, survey)]
    with transaction.atomic():
        Judged.objects.filter(judgement__mod=mod).delete()
        judgement, _ = Judgement.objects.update_or_create(mod=mod, defaults={"survey": survey.pk})
        for _ in bulk_insert(Judged, Judged.BULK, ((judgement.pk, *row) for row in rows)):
            pass
    return JudgeResult(len(rows))


Row = tuple[int | None, int | None, str, str, str, str, int | None, str, bool]
"""The columns of a row behind its judgement."""


def _judge_swaps(mod: Mod, survey: Survey, progress: Progress) -> Iterator[Row]:
    swaps = list(mod.live_swaps().only("locator", "payload_digest", "original", "source", "source_locator"))
    known = [_known(swap) for swap in swaps]
    sources = [unpack_locator(s.source_locator) for s in swaps if s.source == STREAM]
    progress(0, len(swaps), f"looking for {spaced(len(swaps))} streams")
    build = Streams(_candidates(survey, known, sources), _read)
    for swap, was, verdict in zip(swaps, known, build.judge_all(known, progress), strict=True):
        kind, detail, source = verdict.kind, verdict.detail, ""
        if swap.source == STREAM and kind != GONE:
            other = build.at(unpack_locator(swap.source_locator))
            source = _text(other.where) if other else ""
            if other is None:
                kind, detail = GONE, "the stream that it begins from is gone"
        now = _text(verdict.now.where) if verdict.now and kind != GONE else ""
        settled = kind == SAME and now == swap.locator and source == swap.source_locator
        yield swap.pk, None, kind, swap.locator, now, source, was.stored, detail[:1000], not settled


def _known(swap: Swap) -> Was:
    own = swap.original or {}
    return Was(
        unpack_locator(swap.locator),
        swap.payload_digest,
        Format.from_dict(own["format"]) if own else None,
        own.get("stored"),
    )


def _text(where: Locator) -> str:
    return shelf.pack_locator(where.archive, where.entries, where.stream_id, where.ordinal)


def _candidates(survey: Survey, known: list[Was], sources: list[Locator]) -> Iterator[Is]:
    """The streams of a survey with an id, with the size, or with the place of one that is looked for: in one pass over all of them,
    since a survey has no index by any of these."""
    places = [was.where for was in known] + sources
    ids = {where.stream_id for where in places if where.stream_id}
    sizes = {was.stored for was in known if was.stored is not None}
    nameless = [where for where in places if not where.stream_id]
    files, ordinals = {where.archive for where in nameless}, {where.ordinal for where in nameless}
    alike = Q(stream_id__in=among(ids)) | Q(stored__in=among(sizes))
    if nameless:
        in_file = Q(archive__path__in=among(files)) | Q(archive__outer__path__in=among(files))
        alike |= Q(stream_id="", ordinal__in=among(ordinals)) & in_file
    rows = streams_in(survey).filter(alike).values_list("pk", "locator", "stored", *shelf.FORMAT)
    for number, locator, stored, *format in rows.iterator():
        yield Is(number, unpack_locator(locator), format_of(*format), stored)


def _read(stream: Is) -> str:
    row = with_places(Stream.objects.filter(pk=stream.number)).get()
    return payload_digest(open_original(row).payload)


def _judge_files(mod: Mod, survey: Survey) -> Iterator[Row]:
    """Entries that files replace, and archives that take a new one, by their paths."""
    archives = Archive.objects.filter(seen_in__survey=survey)
    for file in mod.live_files():
        archive = archives.filter(path=file.shown_in).first()
        entry, detail = None, "no such archive"
        if archive and file.index is not None:
            found = list(Entry.objects.filter(archive=archive, path=file.label).only("ordinal"))
            entry, detail = min(found, key=lambda e: abs(e.ordinal - (file.index or 0)), default=None), "no such entry"
        if archive is None or (entry is None and file.index is not None):
            yield None, file.pk, GONE, "", "", "", None, detail, True
            continue
        number = entry.ordinal if entry else None
        settled = archive.chain == file.inside and number == file.index
        yield None, file.pk, SAME, "", json.dumps([archive.chain, number]), "", None, "", not settled


AT_ONCE = 50
"""Rows that are carried over in one transaction: others write meanwhile."""


@dataclass(frozen=True)
class CarryOrder(Order):
    """Carry over all that is safe in a mod, and some rows of its judgement; or (back) undo that of some rows."""

    kind: ClassVar[str] = "carry"
    mod: int
    safe: bool
    rows: list[int]
    back: bool = False


@dataclass(frozen=True)
class Carried:
    """Which rows were carried over, or back; how many were not, since the mod has another swap where they stand now."""

    rows: list[int]
    taken: int
    back: bool


def start_carrying(judgement: Judgement, rows: list[int], safe: bool = False, back: bool = False) -> Job:
    """As a job; refused where the game was surveyed again since."""
    if not back and not is_fresh(judgement):
        raise stopped(409, "The game was surveyed again since this was judged.", "Judge the mod again.")
    if back:
        _check_free(judgement, _undone(judgement, rows))
    mod = judgement.mod
    return start(CarryOrder(mod.pk, safe, rows, back), f"{'Back' if back else 'Carrying over'}: {mod.name}", mod.game)


@work("long")
def carry_over(job: Job, order: CarryOrder, progress: Progress) -> Carried:
    """Takes go to where their stream is now, and files to their entry; what is gone stays. What was made against the same payload is
    kept as it is; all else is prepared, and where the format is another one, fitted."""
    judgement = Judgement.objects.select_related("mod__game").filter(mod=order.mod).first()
    if judgement is None:
        raise ZubretError("The mod is not judged any more.", next="Judge it again.")
    if order.back:
        return Carried(_back(judgement, order.rows, progress), 0, True)
    chosen = Q(pk__in=among(order.rows)) | (Q(verdict__in=SAFE) if order.safe else Q())
    some = list(rows_of(judgement).filter(chosen, open=True).exclude(verdict=GONE).select_related("file"))
    free, anew, carried = _free(judgement.mod, some), dict[bool, list[int]](), list[int]()
    try:
        for rows in _by_parts(free):
            progress(len(carried), len(free), f"{spaced(len(carried))} of {spaced(len(free))} carried over")
            _carry(judgement.mod, rows, anew)
            carried += [row.pk for row in rows]
    finally:
        for fit, swaps in anew.items():
            prepare_many(judgement.mod, swaps, Alike(fit=fit))
    return Carried(carried, len(some) - len(free), False)


def _by_parts(rows: list[Judged]) -> Iterator[list[Judged]]:
    """First, together, those that change places with each other; then some at a time."""
    was, now = {row.was for row in rows if row.swap_id}, {row.now for row in rows if row.swap_id}
    chained = [row for row in rows if row.swap_id and (row.now in was or row.was in now)]
    others = [row for row in rows if row.file_id or not (row.now in was or row.was in now)]
    if chained:
        yield chained
    yield from (others[n : n + AT_ONCE] for n in range(0, len(others), AT_ONCE))


def _carry(mod: Mod, rows: list[Judged], anew: dict[bool, list[int]]) -> None:
    """Carry over some rows; anew gets the takes that are to be prepared, by whether they are to be fitted."""
    with transaction.atomic():
        takes = _takes(mod, [row.was for row in rows if row.swap_id])
        mod.takes().filter(locator__in=among(list(takes))).update(locator=Concat(Value("carried "), "locator"))
        for row in rows:
            if row.file:
                row.before = {"inside": row.file.inside, "index": row.file.index}
                inside, index = json.loads(row.now)
                EntryFile.objects.filter(pk=row.file.pk).update(inside=inside, index=index)
            else:
                row.before = {}
                for take in takes.get(row.was, []):
                    row.before[str(take.pk)] = {name: getattr(take, name) for name in KEPT}
                    _moved(take, row)
                    take.save(update_fields=[*KEPT, "revision"])
                    if take.state == Swap.PREPARING:
                        anew.setdefault(row.verdict == FORMAT, []).append(take.pk)
            row.open = False
        Judged.objects.bulk_update(rows, ["open", "before"])
        Game.has_said(mod.game_id)


def _moved(take: Swap, row: Judged) -> None:
    """A take as it is where its stream is now."""
    if take.source == STREAM and take.chosen:
        take.source_locator = row.source
    take.locator = row.now
    if row.verdict not in SAFE:
        take.payload_digest, take.original, take.original_level = "", None, None
    if row.verdict not in SAFE or not take.prepared:
        take.prepared = take.report = take.error = None
        take.state, take.revision = (Swap.PREPARING if take.chosen else Swap.HELD), take.revision + 1


def _free(mod: Mod, rows: list[Judged]) -> list[Judged]:
    """The rows whose stream stands where the mod has no other swap, or only one that goes away, too."""
    held = set(mod.takes().filter(locator__in=among([r.now for r in rows])).values_list("locator", flat=True))
    while True:
        moving = {row.was for row in rows if row.swap_id}
        free = [row for row in rows if row.file_id or row.now in moving or row.now not in held]
        if len(free) == len(rows):
            return free
        rows = free


def _takes(mod: Mod, locators: Collection[str]) -> dict[str, list[Swap]]:
    found: dict[str, list[Swap]] = {}
    for take in mod.takes().filter(locator__in=among(list(locators))):
        found.setdefault(take.locator, []).append(take)
    return found


def _undone(judgement: Judgement, numbers: list[int]) -> list[Judged]:
    """The rows among some that were carried over."""
    return list(rows_of(judgement).filter(pk__in=among(numbers), before__isnull=False).select_related("file"))


def _check_free(judgement: Judgement, rows: list[Judged]) -> None:
    """An error where something has taken the place in which one of these was."""
    own = {int(pk): values["locator"] for row in rows if row.swap_id for pk, values in (row.before or {}).items()}
    there = judgement.mod.takes().filter(locator__in=among(list(own.values())))
    if there.exclude(pk__in=among(list(own))).exists():
        raise stopped(409, "Another swap stands where one of these was.", "Undo first what was carried there.")


def _back(judgement: Judgement, numbers: list[int], progress: Progress) -> list[int]:
    """Undo carrying over. A result that is not there any more has to be prepared again."""
    rows, done = _undone(judgement, numbers), list[int]()
    _check_free(judgement, rows)
    for row in rows:  # seen from where they are now, they go the other way
        row.was, row.now = row.now, row.was
    for part in _by_parts(rows):
        progress(len(done), len(rows), f"{spaced(len(done))} of {spaced(len(rows))} taken back")
        with transaction.atomic():
            found = Swap.objects.in_bulk([int(pk) for row in part if row.swap_id for pk in row.before or {}])
            Swap.objects.filter(pk__in=among(list(found))).update(locator=Concat(Value("carried "), "locator"))
            for row in part:
                before = row.before or {}
                if row.file:
                    EntryFile.objects.filter(pk=row.file.pk).update(**before)
                else:
                    for pk, values in before.items():
                        if int(pk) in found:
                            _as_before(found[int(pk)], values)
                row.open, row.before = True, None
            Judged.objects.bulk_update(part, ["open", "before"])
            Game.has_said(judgement.mod.game_id)
        done += [row.pk for row in part]
    return done


def _as_before(take: Swap, values: dict[str, Any]) -> None:
    for name, value in values.items():
        setattr(take, name, value)
    if take.prepared and not prepared_file(take).exists():
        take.prepared, take.state = None, Swap.HELD
    Swap.objects.filter(pk=take.pk).update(**{name: getattr(take, name) for name in KEPT}, revision=F("revision") + 1)
