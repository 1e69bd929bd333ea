"""Surveys and their comparison, in the API."""

from __future__ import annotations

from datetime import datetime

from django.http import HttpRequest, StreamingHttpResponse
from ninja import Router, Schema

from ..errors import one, stopped
from ..games.models import Survey
from ..jobs.api import JobOut
from ..jobs.run import tidy_up
from ..paging import MOST, Limit, Offset
from . import comparing

router = Router()


class SurveyLine(Schema):
    """A survey in the list of all."""

    id: int
    game: str
    game_id: int
    label: str
    build: str
    finished: datetime
    files: int
    archives: int


class LabelIn(Schema):
    """A survey's label."""

    label: str


class ChangeOut(Schema):
    """One change; sizes in bytes, null where there is no such side."""

    id: int
    kind: str
    file: str
    path: str
    old_path: str
    old_size: int | None
    new_size: int | None
    detail: str


class KindOut(Schema):
    """A kind of change, as people read it, and how many changes are of it."""

    kind: str
    label: str
    changes: int


class Changes(Schema):
    """A page of changes, and the kinds that there are. made: when the two were compared, null where they were not;
    fresh: no more contents are known since."""

    made: datetime | None
    fresh: bool
    kinds: list[KindOut]
    total: int
    rows: list[ChangeOut]


@router.get("/surveys", response=list[SurveyLine])
def list_surveys(request: HttpRequest, offset: Offset = 0, limit: Limit = MOST):
    """All finished surveys, the newest first."""
    finished = Survey.objects.filter(finished__isnull=False).select_related("game").order_by("-pk")
    return [
        {
            "id": s.pk,
            "game": s.game.name,
            "game_id": s.game_id,
            "label": s.label,
            "build": s.game.build,
            "finished": s.finished,
            "files": s.files,
            "archives": s.archives,
        }
        for s in finished[offset : offset + limit]
    ]


@router.patch("/surveys/{int:survey_id}", response={204: None})
def label_survey(request: HttpRequest, survey_id: int, data: LabelIn):
    """Give a survey a label, such as the game's build."""
    survey = one(Survey.objects.all(), survey_id)
    survey.label = data.label.strip()[:60]
    survey.save(update_fields=["label"])
    return 204, None


@router.delete("/surveys/{int:survey_id}", response={204: None})
def forget_survey(request: HttpRequest, survey_id: int):
    """Forget a survey that is not the newest of its game."""
    survey = one(Survey.objects.select_related("game"), survey_id)
    if survey == survey.game.current_survey():
        raise stopped(409, "This is the newest survey.", "Survey again first, or forget the game.")
    Survey.objects.filter(pk=survey.pk).update(finished=None)
    tidy_up()
    return 204, None


def _pair(old: int, new: int) -> tuple[Survey, Survey]:
    rows = Survey.objects.filter(finished__isnull=False).select_related("game")
    return one(rows, old), one(rows, new)


@router.post("/changes/{int:old}/{int:new}", response=JobOut)
def compare(request: HttpRequest, old: int, new: int):
    """Compare two surveys, as a job."""
    return comparing.start_comparing(*_pair(old, new))


@router.get("/changes/{int:old}/{int:new}", response=Changes)
def list_changes(
    request: HttpRequest, old: int, new: int, kind: str = "", q: str = "", offset: Offset = 0, limit: Limit = 100
):
    """What changed from one survey to another, as far as they have been compared."""
    pair = _pair(old, new)
    made = comparing.made(*pair)
    if made is None:
        return {"made": None, "fresh": False, "kinds": [], "total": 0, "rows": []}
    rows = comparing.filtered(made, kind, q)
    page = rows[offset : offset + limit]
    fresh = made.unread == comparing.unread(*pair)
    return {
        "made": made.made,
        "fresh": fresh,
        "kinds": [
            {"kind": kind, "label": label, "changes": made.counts[kind]}
            for kind, label in comparing.WORDS.items()
            if made.counts.get(kind)
        ],
        "total": comparing.number(made, kind, q),
        "rows": page,
    }


@router.get("/changes/{int:old}/{int:new}/beginning", response=int)
def change_beginning(
    request: HttpRequest, old: int, new: int, kind: str = "", q: str = "", text: str = "", first: Offset = 0
):
    """The place of the next change whose file or entry begins with a text; -1 where there is none."""
    made = comparing.made(*_pair(old, new))
    return -1 if made is None else comparing.next_change(made, kind, q, text[:200], first)


@router.get("/changes/{int:old}/{int:new}/csv")
def changes_csv(request: HttpRequest, old: int, new: int, kind: str = "", q: str = ""):
    """The same as a CSV file."""
    made = comparing.made(*_pair(old, new))
    if made is None:
        raise stopped(409, "These surveys have not been compared yet.", "Open What changed, and wait for the answer.")
    rows = comparing.filtered(made, kind, q)
    response = StreamingHttpResponse(comparing.as_csv(rows), content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="changes {old} to {new}.csv"'
    return response
