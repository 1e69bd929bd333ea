"""The contents of entries, read in the background so that surveys can be compared by what is in them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from django.db import connection, transaction

from zubret_core.base import Progress, ZubretError
from zubret_core.locate.survey import digests

from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import work
from ..shelf.models import Archive, Entry
from ..shelf.opening import spot_of


@dataclass(frozen=True)
class ReadContents(Order):
    """Read the contents of a survey's archives; survey: its number."""

    kind: ClassVar[str] = "digest"
    survey: int


@dataclass(frozen=True)
class ContentsRead:
    """entries: of how many the content is known now."""

    entries: int


@work("background")
def digest(job: Job, order: ReadContents, progress: Progress) -> ContentsRead:
    """The xxh3-64 of every entry of a survey's archives, so that surveys can be compared by content."""
    rows = Archive.unread().filter(seen_in__survey=order.survey).select_related("game", "outer")
    archives = list(rows.distinct())
    total, before, count = sum(a.unpacked for a in archives) or 1, 0, 0
    for archive in archives:

        def step(done: int, _: int, note: str, start: int = before) -> None:
            progress(start + done, total, note)

        step(0, 0, f"reading {archive.path}")
        try:
            spot = spot_of(archive)
        except ZubretError:
            continue  # changed or gone since: the next survey sees it anew
        batch: list[tuple[int, int, int]] = []
        for found in digests(spot, step):
            number = found.value
            batch.append((number - (1 << 64) if number >> 63 else number, archive.pk, found.entry))
            before += found.size
            count += 1
            if len(batch) >= 5000:
                _keep_digests(batch)
        _keep_digests(batch)
        Archive.objects.filter(pk=archive.pk).update(digested=True)
    return ContentsRead(count)


def _keep_digests(batch: list[tuple[int, int, int]]) -> None:
    table = connection.ops.quote_name(Entry._meta.db_table)
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.executemany(f"UPDATE {table} SET digest = %s WHERE archive_id = %s AND ordinal = %s", batch)
    batch.clear()
