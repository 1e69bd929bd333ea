"""Searching, sorting and counting streams, all of it in SQL."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
from django.db.models import Count, F, OuterRef, Q, QuerySet, Subquery, Sum, Value
from django.db.models.functions import Coalesce, NullIf
from numpy.typing import NDArray

from zubret_core.audio.stored import stored_ending
from zubret_core.base import Kept, once
from zubret_core.base.wording import spaced
from zubret_core.codec import CODECS, codec_of

from ..bulk import among
from ..games.models import Game, Survey
from ..paging import next_of
from .filters import Filter, codec_value, narrowed
from .models import Archive, Bank, Entry, Given, Stream, seen_by, streams_in
from .sound import original_address, remember
from .words import with_words

SORTS = {
    "name": ("shown", "bank__name", "ordinal"),
    "id": ("stream_id", "bank__name"),
    "bank": ("bank__name", "ordinal"),
    "archive": (),
    "language": ("language", "stream_id"),
    "length": ("seconds",),
    "rate": ("rate",),
    "channels": ("channels",),
    "codec": ("codec",),
    "kind": ("shown_kind",),
    "loop": ("loop_start",),
    "size": ("stored",),
}
"""By which columns a list is sorted. Last comes the number, in whose order a survey writes the streams of an archive; files
come in the order of their paths."""
BRUSH_BINS = 28
BRUSH_FROM = 0.1
"""Seconds at which the length brush's logarithmic axis begins."""
BRUSH_TO = (600.0, 1800.0, 3600.0, 10_800.0, 36_000.0, 86_400.0)
"""Seconds at which it may end: the first of them that no stream is beyond."""
EVERYTHING = Filter()


def filtered(game: Game, filter: Filter = EVERYTHING, survey: Survey | None = None) -> QuerySet[Stream]:
    """Streams of a survey (the current one, where none is given) that a filter leaves."""
    survey = survey or game.current_survey()
    if words := filter.q.split():
        rows = Stream.objects.filter(seen_by(survey), pk__in=with_words(words, survey))
    else:
        rows = streams_in(survey)
    return narrowed(rows, filter, game)


def described(rows: QuerySet[Stream], game: Game) -> QuerySet[Stream]:
    """Streams with what a list shows of them: `shown`, `shown_kind`, `marked`, what else is said, and where their entry stands."""
    plain = Entry.objects.filter(archive=OuterRef("archive"), ordinal=OuterRef("bank__entry_index"), method="plain")
    given = Given.objects.filter(game=game, locator=OuterRef("locator"))
    rows = rows.annotate(
        given_name=Subquery(given.values("name")[:1]),
        entry_at=Subquery(plain.values("at")[:1]),
        marked=Coalesce(Subquery(given.values("marked")[:1]), False),
        given_kind=Subquery(given.values("kind")[:1]),
        **{f"given_{name}": Subquery(given.values(name)[:1]) for name in ("notes", "text", "author", "done")},
    )
    rows = rows.annotate(
        shown=Coalesce(NullIf(F("given_name"), Value("")), F("name")),
        shown_kind=Coalesce(NullIf(F("given_kind"), Value("")), F("kind")),
    )
    return rows.select_related("archive__game", "archive__outer", "bank")


@dataclass(frozen=True)
class Question:
    """What a list asks for."""

    game: Game
    filter: Filter = field(default_factory=Filter)
    sort: str = ""

    @once
    def survey(self) -> Survey | None:
        """The game's current one."""
        return self.game.current_survey()

    @property
    def key(self) -> str:
        """Changes with anything that changes the answer."""
        survey = self.survey.pk if self.survey else 0
        return f"{survey} {self.game.said} {self.sort} {self.filter.model_dump_json()}"

    def streams(self) -> QuerySet[Stream]:
        """Those that answer it, in no order."""
        return filtered(self.game, self.filter, self.survey)

    def rows(self) -> QuerySet[Stream]:
        """The same, in order."""
        # With words there is no join to the survey's files; else its number makes their order one that an index has.
        place = ["archive__path"] if self.filter.q.split() else ["archive__seen_in__path", "archive__seen_in__pk"]
        return _sorted(self.streams(), self.game, self.sort, place)

    def found(self) -> Found:
        """All of them; worked out once for a survey and what is said of its streams."""
        return _found.made(self.key, lambda: Found.of(self.rows()))


class Found(NamedTuple):
    """Streams by their numbers, each with its seconds, and how many stored bytes they are together."""

    numbers: NDArray[np.int64]
    lengths: NDArray[np.float64]
    bytes: int

    @classmethod
    def of(cls, rows: QuerySet[Stream]) -> Found:
        """Rows as they are in order."""
        columns = rows.values_list("pk", "seconds", "stored").iterator(10_000)
        every = np.fromiter(columns, np.dtype("i8, f8, i8"))
        return cls(every["f0"].copy(), every["f1"].copy(), int(every["f2"].sum()))

    @property
    def seconds(self) -> float:
        """All of them together."""
        return float(self.lengths.sum())


_found: Kept[str, Found] = Kept(64 << 20, lambda found: 1024 + found.numbers.nbytes + found.lengths.nbytes)


def page_of(asked: Question, offset: int, limit: int, totals: bool = True) -> dict[str, Any]:
    """One page of streams, with the totals of all: the numbers of its rows first, then these rows by their numbers.

    The first page without words is asked of the database, which may have it in order; else all numbers are worked out.
    """
    counted: dict[str, Any]
    if offset or asked.filter.q.split():
        found = asked.found()
        numbers = found.numbers[offset : offset + limit].tolist()
        counted = {"total": len(found.numbers), "seconds": found.seconds, "bytes": found.bytes}
    else:
        numbers = list(asked.rows().values_list("pk", flat=True)[:limit])
        counted = _totals(asked) if totals else {"total": None, "seconds": None, "bytes": None}
    return {"rows": [stream_out(s) for s in _listed(numbers, asked.game)], **counted}


def _listed(numbers: list[int], game: Game) -> list[Stream]:
    """Streams by their numbers, with what a list shows of them; archives and banks that they share are read once."""
    rows = described(Stream.objects.filter(pk__in=among(numbers)), game).select_related(None)
    found = {row.pk: row for row in rows}
    of_archives, of_banks = {row.archive_id for row in found.values()}, {row.bank_id for row in found.values()}
    archives = {a.pk: a for a in Archive.objects.filter(pk__in=among(of_archives)).select_related("outer")}
    banks = {b.pk: b for b in Bank.objects.filter(pk__in=among(of_banks))}
    page = []
    for row in (found[n] for n in numbers if n in found):
        if row.archive_id in archives and row.bank_id in banks:  # they may have gone since
            row.archive, row.bank = archives[row.archive_id], banks[row.bank_id]
            row.archive.game = game
            page.append(row)
    remember(page)
    return page


def _totals(asked: Question) -> dict[str, Any]:
    if asked.survey and asked.filter == EVERYTHING:
        return {"total": asked.survey.streams, "seconds": asked.survey.seconds, "bytes": asked.survey.stored}
    totals = asked.streams().order_by().aggregate(n=Count("pk"), seconds=Sum("seconds"), bytes=Sum("stored"))
    return {"total": totals["n"], "seconds": totals["seconds"] or 0.0, "bytes": totals["bytes"] or 0}


def neighbours(asked: Question, stream_id: int) -> dict[str, Any]:
    """Where a stream stands among those that match, and the ones before and behind it."""
    numbers = asked.found().numbers
    found = np.flatnonzero(numbers == stream_id)
    place = int(found[0]) if len(found) else -1
    beside = {
        "previous": int(numbers[place - 1]) if place > 0 else 0,
        "next": int(numbers[place + 1]) if 0 <= place < len(numbers) - 1 else 0,
    }
    return {"place": place, "total": len(numbers), **beside}


def beginning(asked: Question, text: str, first: int) -> int:
    """The place of the next stream whose id or name begins with a text, looked for from one place on and then from the start;
    -1 where there is none."""
    given = Given.objects.filter(game=asked.game, name__istartswith=text).values("locator")
    starts = Q(stream_id__istartswith=text) | Q(name__istartswith=text) | Q(locator__in=given)
    found = np.array(asked.streams().filter(starts).order_by().values_list("pk", flat=True), np.int64)
    return next_of(np.flatnonzero(np.isin(asked.found().numbers, found)).tolist(), first)


def _sorted(rows: QuerySet[Stream], game: Game, sort: str, place: list[str]) -> QuerySet[Stream]:
    keys = SORTS.get(sort.lstrip("-"), SORTS["archive"])
    down = sort.startswith("-")
    for key, said in (("shown", "name"), ("shown_kind", "kind")):
        if key in keys:
            given = Given.objects.filter(game=game, locator=OuterRef("locator")).exclude(**{said: ""}).values(said)[:1]
            rows = rows.annotate(**{key: Coalesce(Subquery(given), F(said))})
    if keys == SORTS["archive"]:  # never empty, so that an index can give the order
        return rows.order_by(*(f"-{key}" if down else key for key in (*place, "pk")))
    last = "-pk" if down else "pk"
    return rows.order_by(*(F(k).desc(nulls_last=True) if down else F(k).asc(nulls_last=True) for k in keys), last)


def lengths(game: Game, filter: Filter) -> dict[str, Any]:
    """How many streams have which length: bins on a logarithmic axis."""
    asked = Question(game, filter)
    to, counts = _lengths.made(asked.key, lambda: _binned(_lengths_of(asked)))
    return {"from_seconds": BRUSH_FROM, "to_seconds": to, "counts": counts}


_lengths: Kept[str, tuple[float, list[int]]] = Kept(200)


def _lengths_of(asked: Question) -> NDArray[np.float64]:
    """The seconds of all that match. With words, the list beside works out all of them at the same time."""
    if asked.filter.q.split():
        return asked.found().lengths
    return np.fromiter(asked.streams().order_by().values_list("seconds", flat=True).iterator(10_000), float)


def _binned(seconds: NDArray[np.float64]) -> tuple[float, list[int]]:
    longest = seconds.max(initial=0.0)
    to = next((end for end in BRUSH_TO if longest <= end), longest)
    place = np.log(np.maximum(seconds, BRUSH_FROM) / BRUSH_FROM) / np.log(to / BRUSH_FROM) * BRUSH_BINS
    return to, np.bincount(np.minimum(place.astype(int), BRUSH_BINS - 1), minlength=BRUSH_BINS).tolist()


def facets(game: Game) -> dict[str, list[dict[str, Any]]]:
    """By what the current survey's streams can be told apart, with how many there are of each."""
    survey = game.current_survey()
    return (
        _facets.made(survey.pk, lambda: _counted(streams_in(survey)))
        if survey
        else {"codec": [], "rate": [], "channels": []}
    )


_facets: Kept[int, dict[str, list[dict[str, Any]]]] = Kept(64)


def _counted(rows: QuerySet[Stream]) -> dict[str, list[dict[str, Any]]]:
    kinds = rows.order_by().values("codec", "variant", "rate", "channels").annotate(n=Count("pk"))
    counts: dict[str, dict[str, list[Any]]] = {"codec": {}, "rate": {}, "channels": {}}
    for row in kinds:
        label = codec_label(row["codec"], row["variant"])
        for facet, value, text in (
            ("codec", codec_value(row["codec"], row["variant"]), label),
            ("rate", str(row["rate"]), f"{spaced(row['rate'])} Hz"),
            ("channels", str(row["channels"]), str(row["channels"])),
        ):
            counts[facet].setdefault(value, [text, 0])[1] += row["n"]
    return {
        facet: [
            {"value": value, "label": label, "streams": n}
            for value, (label, n) in sorted(values.items(), key=lambda item: -item[1][1])
        ]
        for facet, values in counts.items()
    }


AT_ONCE = {"flac": 600, "ogg": 120, "opus": 50}
"""Seconds of two channels at 48 kHz that are encoded in some two seconds (measured), by the kind of file."""
COPIED = 256 << 20
"""Bytes of a payload that are written in some two seconds, on a slow disk."""


def kinds_at_once(s: Stream) -> list[str]:
    """The kinds of file that a stream is answered as at once; as any other it is taken out by a job."""
    quick = [kind for kind, seconds in AT_ONCE.items() if s.frames * s.channels <= seconds * 2 * 48_000]
    return ["wav", *quick, *(["stored"] if s.stored <= COPIED else [])]


def codec_label(codec: str, variant: str) -> str:
    """A codec as people read it, whatever its parameters; of a sound that is a file by itself, the kind of file."""
    return variant.replace("/", " ").replace("_", " ") if codec == "file" else CODECS[codec].label


def stream_out(s: Stream) -> dict[str, Any]:
    """A stream as the API gives it."""
    entry_at, format = getattr(s, "entry_at", None), s.format()
    codec = codec_of(format)
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
        "language": s.language,
        "said": s.said,
        "codec": codec_label(s.codec, s.variant) if s.codec == "file" else codec.label,
        "rate": s.rate,
        "channels": s.channels,
        "frames": s.frames,
        "seconds": s.seconds,
        "loop": [s.loop_start, s.loop_end] if s.loop_start is not None else None,
        "block_size": s.block_size,
        "block_frames": codec.block_frames(format),
        "at": s.at,
        "archive_at": None if entry_at is None or s.archive.kind == "zip" else entry_at + s.at,
        "stored": s.stored,
        "shared": s.shared,
        "audio": original_address(s),
        "kind": getattr(s, "shown_kind", s.kind),
        "kind_given": bool(getattr(s, "given_kind", "")),
        "notes": getattr(s, "given_notes", "") or "",
        "text": getattr(s, "given_text", "") or "",
        "author": getattr(s, "given_author", "") or "",
        "done": bool(getattr(s, "given_done", False)),
        "as_stored": stored_ending(format),
        "at_once": kinds_at_once(s),
    }
