"""What changed between two surveys: the core compares, the rows can be filtered and paged."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from typing import Any

from django.db import connection
from django.db.models import Q, QuerySet

from zubret_core.base import Progress, ZubretError, silent
from zubret_core.extract.sounds import safe_cell
from zubret_core.locate.compare import UNSURE, FileFacts, compare_entries, compare_files, with_renames
from zubret_core.locate.compare import Change as Changed
from zubret_core.locate.spot import IN

from ..bulk import bulk_insert
from ..games.models import Change, Comparison, Survey, SurveyFile
from ..jobs.models import Job
from ..jobs.run import start, tidy_up, work
from ..shelf.models import Archive, Entry

WORDS = {
    "added": "added",
    "removed": "removed",
    "changed": "changed",
    "moved": "moved",
    "renamed": "renamed",
    "unsure": "not yet compared",
}
"""Kinds of change, as people read them."""

SHUT = (SurveyFile.LOCKED, SurveyFile.UNREADABLE)
"""What a file may be whose entries are not known."""


def unread(old: Survey, new: Survey) -> int:
    """Of how many archives of two surveys the contents are not known yet."""
    return Archive.unread().filter(seen_in__survey__in=(old, new)).values("pk").distinct().count()


def made(old: Survey, new: Survey) -> Comparison | None:
    """The newest finished comparison of two surveys."""
    return Comparison.objects.filter(old=old, new=new, ready=True).order_by("-pk").first()


def start_comparing(old: Survey, new: Survey) -> Job:
    """Compare two surveys as a job; one that compares the same two takes its place."""
    title = f"Comparing {old.title()} with {new.title()}"
    return start("compare", title, None, Job.OPEN, ("old", "new"), old=old.pk, new=new.pk)


def _settle(job: Job) -> None:
    """The new comparison takes the place of those before, whose rows go later."""
    if job.state == Job.DONE:
        of_pair = Comparison.objects.filter(old=job.args["old"], new=job.args["new"])
        of_pair.update(ready=False)
        of_pair.filter(pk=job.result["comparison"]).update(ready=True)
    tidy_up()


@work("compare", "quick", _settle)
def compare_surveys(job: Job, progress: Progress) -> dict[str, Any]:
    """The rows of a comparison, in short transactions."""
    pair = Survey.objects.in_bulk([job.args["old"], job.args["new"]])
    if len(pair) < 2:
        raise ZubretError("One of the surveys is not there any more.", next="Choose two from the list.")
    comparison = compare(pair[job.args["old"]], pair[job.args["new"]], progress)
    return {"comparison": comparison.pk}


def compare(old: Survey, new: Survey, progress: Progress = silent) -> Comparison:
    """The changes from one survey to another, worked out anew."""
    comparison = Comparison.objects.create(old=old, new=new, unread=unread(old, new))
    counts = dict.fromkeys(WORDS, 0)

    def counted() -> Iterator[Changed]:
        for change in _changes(old, new, progress):
            counts[change.kind] += 1
            yield change

    rows = ((comparison.pk, c.kind, c.file, c.path, c.old_path, c.old_size, c.new_size, c.detail) for c in counted())
    for n in bulk_insert(Change, Change.BULK, rows):
        progress(0, 0, f"{n:,} changes")
    comparison.counts = counts
    comparison.save(update_fields=["counts"])
    return comparison


def _changes(old: Survey, new: Survey, progress: Progress) -> Iterator[Changed]:
    """The changes of every file; archives that both surveys saw in the same version are passed over."""
    yield from with_renames(_entries(old, new, progress))
    yield from compare_files(_files(old), _files(new))


def _entries(old: Survey, new: Survey, progress: Progress) -> Iterator[Changed]:
    rows = [
        {path: (archive, what) for path, archive, what in survey.seen.values_list("path", "archive", "what") if archive}
        for survey in (old, new)
    ]
    closed: list[str] = []
    paths = sorted(rows[0].keys() | rows[1].keys())
    for n, path in enumerate(paths):
        progress(n, len(paths), f"comparing {path}")
        before, after = (side.get(path, (None, "")) for side in rows)
        if before[0] == after[0] or any(path.startswith(f"{outer}{IN}") for outer in closed):
            continue
        shut = [
            f"{what} in the {when} survey"
            for (_, what), when in ((before, "earlier"), (after, "later"))
            if what in SHUT
        ]
        if shut and before[0] and after[0]:  # nothing is known of what is inside, so nothing is said of it
            closed.append(path)
            yield Changed(UNSURE, path, "", None, None, ", ".join(shut))
        else:
            yield from compare_entries(path, *_differing(before[0], after[0]))


FACTS = ("path", "at", "size", "crc32", "digest", "file")
"""What the rows of an archive's entries tell, as the core compares them."""


def _differing(old: int | None, new: int | None) -> tuple[list[tuple], list[tuple]]:
    """The entries of two archives that have no equal, of known content, at the same place of the other's order.

    The database passes over the equal ones, so that time and memory follow what differs.
    """
    entry = connection.ops.quote_name(Entry._meta.db_table)
    before, after = (", ".join(f"{side}.{fact}" for fact in FACTS) for side in "on")
    equal = " AND ".join(f"n.{fact} IS o.{fact}" for fact in FACTS)
    met = (
        f"SELECT {before}, {after} FROM {entry} o LEFT JOIN {entry} n ON n.archive_id = %s AND n.ordinal = o.ordinal "
        f"WHERE o.archive_id = %s AND NOT ({equal} AND (o.crc32 IS NOT NULL OR o.digest IS NOT NULL)) ORDER BY o.ordinal"
    )
    longer = (
        f"SELECT {after} FROM {entry} n WHERE n.archive_id = %s AND n.ordinal > "
        f"(SELECT COALESCE(MAX(ordinal), -1) FROM {entry} WHERE archive_id = %s) ORDER BY n.ordinal"
    )
    with connection.cursor() as cursor:
        rows = cursor.execute(met, [new, old]).fetchall()
        rest = cursor.execute(longer, [new, old]).fetchall()
    at = len(FACTS)
    return [row[:at] for row in rows], [*(row[at:] for row in rows if row[at] is not None), *rest]


def _files(survey: Survey) -> dict[str, FileFacts]:
    rows = (
        survey.seen.filter(inside=False)
        .exclude(what=SurveyFile.FOLDER)
        .values_list("path", "size", "mtime_ns", "archive__entry_count")
    )
    return {path: FileFacts(size, mtime, entries is not None) for path, size, mtime, entries in rows}


def filtered(made: Comparison, kind: str, q: str) -> QuerySet[Change]:
    """Changes of a kind, with all words of `q` in their path."""
    rows = made.changes.order_by("file", "path", "pk")
    if kind:
        rows = rows.filter(kind=kind)
    for word in q.split():
        rows = rows.filter(Q(path__icontains=word) | Q(file__icontains=word))
    return rows


def number(made: Comparison, kind: str, q: str) -> int:
    """How many changes a filter leaves."""
    if q.split():
        return filtered(made, kind, q).count()
    return made.counts.get(kind, 0) if kind else sum(made.counts.values())


class _Echo:
    @staticmethod
    def write(text: str) -> str:
        return text


def as_csv(rows: QuerySet[Change]) -> Iterator[str]:
    """The changes as lines of a CSV file (RFC 4180)."""
    writer: Any = csv.writer(_Echo())
    yield writer.writerow(["change", "file", "entry", "was called", "bytes before", "bytes after", "detail"])
    for row in rows.iterator():
        kind = WORDS[row.kind]
        file, path, before, detail = map(safe_cell, (row.file, row.path, row.old_path, row.detail))
        yield writer.writerow([kind, file, path, before, row.old_size, row.new_size, detail])
