"""What is known of a game before a survey begins: looked up once, so that nothing has to be asked of the database for a file."""

from __future__ import annotations

import json
from typing import NamedTuple

from django.db.models import BooleanField, ExpressionWrapper, Q, TextField
from django.db.models.functions import Cast

from ..games.models import Game, SurveyFile
from ..shelf.models import Archive
from .rows import Written

NOT_COPIED = (SurveyFile.UNREADABLE, SurveyFile.LOCKED)
"""What a file may be that is looked at anew though it is as it was: the reason may have gone."""


class FileBefore(NamedTuple):
    """A file as the last survey saw it."""

    size: int
    mtime_ns: int
    changed_ns: int | None
    what: str
    evidence: str
    archive: int | None


class KnownArchive(NamedTuple):
    """An archive whose rows are there already."""

    written: Written
    mtime_ns: int
    layout: str
    opened_with: str
    index_spans: str
    """As JSON."""
    index_sum: str
    whole: bool


def known_archives(game: Game) -> tuple[dict[str, list[KnownArchive]], dict[int, list[Written]]]:
    """The archives of a game's files by path, and those inside each of them."""
    files: dict[str, list[KnownArchive]] = {}
    nested: dict[int, list[Written]] = {}
    # JSON is read as text, and only parsed where there is something in it or somebody asks.
    as_text = [Cast(name, TextField()) for name in ("companions", "index_spans")]
    right = ExpressionWrapper(Q(error__isnull=True), BooleanField())
    rows = Archive.objects.filter(game=game).order_by("pk").values_list(
        "pk", "path", "size", "kind", "evidence", "outer", "mtime_ns", "layout", "opened_with", "index_sum", "complete",
        "stream_count", *as_text, right,
    )  # fmt: skip
    for row in rows.iterator():
        pk, path, size, kind, evidence, outer, mtime, layout, used, value, complete, streams, beside, spans, fine = row
        companions = [] if beside == "[]" else json.loads(beside)
        written = Written(pk, path, size, kind, evidence, companions, streams)
        if outer is None:
            known = KnownArchive(written, mtime, layout, used, spans, value, complete and fine)
            files.setdefault(path, []).append(known)
        elif complete:
            nested.setdefault(outer, []).append(written)
    return files, nested


def files_before(game: Game, read_with: str) -> dict[str, FileBefore]:
    """The files of the last survey, if all files are still read as they were then."""
    last = game.current_survey()
    if last is None or last.read_with != read_with:
        return {}
    rows = last.seen.filter(inside=False).exclude(what__in=(*NOT_COPIED, SurveyFile.FOLDER))
    columns = rows.values_list("path", "size", "mtime_ns", "changed_ns", "what", "evidence", "archive")
    return {row[0]: FileBefore(*row[1:]) for row in columns.iterator()}
