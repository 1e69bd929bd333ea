"""Searching, sorting and counting streams and entries, all of it in SQL."""

from __future__ import annotations

from typing import Any

from django.db.models import Count, F, FloatField, IntegerField, OuterRef, Q, QuerySet, Subquery, Sum, Value
from django.db.models.functions import Coalesce, Floor, Greatest, Ln, NullIf

from zubret_core.audio.stored import stored_ending
from zubret_core.codec import codec_of

from ..games.models import Game
from .filters import Filter
from .models import Entry, Given, Stream, streams_of
from .sound import original_address, remember

SORTS = {
    "name": ("shown", "bank__name", "ordinal"),
    "id": ("stream_id", "bank__name"),
    "bank": ("bank__name", "ordinal"),
    "archive": ("archive__path", "bank__entry_index", "ordinal"),
    "length": ("seconds", "pk"),
    "rate": ("rate", "pk"),
    "channels": ("channels", "pk"),
    "codec": ("codec", "pk"),
    "kind": ("shown_kind", "pk"),
    "loop": ("loop_start", "pk"),
    "size": ("stored", "pk"),
}
BRUSH_BINS = 28
BRUSH_FROM, BRUSH_TO = 0.1, 600.0
"""The length brush's logarithmic axis, in seconds."""


EVERYTHING = Filter()


def filtered(game: Game, filter: Filter = EVERYTHING) -> QuerySet[Stream]:
    """Streams of the current survey that a filter leaves; each with `shown`, `shown_kind` and `marked`."""
    plain = Entry.objects.filter(archive=OuterRef("archive"), ordinal=OuterRef("bank__entry_index"), method="plain")
    given = Given.objects.filter(game=game, locator=OuterRef("locator"))
    rows = streams_of(game).annotate(
        given_name=Subquery(given.values("name")[:1]),
        entry_at=Subquery(plain.values("at")[:1]),
        marked=Coalesce(Subquery(given.values("marked")[:1]), False),
        given_kind=Subquery(given.values("kind")[:1]),
        given_notes=Subquery(given.values("notes")[:1]),
    )
    rows = rows.annotate(
        shown=Coalesce(NullIf(F("given_name"), Value("")), F("name")),
        shown_kind=Coalesce(NullIf(F("given_kind"), Value("")), F("kind")),
    )
    for word in filter.q.split():
        rows = rows.filter(
            Q(shown__icontains=word)
            | Q(stream_id__icontains=word)
            | Q(given_notes__icontains=word)
            | Q(bank__entry_path__icontains=word)
            | Q(archive__path__icontains=word)
        )
    if filter.archive:
        rows = rows.filter(archive=filter.archive)
    if filter.language:
        rows = rows.filter(bank__language="" if filter.language == "none" else filter.language)
    if filter.kind:
        rows = rows.filter(shown_kind=filter.kind)
    if filter.loop:
        rows = rows.filter(loop_start__isnull=filter.loop == "no")
    if filter.marked:
        rows = rows.filter(marked=True)
    if filter.shortest is not None:
        rows = rows.filter(seconds__gte=filter.shortest)
    if filter.longest is not None:
        rows = rows.filter(seconds__lte=filter.longest)
    return rows


def page_of(rows: QuerySet[Stream], sort: str, offset: int, limit: int) -> dict[str, Any]:
    """One page of streams, with the totals of all."""
    totals = rows.aggregate(n=Count("pk"), seconds=Sum("seconds"), bytes=Sum("stored"))
    page = rows.select_related("archive__game", "archive__outer", "bank").order_by(*_order(sort), "pk")[
        offset : offset + limit
    ]
    remember(page)
    return {
        "total": totals["n"],
        "seconds": totals["seconds"] or 0.0,
        "bytes": totals["bytes"] or 0,
        "rows": [stream_out(s) for s in page],
    }


def neighbours(rows: QuerySet[Stream], sort: str, stream_id: int) -> dict[str, Any]:
    """Where a stream stands among those that match, and the ones before and behind it."""
    ids = list(rows.order_by(*_order(sort), "pk").values_list("pk", flat=True))
    place = ids.index(stream_id) if stream_id in ids else -1
    beside = {
        "previous": ids[place - 1] if place > 0 else 0,
        "next": ids[place + 1] if 0 <= place < len(ids) - 1 else 0,
    }
    return {"place": place, "total": len(ids), **beside}


def _order(sort: str) -> list:
    keys = SORTS.get(sort.lstrip("-"), SORTS["archive"])
    down = sort.startswith("-")
    return [F(k).desc(nulls_last=True) if down else F(k).asc(nulls_last=True) for k in keys]


def lengths(rows: QuerySet[Stream]) -> dict[str, Any]:
    """How many streams have which length: bins on a logarithmic axis."""
    span = Ln(Value(BRUSH_TO / BRUSH_FROM, output_field=FloatField()))
    place = Floor(
        Ln(Greatest(F("seconds"), BRUSH_FROM, output_field=FloatField()) / BRUSH_FROM) / span * BRUSH_BINS,
        output_field=IntegerField(),
    )
    counts = [0] * BRUSH_BINS
    for row in rows.order_by().annotate(bin=place).values("bin").annotate(n=Count("pk")):
        counts[min(BRUSH_BINS - 1, max(0, int(row["bin"])))] += row["n"]
    return {"from_seconds": BRUSH_FROM, "to_seconds": BRUSH_TO, "counts": counts}


def entries_page(game: Game, archive: int, q: str, sort: str, offset: int, limit: int) -> dict[str, Any]:
    """Entries of an archive of the current survey."""
    survey = game.current_survey()
    rows = Entry.objects.filter(archive__seen_in__survey=survey) if survey else Entry.objects.none()
    if archive:
        rows = rows.filter(archive=archive)
    for word in q.split():
        rows = rows.filter(path__icontains=word)
    key = {"path": "path", "size": "size", "stored": "stored", "at": "at"}.get(sort.lstrip("-"), "ordinal")
    order = f"-{key}" if sort.startswith("-") else key
    return {
        "total": rows.count(),
        "rows": list(
            rows.order_by(order, "pk")[offset : offset + limit].values(
                "id", "ordinal", "path", "at", "stored", "size", "method", "file"
            )
        ),
    }


def stream_out(s: Stream) -> dict[str, Any]:
    """A stream as the API gives it."""
    entry_at = getattr(s, "entry_at", None)
    return {
        "id": s.pk,
        "stream_id": s.stream_id,
        "name": getattr(s, "shown", s.name),
        "marked": bool(getattr(s, "marked", False)),
        "bank": s.bank.name,
        "entry": s.bank.entry_path,
        "archive": s.archive.path,
        "archive_id": s.archive_id,
        "place": str(s.where()).encode("utf-8", "backslashreplace").decode(),
        "language": s.bank.language,
        "codec": s.variant.replace("/", " ").replace("_", " ") if s.codec == "file" else codec_of(s.format()).label,
        "rate": s.rate,
        "channels": s.channels,
        "frames": s.frames,
        "seconds": s.seconds,
        "loop": [s.loop_start, s.loop_end] if s.loop_start is not None else None,
        "block_size": s.block_size,
        "block_frames": codec_of(s.format()).block_frames(s.format()),
        "at": s.at,
        "archive_at": None if entry_at is None or s.archive.kind == "zip" else entry_at + s.at,
        "stored": s.stored,
        "shared": s.shared,
        "audio": original_address(s),
        "kind": getattr(s, "shown_kind", s.kind),
        "kind_given": bool(getattr(s, "given_kind", "")),
        "notes": getattr(s, "given_notes", "") or "",
        "as_stored": stored_ending(s.format()),
    }
