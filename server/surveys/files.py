"""The files of a game's newest survey, page by page: all of them, or those of one folder or archive."""

from __future__ import annotations

import shutil
from dataclasses import fields
from typing import Any

from django.conf import settings
from django.db.models import Case, Count, F, OuterRef, QuerySet, Subquery, When

from zubret_core.locate.spot import IN

from ..games.models import Game, Survey, SurveyFile
from ..shelf.models import Bank
from .surveying import Totals

SORTS = {"path": "path", "size": "size", "what": "what", "entries": "archive__entry_count",
         "streams": "streams", "unpacked": "archive__unpacked"}  # fmt: skip
HELD = {"layout": "layout", "entries": "entry_count", "unpacked": "unpacked", "archive_error": "error"}  # fmt: skip
COLUMNS = ("path", "size", "what", "evidence", "inside", "belongs_to", "streams", "count", "archive_id")


def survey_out(game: Game) -> dict[str, Any] | None:
    """The totals of the newest finished survey."""
    survey = game.current_survey()
    if survey is None:
        return None
    totals = {total.name: getattr(survey, total.name) for total in fields(Totals)}
    free = shutil.disk_usage(settings.DATA_DIR).free
    return {"id": survey.pk, "label": survey.label, "finished": survey.finished, "disk_free": free, **totals}


def files_of(survey: Survey | None) -> QuerySet[SurveyFile]:
    """All files and folders of a survey."""
    return survey.seen.all() if survey else SurveyFile.objects.none()


def files_page(
    game: Game, within: str | None, q: str, what: str, sort: str, offset: int, limit: int, totals: bool = True
) -> dict[str, Any]:
    """One page. within: only what stands in this folder or archive, its folders first; "" is the game's own folder."""
    survey = game.current_survey()
    rows = files_of(survey)
    if within is None:
        rows = rows.exclude(what=SurveyFile.FOLDER)
    else:
        rows = rows.filter(within=within)
    for word in q.split():
        rows = rows.filter(path__icontains=word)
    if what:
        rows = rows.filter(what__in=what.split(","))
    everything = within is None and not q.split() and not what
    total = None
    if totals:
        total = survey.files + survey.nested if survey and everything else rows.count()
    key = F(SORTS.get(sort.lstrip("-"), "path"))
    order: list[Any] = [key.desc(nulls_last=True) if sort.startswith("-") else key.asc(nulls_last=True), "path"]
    if sort.lstrip("-") in ("", "path"):
        order = ["-path" if sort == "-path" else "path"]
    if within is not None:
        order.insert(0, Case(When(what=SurveyFile.FOLDER, then=0), default=1))
    return {"total": total, "rows": _out(rows.order_by(*order)[offset : offset + limit])}


def file_at(game: Game, path: str) -> dict[str, Any] | None:
    """One file by its path."""
    return next(iter(_out(files_of(game.current_survey()).filter(path=path)[:1])), None)


def holders(game: Game, q: str, offset: int, limit: int) -> dict[str, Any]:
    """The archives and files that hold streams, those with the most first."""
    survey = game.current_survey()
    rows = files_of(survey).filter(streams__gt=0)
    for word in q.split():
        rows = rows.filter(path__icontains=word)
    total = survey.holders if survey and not q.split() else rows.count()
    page = rows.order_by("-streams", "path").values("archive_id", "path", "streams")
    return {"total": total, "rows": list(page[offset : offset + limit])}


def places(game: Game, within: str, offset: int, limit: int) -> dict[str, Any]:
    """The folders, archives and banks in one of them that hold streams, by their names. Sounds that are files by themselves
    are not places; the folder around them counts them."""
    survey = game.current_survey()
    held = files_of(survey).filter(streams__gt=0)
    inside = within and held.model._default_manager.filter(survey=survey, path=within).exclude(what=SurveyFile.FOLDER)
    file = inside.first() if inside else None
    start = within + (IN if file else "/") if within else ""
    if start:
        held = held.filter(path__startswith=start)
    found: dict[str, dict[str, Any]] = {}
    for path, streams, what in held.values_list("path", "streams", "what").iterator():
        name, deeper = _first(path[len(start) :], IN if file else "/")
        if deeper == "" and what == SurveyFile.SOUND:
            continue
        kind = SurveyFile.FOLDER if deeper == "/" else SurveyFile.ARCHIVE
        place = found.setdefault(name, {"path": start + name, "name": name, "what": kind, "streams": 0})
        place["streams"] += streams
    if file and file.archive_id:
        banks = Bank.objects.filter(archive=file.archive_id).annotate(n=Count("streams")).filter(n__gt=0)
        for name, n in banks.values_list("entry_path", "n"):
            found.setdefault(name, {"path": start + name, "name": name, "what": "bank", "streams": n})
    rows = sorted(found.values(), key=lambda place: (place["what"] != SurveyFile.FOLDER, place["name"].lower()))
    return {"total": len(rows), "rows": rows[offset : offset + limit]}


def _first(path: str, between: str) -> tuple[str, str]:
    """The first name of a path, and what stands behind it: "/" where it is a folder, the sign of what is inside where it is an
    archive, nothing where it is the last one."""
    name, sign, _ = path.partition(IN)
    if between == "/" and "/" in name:
        return name.partition("/")[0], "/"
    return name, sign


def _out(rows: QuerySet[SurveyFile]) -> list[dict[str, Any]]:
    broken = Bank.objects.filter(archive=OuterRef("archive"), error__isnull=False).order_by("pk")
    held = {name: F(f"archive__{column}") for name, column in HELD.items()}
    page = rows.annotate(**held, bank_error=Subquery(broken.values("error")[:1])).values(*COLUMNS, *HELD, "bank_error")
    return [_file(row) for row in page]


def _file(row: dict[str, Any]) -> dict[str, Any]:
    shut = row["what"] == SurveyFile.UNREADABLE and row["archive_id"] is None
    mend = "Put it right in a copy of the game's folder, then survey that one."
    fault = {"what": row["evidence"], "where": row["path"], "next": mend} if shut else None
    error = row.pop("archive_error") or row.pop("bank_error") or fault
    return {**row, "layout": row["layout"] or "", "entries": row["entries"] or 0,
            "unpacked": row["unpacked"] or row["size"], "error": error}  # fmt: skip
