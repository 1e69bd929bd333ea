"""What changed between two surveys: the core compares, the rows can be filtered and paged."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, ClassVar, NamedTuple

from django.db import connection, transaction
from django.db.models import Count, Q, QuerySet

from zubret_core.base import Progress, ZubretError, silent
from zubret_core.extract.sounds import safe_cell
from zubret_core.locate.compare import UNSURE, FileFacts, compare_entries, compare_files, with_renames
from zubret_core.locate.compare import Change as Changed
from zubret_core.locate.spot import IN

from ..bulk import BATCH, bulk_insert
from ..games.models import Change, Comparison, Survey, SurveyFile
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, tidy_up, work
from ..paging import next_of
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


@dataclass(frozen=True)
class CompareOrder(Order):
    """Compare two surveys, by their numbers."""

    kind: ClassVar[str] = "compare"
    old: int
    new: int


@dataclass(frozen=True)
class Compared:
    """comparison: its number."""

    comparison: int


def start_comparing(old: Survey, new: Survey) -> Job:
    """Compare two surveys as a job; one that compares the same two takes its place."""
    title = f"Comparing {old.title()} with {new.title()}"
    return start(CompareOrder(old.pk, new.pk), title, None, Job.OPEN, ("old", "new"))


def _settle(job: Job, order: CompareOrder, result: Compared | None) -> None:
    """The new comparison takes the place of those before, whose rows go later."""
    if result is not None:
        of_pair = Comparison.objects.filter(old=order.old, new=order.new)
        of_pair.update(ready=False)
        of_pair.filter(pk=result.comparison).update(ready=True)
    tidy_up()


@work("quick", _settle)
def compare_surveys(job: Job, order: CompareOrder, progress: Progress) -> Compared:
    """The rows of a comparison, in short transactions."""
    pair = Survey.objects.in_bulk([order.old, order.new])
    if len(pair) < 2:
        raise ZubretError("One of the surveys is not there any more.", next="Choose two from the list.")
    return Compared(compare(pair[order.old], pair[order.new], progress).pk)


def compare(old: Survey, new: Survey, progress: Progress = silent) -> Comparison:
    """The changes from one survey to another, worked out anew."""
    comparison = Comparison.objects.create(old=old, new=new, unread=unread(old, new))
    changes = _changes(comparison, progress)
    rows = ((comparison.pk, c.kind, c.file, c.path, c.old_path, c.old_size, c.new_size, c.detail) for c in changes)
    for n in bulk_insert(Change, Change.BULK, rows):
        progress(0, 0, f"{n:,} changes")
    found = comparison.changes.order_by().values_list("kind").annotate(Count("pk"))
    comparison.counts = {**dict.fromkeys(WORDS, 0), **dict(found)}
    comparison.save(update_fields=["counts"])
    return comparison


def _changes(made: Comparison, progress: Progress) -> Iterator[Changed]:
    """The changes of every file that are not written yet; archives that both surveys saw in the same version are passed
    over."""
    yield from with_renames(_entries(made, progress))
    yield from compare_files(_files(made.old), _files(made.new))


def _entries(made: Comparison, progress: Progress) -> Iterator[Changed]:
    sides = []
    for survey in (made.old, made.new):
        seen = survey.seen.exclude(archive=None).values_list("path", "archive", "what", "archive__entry_count")
        sides.append({path: _Side(archive, what, entries) for path, archive, what, entries in seen})
    closed: list[str] = []
    paths = sorted(sides[0].keys() | sides[1].keys())
    for n, path in enumerate(paths):
        progress(n, len(paths), f"comparing {path}")
        before, after = (side.get(path, NOT_THERE) for side in sides)
        if before.archive == after.archive or any(path.startswith(f"{outer}{IN}") for outer in closed):
            continue
        shut = [
            f"{side.what} in the {when} survey"
            for side, when in ((before, "earlier"), (after, "later"))
            if side.what in SHUT
        ]
        if shut and before.archive and after.archive:  # nothing is known of what is inside, so nothing is said of it
            closed.append(path)
            yield Changed(UNSURE, path, "", None, None, ", ".join(shut))
            continue
        yield from compare_entries(path, *_differing(made, path, before, after, progress))


class _Side(NamedTuple):
    """An archive as one survey saw it."""

    archive: int | None
    what: str
    entries: int


NOT_THERE = _Side(None, "", 0)
FEW = BATCH // 10
"""Entries that differ, among as many as are looked at together, up to which the core compares them all."""
FACTS = ("path", "at", "size", "crc32", "digest", "file")
"""What the rows of an archive's entries tell, as the core compares them."""
_PAIRS = """
    INSERT INTO games_change (comparison_id, kind, file, path, old_path, old_size, new_size, detail)
    SELECT %s, CASE same WHEN 1 THEN 'moved' WHEN 0 THEN 'changed' ELSE 'unsure' END, %s, path, '', old_size, new_size,
        CASE same WHEN 1 THEN replace(printf('byte %%,d to %%,d', old_at, new_at), ',', char(0x202f)) ELSE '' END
    FROM (
        SELECT o.path, o.size old_size, n.size new_size, o.at old_at, n.at new_at, o.at = n.at AND o.file = n.file in_place,
            CASE WHEN o.size <> n.size THEN 0
                WHEN o.digest IS NOT NULL AND n.digest IS NOT NULL THEN o.digest = n.digest
                WHEN o.crc32 IS NOT NULL AND n.crc32 IS NOT NULL THEN o.crc32 = n.crc32 END same
        FROM shelf_entry o JOIN shelf_entry n ON n.archive_id = %s AND n.ordinal = +o.ordinal AND +n.path = o.path
        WHERE o.archive_id = %s AND o.ordinal >= %s AND o.ordinal < %s
    )
    WHERE same IS NOT 1 OR NOT in_place
"""


def _differing(
    made: Comparison, file: str, before: _Side, after: _Side, progress: Progress
) -> tuple[list[tuple], list[tuple]]:
    """The entries of two archives that are left for the core. Some thousand are looked at together: the database passes over
    those that have an equal, of known content, at the same place of the other's order, so that time and memory follow what
    differs.

    Where most differ, all but a few have the same path there, and the rules for such a pair are simple: the database follows
    them itself, and writes these changes down. A test holds what it finds equal to what the core finds.
    """
    entry = connection.ops.quote_name(Entry._meta.db_table)
    facts = ", ".join(f"{side}.{fact}" for side in "on" for fact in FACTS)
    equal = " AND ".join(f"n.{fact} IS o.{fact}" for fact in FACTS)
    met = (
        f"SELECT {facts} FROM {entry} o LEFT JOIN {entry} n ON n.archive_id = %s AND n.ordinal = +o.ordinal "
        "WHERE o.archive_id = %s AND o.ordinal >= %s AND o.ordinal < %s AND "
    )
    differs = f"NOT ({equal} AND (o.crc32 IS NOT NULL OR o.digest IS NOT NULL)) ORDER BY o.ordinal LIMIT {FEW + 1}"
    rows: list[tuple] = []
    with connection.cursor() as cursor:
        for first in range(0, before.entries if before.archive else 0, BATCH):
            those = [after.archive, before.archive, first, first + BATCH]
            some = cursor.execute(met + differs, those).fetchall()
            if len(some) > FEW:
                with transaction.atomic():
                    cursor.execute(_PAIRS, [made.pk, file, *those])
                some = cursor.execute(f"{met} n.path IS NOT o.path ORDER BY o.ordinal", those).fetchall()
            rows += some
            progress(first, before.entries, f"comparing {file}")
        rest = cursor.execute(
            f"SELECT {', '.join(FACTS)} FROM {entry} WHERE archive_id = %s AND ordinal >= %s ORDER BY ordinal",
            [after.archive, before.entries if before.archive else 0],
        ).fetchall()
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


def next_change(made: Comparison, kind: str, q: str, begins: str, first: int) -> int:
    """The place of the next change, from one place on and then from the start, whose file or entry begins with a text; -1 where
    there is none."""
    paths = filtered(made, kind, q).values_list("file", "path").iterator()
    return next_of([n for n, names in enumerate(paths) if any(_begins(x, begins.lower()) for x in names)], first)


def _begins(path: str, text: str) -> bool:
    return path.lower().startswith(text) or path.rpartition("/")[2].lower().startswith(text)


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
