"""The contents of entries, read in the background so that surveys can be compared by what is in them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from django.db import connection, transaction
from django.db.models import Sum

from zubret_core.base import Progress, ZubretError
from zubret_core.locate.survey import Digest, digests

from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import work
from ..layouts.known import known_for
from ..shelf.models import Archive, Entry
from ..shelf.opening import spot_of

MANY, MANY_ENTRIES = 500, 5_000
"""Archives that are asked for together, and entries that are written together, at most."""


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
    assert job.game is not None
    unread = Archive.unread().filter(seen_in__survey=order.survey).distinct()
    known, total = known_for(job.game), unread.aggregate(bytes=Sum("unpacked"))["bytes"] or 1
    read, before, count, last = _Read(), 0, 0, 0
    try:
        while archives := list(unread.filter(pk__gt=last).select_related("game", "outer").order_by("pk")[:MANY]):
            last = archives[-1].pk
            for archive in archives:

                def step(done: int, _: int, note: str, start: int = before) -> None:
                    progress(start + done, total, note)

                step(0, 0, f"reading {archive.path}")
                try:
                    spot = spot_of(archive, known)
                except ZubretError:
                    continue  # changed or gone since: the next survey sees it anew
                for found in digests(spot, step):
                    read.entry(archive, found)
                    before += found.size
                    count += 1
                read.archives.append(archive.pk)
            read.write()
    finally:
        read.write()
    return ContentsRead(count)


class _Read:
    """What was read and is not written yet: a transaction for each of thousands of small files takes longer than they do."""

    def __init__(self) -> None:
        self.archives: list[int] = []
        self._digests: list[tuple[int, int, int]] = []

    def entry(self, archive: Archive, found: Digest) -> None:
        signed = found.value - (1 << 64) if found.value >> 63 else found.value
        self._digests.append((signed, archive.pk, found.entry))
        if len(self._digests) >= MANY_ENTRIES:
            self.write()

    def write(self) -> None:
        """Write all of it, and that its archives were read to the end."""
        table = connection.ops.quote_name(Entry._meta.db_table)
        with transaction.atomic(), connection.cursor() as cursor:
            cursor.executemany(f"UPDATE {table} SET digest = %s WHERE archive_id = %s AND ordinal = %s", self._digests)
            Archive.objects.filter(pk__in=self.archives).update(digested=True)
        self._digests.clear()
        self.archives.clear()
