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
from ..shelf.groups import BANK
from ..shelf.models import Bank
from .surveying import Totals
from .tree import Node, outermost, tree

SORTS = {"path": "path", "size": "size", "what": "what", "entries": "archive__entry_count",
         "streams": "streams", "unpacked": "archive__unpacked"}  # fmt: skip
HELD = {"layout": "layout", "entries": "entry_count", "unpacked": "unpacked", "archive_error": "error"}  # fmt: skip
COLUMNS = ("id", "path", "size", "what", "evidence", "inside", "belongs_to", "streams", "held", "count", "archive_id")


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
            key = F("held" if self.tree and column == "streams" else SORTS.get(column, "path"))
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
    survey = game.current_survey()
    return _kinds.made(survey.pk, lambda: _counted(survey)) if survey else []


_kinds: Kept[int, list[dict[str, Any]]] = Kept(64)


def _counted(survey: Survey) -> list[dict[str, Any]]:
    rows = survey.seen.exclude(what=SurveyFile.FOLDER).order_by().values("what")
    return list(rows.annotate(files=Count("pk")).order_by("-files"))


def picture_of(game: Game, within: str) -> dict[str, Any]:
    """All bytes of a folder to scale, and where the game's sound is in a sentence; drawn once."""
    survey = game.current_survey()
    return _pictures.made((survey.pk if survey else 0, within), lambda: _drawn(survey, within))


_pictures: Kept[tuple[int, str], dict[str, Any]] = Kept(200)


def _drawn(survey: Survey | None, within: str) -> dict[str, Any]:
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


def sums_of(game: Game, numbers: list[int]) -> dict[str, int]:
    """How many files, bytes on disk and streams some rows are together; what stands in another one of them is in it."""
    survey = game.current_survey()
    rows = outermost(survey, numbers) if survey else []
    return {
        "files": sum(row.count or 1 for row in rows if not row.inside),
        "bytes": sum(row.size for row in rows if not row.inside),
        "streams": sum(row.held for row in rows),
    }


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
    """The folders, archives and banks in one of them that hold streams, folders first. Sounds that are files by themselves
    are not places; the folder around them counts them, on disk and in an archive."""
    survey = game.current_survey()
    if survey is None:
        return {"total": 0, "rows": []}
    around = survey.seen.filter(path=within, archive__isnull=False).first() if within else None
    start = within + (IN if around else "/") if within else ""
    rows = survey.seen.filter(within=within, held__gt=0)
    if around is None:
        rows = rows.exclude(what=SurveyFile.SOUND)
    no_folder = Case(When(what=SurveyFile.FOLDER, then=0), default=1)
    page = rows.order_by(no_folder, "path").values_list("path", "what", "held")
    total = rows.count()
    found = [_placed(start, True, *row) for row in page[offset : offset + limit]]
    if around:
        banks = Bank.objects.filter(archive=around.archive_id).values("pk")
        held = survey.groups.filter(place__startswith=start, bank__in=banks).order_by("place")
        first = max(0, offset - total)
        some = held[first : first + limit - len(found)]
        found += [_placed(start, False, *row) for row in some.values_list("place", "what", "streams")]
        total += held.count()
    return {"total": total, "rows": found}


def _placed(start: str, opens: bool, path: str, what: str, streams: int) -> dict[str, Any]:
    kind = what if what in (SurveyFile.FOLDER, BANK) else SurveyFile.ARCHIVE
    return {"path": path, "name": path[len(start) :].rstrip("/"), "what": kind, "opens": opens, "streams": streams}


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
    streams = row["held"] if row["what"] == SurveyFile.FOLDER else row["streams"]
    return {**row, "streams": streams, "layout": row["layout"] or "", "entries": row["entries"] or 0,
            "unpacked": row["unpacked"] or row["size"], "error": error, "depth": 0}  # fmt: skip
