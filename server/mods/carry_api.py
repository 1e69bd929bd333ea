"""A mod in a new build of its game, in the API: what became of what it changes, and carrying it over."""

from __future__ import annotations

import datetime
from typing import Annotated, Any

from django.db.models import Count, Max, Q, QuerySet
from django.http import HttpRequest
from ninja import Field, Router, Schema

from zubret_core.locate.carry import SAFE

from ..bulk import among
from ..errors import stopped
from ..games.models import Survey
from ..jobs.api import JobOut
from ..paging import Limit, Offset
from ..shelf.models import Stream, streams_of
from . import carrying
from .models import Judged, Judgement, Mod
from .together import live_mod

router = Router()


class VerdictOut(Schema):
    """A verdict, and it as people read it; rows: how many have it; open: at how many of these something is left to do; safe: their
    replacements hold as they are."""

    verdict: str
    label: str
    rows: int
    open: int
    safe: bool


class JudgedOut(Schema):
    """What became of one stream that a mod swaps, or of one entry that it replaces. place: where it stood; now: the number of its
    stream, null for an entry and for what is gone; old: the number of the original in another game of the library, if that is still
    there, and old_game: that game's; swap: its take, file: the file for an entry; source_name: what replaces it; open: something is left to
    do; carried: it was carried over."""

    id: int
    verdict: str
    label: str
    place: str
    detail: str
    swap: int | None
    file: int | None
    source_name: str
    state: str
    now: int | None
    old: int | None
    old_game: int | None
    open: bool
    carried: bool


class JudgementOut(Schema):
    """What became of what a mod changes. made: when it was judged, null where it was not; fresh: with the newest survey; lost: streams
    that the newest survey does not have where the mod knows them; verdicts, and a page of the rows with their number."""

    made: datetime.datetime | None
    fresh: bool
    lost: int
    verdicts: list[VerdictOut]
    rows: list[JudgedOut]
    total: int


class CarryIn(Schema):
    """What is carried over: all that is safe, or rows by their numbers."""

    safe: bool = False
    rows: Annotated[list[int], Field(max_length=100_000)] = []


class BackIn(Schema):
    """The rows that are as they were before they were carried over."""

    rows: Annotated[list[int], Field(max_length=100_000)]


def _judgement(mod: Mod) -> Judgement:
    found = Judgement.objects.filter(mod=mod).select_related("mod__game").first()
    if found is None:
        raise stopped(409, "This mod has not been judged yet.", "Judge it first.", mod.name)
    return found


@router.get("/mods/{int:mod_id}/judgement", response=JudgementOut)
def judgement(
    request: HttpRequest, mod_id: int, verdict: str = "", left: bool = False, offset: Offset = 0, limit: Limit = 100
):
    """What became of what a mod changes in the newest build of its game; of one verdict, or only what is left to do."""
    mod = live_mod(mod_id)
    lost = carrying.lost(mod.game).get(mod.pk, 0)
    found = Judgement.objects.filter(mod=mod).select_related("mod__game").first()
    if found is None:
        return {"made": None, "fresh": False, "lost": lost, "verdicts": [], "rows": [], "total": 0}
    rows = carrying.rows_of(found)
    counted = rows.order_by().values("verdict").annotate(number=Count("pk"), left=Count("pk", filter=Q(open=True)))
    counts = {kind: (number, left) for kind, number, left in counted.values_list("verdict", "number", "left")}
    chosen = rows.filter(**({"verdict": verdict} if verdict else {}), **({"open": True} if left else {}))
    return {
        "made": found.made,
        "fresh": carrying.is_fresh(found),
        "lost": lost,
        "verdicts": [
            {
                "verdict": kind,
                "label": label,
                "rows": counts.get(kind, (0, 0))[0],
                "open": counts.get(kind, (0, 0))[1],
                "safe": kind in SAFE,
            }
            for kind, label in carrying.VERDICTS.items()
        ],
        "rows": _rows(mod, chosen.select_related("swap", "file")[offset : offset + limit]),
        "total": chosen.count(),
    }


def _rows(mod: Mod, some: QuerySet[Judged]) -> list[dict[str, Any]]:
    """A page of rows, with the streams that they name."""
    page = list(some)
    there = streams_of(mod.game).filter(locator__in=among([r.now for r in page if r.swap_id]))
    here = dict(there.values_list("locator", "pk"))
    newest = (
        Survey.objects.filter(finished__isnull=False, game__forgotten__isnull=True)
        .exclude(game=mod.game_id)
        .order_by()
        .values("game")
        .annotate(newest=Max("pk"))
        .values("newest")
    )
    others = Stream.objects.filter(locator__in=among([r.was for r in page]), archive__seen_in__survey__in=newest)
    found = others.values_list("locator", "stored", "pk", "archive__game")
    old: dict[tuple[str, int | None], tuple[int, int]] = {
        (locator, stored): (stream, game) for locator, stored, stream, game in found
    }
    return [_row(r, here.get(r.now), old.get((r.was, r.stored))) for r in page]


def _row(row: Judged, now: int | None, old: tuple[int, int] | None) -> dict[str, Any]:
    made = row.swap or row.file
    assert made is not None, "a row is of a swap or of a file"
    return {
        **{name: getattr(row, name) for name in ("id", "verdict", "detail", "open")},
        "label": carrying.VERDICTS[row.verdict],
        "place": row.place(),
        "swap": row.swap_id,
        "file": row.file_id,
        "source_name": made.source_name,
        "state": row.swap.state if row.swap else "",
        "now": now,
        "old": old[0] if old else None,
        "old_game": old[1] if old else None,
        "carried": row.before is not None,
    }


@router.post("/mods/{int:mod_id}/judgement", response=JobOut)
def judge(request: HttpRequest, mod_id: int):
    """Judge a mod against the newest survey of its game, as a job."""
    return carrying.start_judging(live_mod(mod_id))


@router.post("/mods/{int:mod_id}/carry", response=JobOut)
def carry(request: HttpRequest, mod_id: int, data: CarryIn):
    """Carry over what is safe, or some rows, as a job. What was made against another sound is prepared anew; against another format,
    fitted."""
    return carrying.start_carrying(_judgement(live_mod(mod_id)), data.rows, data.safe)


@router.post("/mods/{int:mod_id}/carry/back", response=JobOut)
def carry_back(request: HttpRequest, mod_id: int, data: BackIn):
    """Undo carrying over, as a job: these rows are as they were before."""
    return carrying.start_carrying(_judgement(live_mod(mod_id)), data.rows, back=True)
