"""A survey as the Survey station shows it."""

from __future__ import annotations

import shutil
from typing import Any

from django.conf import settings
from django.db.models import Count

from ..shelf.models import Bank, Stream
from .models import Game, SurveyFile


def survey_view(game: Game) -> dict[str, Any] | None:
    """Totals, and every file with what it is and by which evidence; archives inside others follow theirs."""
    survey = game.current_survey()
    if survey is None:
        return None
    files = list(survey.seen.select_related("archive").order_by("path"))
    counted = Stream.objects.filter(archive__seen_in__survey=survey).values("archive").annotate(n=Count("id"))
    streams = {row["archive"]: row["n"] for row in counted}
    banks = Bank.objects.filter(archive__seen_in__survey=survey, error__isnull=False).order_by("-pk")
    errors = dict(banks.values_list("archive", "error"))  # the first of each archive
    rows = []
    for f in files:
        a = f.archive
        rows.append(
            {
                "path": f.path,
                "size": f.size,
                "what": f.what,
                "evidence": f.evidence,
                "inside": f.inside,
                "belongs_to": f.belongs_to,
                "layout": a.layout if a else "",
                "entries": a.entry_count if a else 0,
                "streams": streams.get(a.pk, 0) if a else 0,
                "unpacked": a.unpacked if a and a.unpacked else f.size,
                "archive_id": a.pk if a else None,
                "error": (a.error or errors.get(a.pk)) if a else _fault(f),
            }
        )
    return {
        "id": survey.pk,
        "label": survey.label,
        "finished": survey.finished,
        "files": survey.files,
        "bytes": survey.bytes,
        "unpacked": sum(r["unpacked"] for r in rows if not r["inside"] and r["what"] != SurveyFile.COMPANION),
        "locked": sum(r["what"] == SurveyFile.LOCKED for r in rows),
        "disk_free": shutil.disk_usage(settings.DATA_DIR).free,
        "rows": rows,
    }


def _fault(file: SurveyFile) -> dict[str, str] | None:
    """Why a file can't be looked at."""
    shut = file.what == SurveyFile.UNREADABLE
    next = "Put it right in a copy of the game's folder, then survey that one."
    return {"what": file.evidence, "where": file.path, "next": next} if shut else None
