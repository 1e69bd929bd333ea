"""The files of a game's newest survey, page by page: all of them, or those of one folder or archive."""

from __future__ import annotations

import shutil
from dataclasses import fields
from functools import reduce
from operator import or_
from typing import Any

from django.conf import settings
from django.db.models import Case, Count, Exists, F, OuterRef, Q, QuerySet, Subquery, When
from ninja import Schema

from zubret_core.base import Kept
from zubret_core.locate.picture import KINDS, Seen, picture, where_sound_is
from zubret_core.locate.spot import IN

from ..bulk import among
from ..games.models import Game, Survey, SurveyFile
from ..paging import next_of
from ..shelf.models import Bank
from .surveying import Totals
from .tree import Node, tree

SORTS = {"path": "path", "size": "size", "what": "what", "entries": "archive__entry_count",
         "streams": "streams", "unpacked": "archive__unpacked"}  # fmt: skip
HELD = {"layout": "layout", "entries": "entry_count", "unpacked": "unpacked", "archive_error": "error"}  # fmt: skip
COLUMNS = ("id", "path", "size", "what", "evidence", "inside", "belongs_to", "streams", "count", "archive_id")


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


class Asked(Schema):
    """What a list of files is asked for. below: a folder or a file, with what is in it; what: kinds; state: "sound" (with streams) or "fault", any of them; opened: with
    `tree`, the folders and archives that stand open."""

    q: str = ""
    below: str = ""
    what: list[str] = []
    state: list[str] = []
    sort: str = ""
    tree: bool = False
    opened: list[str] = []

    def narrows(self) -> bool:
        """Whether something is left out."""
        return bool(self.q.split() or self.below or self.what or self.state)

    def order(self) -> list[Any]:
        """By the column that is asked for, then by path; in a tree folders come first."""
        down, column = self.sort.startswith("-"), self.sort.lstrip("-")
        if column in ("", "path"):
            order: list[Any] = ["-path" if down else "path"]
        else:
            key = F(SORTS.get(column, "path"))
            order = [key.desc(nulls_last=True) if down else key.asc(nulls_last=True), "path"]
        return [Case(When(what=SurveyFile.FOLDER, then=0), default=1), *order] if self.tree else order


def files_page(game: Game, asked: Asked, offset: int, limit: int, totals: bool = True) -> dict[str, Any]:
    """One page of the files, or of the tree."""
    survey = game.current_survey()
    if asked.tree and survey:
        nodes = _tree(survey, asked)
        some = nodes[offset : offset + limit]
        page = {row["id"]: row for row in _out(SurveyFile.objects.filter(pk__in=among([node.pk for node in some])))}
        return {"total": len(nodes), "rows": [{**page[n.pk], "depth": n.depth} for n in some if n.pk in page]}
    rows, total = found(survey, asked), None
    if totals:
        total = survey.files + survey.nested if survey and not asked.narrows() else rows.count()
    return {"total": total, "rows": _out(rows.order_by(*asked.order())[offset : offset + limit])}


def found(survey: Survey | None, asked: Asked) -> QuerySet[SurveyFile]:
    """The files, without folders, that a question leaves."""
    rows = files_of(survey).exclude(what=SurveyFile.FOLDER)
    for word in asked.q.split():
        rows = rows.filter(path__icontains=word)
    if asked.below:
        inside = Q(path__startswith=f"{asked.below}/") | Q(path__startswith=asked.below + IN)
        rows = rows.filter(Q(path=asked.below) | inside)
    if asked.what:
        rows = rows.filter(what__in=asked.what)
    if asked.state:
        broken = Bank.objects.filter(archive=OuterRef("archive"), error__isnull=False)
        fault = Q(what=SurveyFile.UNREADABLE) | Q(archive__error__isnull=False) | Exists(broken)
        states = {"sound": Q(streams__gt=0), "fault": fault}
        rows = rows.filter(reduce(or_, (states[state] for state in asked.state if state in states), Q(pk__in=())))
    return rows


def place_in(game: Game, asked: Asked, path: str) -> int:
    """Where a file stands in a list, -1 where it does not."""
    survey = game.current_survey()
    row = files_of(survey).filter(path=path).values_list("pk", flat=True).first()
    if survey is None or row is None:
        return -1
    numbers = numbers_of(survey, asked)
    return numbers.index(row) if row in numbers else -1


def next_place(game: Game, asked: Asked, begins: str, first: int) -> int:
    """The place of the next row, from one place on and then from the start, whose name begins with a text; -1 for none."""
    survey = game.current_survey()
    if survey is None:
        return -1
    rows = survey.seen.filter(path__icontains=begins).values_list("pk", "path")
    wanted = {pk for pk, path in rows if path.rpartition(IN)[2].rpartition("/")[2].lower().startswith(begins.lower())}
    return next_of([place for place, pk in enumerate(numbers_of(survey, asked)) if pk in wanted], first)


def numbers_of(survey: Survey, asked: Asked) -> list[int]:
    """The numbers of all rows of a list, in order."""
    if asked.tree:
        return [node.pk for node in _tree(survey, asked)]
    return list(found(survey, asked).order_by(*asked.order()).values_list("pk", flat=True))


def _tree(survey: Survey, asked: Asked) -> list[Node]:
    rows = found(survey, asked) if asked.narrows() else None
    return tree(survey, asked.model_dump_json(), rows, asked.opened, asked.order())


def kinds(game: Game) -> list[dict[str, Any]]:
    """How many files of each kind the newest survey has."""
    rows = files_of(game.current_survey()).exclude(what=SurveyFile.FOLDER).order_by().values("what")
    return list(rows.annotate(files=Count("pk")).order_by("-files"))


def picture_of(game: Game, within: str) -> dict[str, Any]:
    """All bytes of a folder to scale, and where the game's sound is in a sentence."""
    survey = game.current_survey()
    files = _seen.made(survey.pk, lambda: _all_seen(survey)) if survey else []
    drawn = picture(files, within)
    all_kinds = [
        {"kind": kind, "bytes": drawn.kinds[kind][0], "files": drawn.kinds[kind][1]}
        for kind in KINDS
        if kind in drawn.kinds
    ]
    return {
        **vars(drawn),
        "parts": [vars(part) for part in drawn.parts],
        "kinds": all_kinds,
        "sentence": where_sound_is(files),
    }


_seen: Kept[int, list[Seen]] = Kept(120_000, len)


def _all_seen(survey: Survey) -> list[Seen]:
    rows = survey.seen.exclude(what=SurveyFile.FOLDER).order_by("path")
    return [Seen(*row) for row in rows.values_list(*Seen._fields).iterator(10_000)]


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
    deeper = SurveyFile.objects.filter(survey=OuterRef("survey"), within=OuterRef("path"))
    rows = rows.annotate(opens=Exists(deeper))
    page = rows.annotate(**held, bank_error=Subquery(broken.values("error")[:1])).values(
        *COLUMNS, *HELD, "bank_error", "opens"
    )
    return [_file(row) for row in page]


def _file(row: dict[str, Any]) -> dict[str, Any]:
    shut = row["what"] == SurveyFile.UNREADABLE and row["archive_id"] is None
    mend = "Put it right in a copy of the game's folder, then survey that one."
    fault = {"what": row["evidence"], "where": row["path"], "next": mend} if shut else None
    error = row.pop("archive_error") or row.pop("bank_error") or fault
    return {**row, "layout": row["layout"] or "", "entries": row["entries"] or 0,
            "unpacked": row["unpacked"] or row["size"], "error": error, "depth": 0}  # fmt: skip
