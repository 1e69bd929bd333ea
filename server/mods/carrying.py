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


@dataclass(frozen=True)
class Carried:
    """Which rows were carried over; how many were not, since the mod has another swap where they stand now."""

    rows: list[int]
    taken: int


def carry(judgement: Judgement, rows: QuerySet[Judged]) -> Carried:
    """Carry over what is judged and open, but for what is gone: takes go to where their stream is now, and files to their entry. What
    was made against the same payload stays as it is; all else is prepared, and where the format is another one, fitted. One
    step: `take_back` undoes it."""
    if not is_fresh(judgement):
        raise stopped(409, "The game was surveyed again since this was judged.", "Judge the mod again.")
    mod, anew = judgement.mod, dict[bool, list[int]]()
    with transaction.atomic():
        some = list(rows.filter(open=True).exclude(verdict=GONE).select_related("file"))
        moving = {row.was for row in some if row.swap_id}
        held = set(mod.takes().filter(locator__in=among([r.now for r in some])).values_list("locator", flat=True))
        free = [row for row in some if row.file_id or row.now in moving or row.now not in held]
        takes = _takes(mod, [row.was for row in free if row.swap_id])
        mod.takes().filter(locator__in=among(list(takes))).update(locator=Concat(Value("carried "), "locator"))
        for row in free:
            if row.file:
                row.before = {"inside": row.file.inside, "index": row.file.index}
                inside, index = json.loads(row.now)
                EntryFile.objects.filter(pk=row.file.pk).update(inside=inside, index=index)
                continue
            own = takes.get(row.was, [])
            row.before = {str(take.pk): {name: getattr(take, name) for name in KEPT} for take in own}
            for take in own:
                if take.source == STREAM and take.chosen:
                    take.source_locator = row.source
                take.locator = row.now
                if row.verdict not in SAFE:
                    take.payload_digest, take.original, take.original_level = "", None, None
                if row.verdict not in SAFE or not take.prepared:
                    take.prepared = take.report = take.error = None
                    take.state, take.revision = (Swap.PREPARING if take.chosen else Swap.HELD), take.revision + 1
                    if take.chosen:
                        anew.setdefault(row.verdict == FORMAT, []).append(take.pk)
                take.save(update_fields=[*KEPT, "revision"])
        for row in free:
            row.open = False
        Judged.objects.bulk_update(free, ["open", "before"], batch_size=500)
        Game.has_said(mod.game_id)
    for fit, swaps in anew.items():
        prepare_many(mod, swaps, Alike(fit=fit))
    return Carried([row.pk for row in free], len(some) - len(free))


def _takes(mod: Mod, locators: Collection[str]) -> dict[str, list[Swap]]:
    found: dict[str, list[Swap]] = {}
    for take in mod.takes().filter(locator__in=among(list(locators))):
        found.setdefault(take.locator, []).append(take)
    return found


def take_back(judgement: Judgement, numbers: list[int]) -> int:
    """Undo `carry` of some rows; how many. A result that is not there any more has to be prepared again."""
    with transaction.atomic():
        rows = list(rows_of(judgement).filter(pk__in=among(numbers), before__isnull=False).select_related("file"))
        found = Swap.objects.in_bulk([int(pk) for row in rows if row.swap_id for pk in row.before or {}])
        Swap.objects.filter(pk__in=among(list(found))).update(locator=Concat(Value("carried "), "locator"))
        for row in rows:
            before = row.before or {}
            if row.file:
                EntryFile.objects.filter(pk=row.file.pk).update(**before)
            else:
                for pk, values in before.items():
                    if int(pk) in found:
                        _as_before(found[int(pk)], values)
            row.open, row.before = True, None
        Judged.objects.bulk_update(rows, ["open", "before"], batch_size=500)
        Game.has_said(judgement.mod.game_id)
    return len(rows)


def _as_before(take: Swap, values: dict[str, Any]) -> None:
    for name, value in values.items():
        setattr(take, name, value)
    if take.prepared and not prepared_file(take).exists():
        take.prepared, take.state = None, Swap.HELD
    Swap.objects.filter(pk=take.pk).update(**{name: getattr(take, name) for name in KEPT}, revision=F("revision") + 1)
