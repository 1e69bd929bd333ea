"""A survey as the Survey station shows it."""

from __future__ import annotations

import shutil
from typing import Any

from django.conf import settings
from django.db.models import Count

from ..shelf.models import Stream
from .models import Game, SurveyFile


def survey_view(game: Game) -> dict[str, Any] | None:
    """Totals, and every file with what it is and by which evidence; archives inside others follow theirs."""
    survey = game.current_survey()
    if survey is None:
        return None
    files = list(survey.seen.select_related("archive").order_by("path"))
    archives = [f.archive_id for f in files if f.archive_id]
    counted = Stream.objects.filter(archive__in=archives).values("archive").annotate(n=Count("id"))
    streams = {row["archive"]: row["n"] for row in counted}
    rows = []
    for f in files:
        a = f.archive
        errors = list(a.banks.filter(error__isnull=False).values_list("error", flat=True)[:1]) if a else []
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
                "error": (a.error if a else None) or (errors[0] if errors else None),
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
