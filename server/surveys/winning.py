"""Who wins: of each file that several places of a game hold, which one the game reads; by its load rules.

Of all banks that lose, a survey has rows (`Beaten`), so that a list of streams can be asked for them. Who holds one file is looked up
when somebody asks.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import ClassVar

from django.db import connection
from django.db.models import QuerySet

from zubret_core.base import Kept, Progress
from zubret_core.locate import LoadOrder, Mount
from zubret_core.locate.reads import why

from ..bulk import among, bulk_insert
from ..games.folders import original_folder
from ..games.models import Game, Survey, SurveyFile
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from ..layouts.rules import rules_of
from ..shelf.models import Archive, Bank, Beaten, Entry, Stream

Where = tuple[int, int]
"""The number of an archive's row, and that of an entry in it."""


@dataclass(frozen=True)
class Holder:
    """A place that holds a file. place: archive, folder ("" for the game's own); path: what it is called there; why: the rule by which
    the strongest wins over it, "" for that one itself; archive, entry: its row, 0 where that is no archive."""

    place: str
    path: str
    why: str
    archive: int
    entry: int


_orders: Kept[tuple[int, str], LoadOrder] = Kept(4)
"""By the survey and the load rules: who listens down a list asks for each stream."""


def load_order(game: Game, survey: Survey) -> LoadOrder | None:
    """What a game reads from, by the files of a survey; None where nobody knows."""
    rules = rules_of(game)
    if rules is None:
        return None
    paths = _files(survey).values_list("path", flat=True)
    return _orders.made((survey.pk, rules.model_dump_json()), lambda: LoadOrder(rules, original_folder(game), paths))


def _files(survey: Survey) -> QuerySet[SurveyFile]:
    return SurveyFile.objects.filter(survey=survey, inside=False).exclude(what=SurveyFile.FOLDER)


def _archives(survey: Survey, order: LoadOrder) -> dict[int, Mount]:
    """The rows of a survey's archives, with where the game reads them."""
    archives = _files(survey).filter(path__in=among([m.path for m in order.mounts if m.archive]), archive__isnull=False)
    seen = dict(archives.values_list("path", "archive"))
    return {seen[m.path]: m for m in order.mounts if m.archive and m.path in seen}


def beaten(survey: Survey, order: LoadOrder) -> dict[Where, tuple[Mount, Mount]]:
    """The entries of a survey's archives, and the loose files (as entry 0), that lose; with their place and the one that wins."""
    archives, loose = _archives(survey, order), defaultdict[int, list[tuple[str, int | None]]](list)
    if any(not mount.archive for mount in order.mounts):
        for path, own in _files(survey).values_list("path", "archive"):
            for mount, known in order.holding(path):
                loose[mount.rank].append((known, own))
    meet = [mount for mount in order.mounts if _meets(mount, order, loose)]
    rows = {mount.rank: pk for pk, mount in archives.items()}
    best: dict[str, Mount] = {}
    out: dict[Where, tuple[Mount, Mount]] = {}
    for mount in sorted(meet, key=lambda mount: -mount.rank):
        archive = rows.get(mount.rank)
        if mount.archive and archive is not None:
            root = mount.outer("")
            for ordinal, path in _entries(archive):
                winner = best.setdefault(order.same(root + path), mount)
                if winner is not mount:
                    out[archive, ordinal] = mount, winner
        for known, file in loose.get(mount.rank, ()):
            winner = best.setdefault(order.same(known), mount)
            if winner is not mount and file is not None:
                out[file, 0] = mount, winner
    return out


def _meets(mount: Mount, order: LoadOrder, loose: Mapping[int, list]) -> bool:
    """Whether any other place may hold files of the same paths: nothing has to be read of one that is alone."""
    if not mount.archive:
        return True
    if any(order.meet(mount, other) for other in order.mounts if other.archive and other is not mount):
        return True
    return any(order.inner(mount, known) is not None for some in loose.values() for known, _ in some)


def _entries(archive: int) -> Iterator[tuple[int, str]]:
    """Numbers and paths, as they come from the database."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT ordinal, path FROM shelf_entry WHERE archive_id = %s", [archive])
        yield from cursor.fetchall()


def find_winners(survey: Survey) -> int:
    """Write down which banks of a survey lose; how many."""
    order = load_order(survey.game, survey)
    found = beaten(survey, order) if order else {}
    archives = {archive for archive, _ in found}
    rows = []
    outer = dict(Archive.objects.filter(outer__in=among(list(archives))).values_list("pk", "chain"))
    around = dict(Archive.objects.filter(pk__in=among(list(outer))).values_list("pk", "outer"))
    banks = Bank.objects.filter(archive__in=among([*archives, *outer])).values_list("pk", "archive", "entry_index")
    for pk, archive, entry in banks:
        where = (around[archive], outer[archive][0][1]) if archive in outer else (archive, entry)
        if where in found:
            loser, winner = found[where]
            rows.append((survey.pk, pk, winner.path, why(winner, loser)))
    Beaten.objects.filter(survey=survey).delete()
    for _ in bulk_insert(Beaten, ("survey", "bank", "by", "why"), rows):
        pass
    return len(rows)


def holders_of(game: Game, stream: Stream) -> tuple[str, list[Holder]]:
    """The game's path of the file in which a stream stands, and all that hold it, the strongest first; nothing without load rules."""
    survey = game.current_survey()
    order = load_order(game, survey) if survey else None
    if survey is None or order is None:
        return "", []
    archive = stream.archive
    outer, number = (archive.outer, archive.chain[0][1]) if archive.outer else (archive, stream.bank.entry_index)
    mount = order.of(outer.path)
    if mount is None:
        known = next((path for _, path in order.holding(outer.path)), "") if outer.kind == "file" else ""
    else:
        path = Entry.objects.filter(archive=outer, ordinal=number).values_list("path", flat=True).first()
        known = mount.outer(path or "")
    return known, list(holding(survey, order, known)) if known else []


def holding(survey: Survey, order: LoadOrder, game_path: str) -> list[Holder]:
    """All that hold a file that the game knows by a path, the strongest first."""
    rows = {m.rank: pk for pk, m in _archives(survey, order).items()}
    exact = "exact" if order.rules.paths.case == "exact" else "iexact"
    found: list[tuple[Mount, Holder]] = []
    for mount in reversed(order.mounts):
        inner = order.inner(mount, order.slashes(game_path))
        if inner is None:
            continue
        if mount.archive:
            entries = Entry.objects.filter(**{f"path__{exact}": inner}, archive=rows.get(mount.rank))
            here = [(path, rows[mount.rank], n) for path, n in entries.values_list("path", "ordinal")[:1]]
        else:
            place = f"{mount.path}/{inner}" if mount.path else inner
            here = [
                (path, pk or 0, 0)
                for path, pk in _files(survey).filter(**{f"path__{exact}": place}).values_list("path", "archive")
            ]
        for path, archive, entry in here:
            reason = why(found[0][0], mount) if found else ""
            found.append((mount, Holder(mount.path, path, reason, archive, entry)))
    return [holder for _, holder in found]


def stream_there(stream: Stream, holder: Holder) -> int:
    """The number of the stream in another place that stands where this one does in its bank; 0 where there is none."""
    there = Stream.objects.filter(archive=holder.archive, bank__entry_index=holder.entry, ordinal=stream.ordinal)
    return there.values_list("pk", flat=True).first() or 0


@dataclass(frozen=True)
class WinnersOrder(Order):
    """Find out anew who wins, since load rules have changed."""

    kind: ClassVar[str] = "winners"


@dataclass(frozen=True)
class Won:
    """How many banks lose."""

    beaten: int


def start_winners(game: Game) -> Job:
    """Find out who wins in the newest survey, as a job."""
    return start(WinnersOrder(), f"Who wins in {game.name}", game, Job.OPEN)


@work("quick")
def winners(job: Job, order: WinnersOrder, progress: Progress) -> Won:
    """Of the newest survey."""
    assert job.game is not None
    survey = job.game.current_survey()
    return Won(find_winners(survey) if survey else 0)
