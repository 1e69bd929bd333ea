"""What changed between two surveys, and who wins, each against one bare SQL join; and a mod judged against a new build."""

from __future__ import annotations

import sqlite3
import zlib
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from unittest import mock

from django.utils import timezone

from server.bulk import bulk_insert
from server.changes import comparing as changes
from server.games.models import Game, Survey, SurveyFile
from server.jobs.models import Job
from server.mods import carrying
from server.mods.models import Judged, Judgement, Mod, Swap
from server.shelf.models import Archive, Bank, Entry, Stream, pack_locator
from server.surveys import winning
from server.surveys.rows import entry_row
from zubret_core.base import Format, silent
from zubret_core.container import Entry as CoreEntry
from zubret_core.container import GameFolder
from zubret_core.layout import load_rules
from zubret_core.locate import LoadOrder

from .pairs import Row, pairs, seconds
from .tables import COUNT

JOIN = "SELECT o.path, o.size, n.size FROM side0 o LEFT JOIN side1 n ON n.path = o.path WHERE n.crc IS NOT o.crc"
"""What a bare database answers."""


def two_surveys(game: Game, entry: Callable[[int, int], CoreEntry]) -> tuple[list[Survey], sqlite3.Connection]:
    """Two surveys of one archive, whose entries come by build and number; and the same rows in a bare database."""
    surveys, bare = [], sqlite3.connect(":memory:")
    for build in (0, 1):
        survey = Survey.objects.create(game=game)
        archive = Archive.objects.create(
            game=game, path="x.crate", size=build, mtime_ns=1, kind="layout", entry_count=COUNT
        )
        SurveyFile.objects.create(survey=survey, path="x.crate", size=1, mtime_ns=1, what="archive", archive=archive)
        entries = (entry(build, n) for n in range(COUNT))
        made = [entry_row(archive.pk, n, e, e.path) for n, e in enumerate(entries)]
        for _ in bulk_insert(Entry, Entry.BULK, made):
            pass
        bare.execute(f"CREATE TABLE side{build} (path TEXT, at INTEGER, size INTEGER, crc INTEGER)")
        bare.executemany(f"INSERT INTO side{build} VALUES (?, ?, ?, ?)", [(r[2], r[4], r[6], r[8]) for r in made])
        bare.execute(f"CREATE INDEX by_path{build} ON side{build} (path)")
        surveys.append(survey)
    bare.commit()
    return surveys, bare


def _some_differ(build: int, n: int) -> CoreEntry:
    path = f"s/{n // 500}/e{n + (build if n % 97 == 0 else 0):06}x.bin"
    return CoreEntry(path, n, 900, 900, "plain", zlib.crc32(b"%d" % (n if n % 89 or not build else -n)))


def rows(folder: Path) -> Iterator[Row]:
    """All rows of this part."""
    yield from _compared(folder)
    yield from _judged(folder)
    yield from _won(folder)


ARCHIVES = 20
"""Of which each holds as many of the 200,000 paths; half of these are held by others, too."""
RULES = """
zubret: 1
id: bench
describes: game
recognise: [{file: a}]
reads:
  - {name: packs, archives: "pack_*.crate", order: number, root: pack}
"""
HELD = "SELECT a.archive, a.n FROM held a JOIN held b ON b.path = a.path AND b.archive > a.archive"
"""What a bare database answers: all that lose, each as often as somebody wins over it."""


def _won(folder: Path) -> Iterator[Row]:
    """Who wins among 20 archives of 200,000 paths, a quarter of which lose, against one bare join of the same rows."""
    place = folder / "packs"
    place.mkdir()
    game = Game.objects.create(name="bench", folder=str(place))
    survey, each = Survey.objects.create(game=game), COUNT // ARCHIVES
    bare = sqlite3.connect(":memory:")
    bare.execute("CREATE TABLE held (path TEXT, archive INTEGER, n INTEGER)")
    for k in range(ARCHIVES):
        path = f"pack_{k}.crate"
        archive = Archive.objects.create(game=game, path=path, size=k, mtime_ns=1, kind="layout", entry_count=each)
        SurveyFile.objects.create(survey=survey, path=path, size=1, mtime_ns=1, what="archive", archive=archive)
        names = [f"s/{n // 500}/e{n + (k // 2 if n % 2 else k) * each:06}.bin" for n in range(each)]
        made = [entry_row(archive.pk, n, CoreEntry(name, n, 9, 9, "plain", 1), name) for n, name in enumerate(names)]
        for _ in bulk_insert(Entry, Entry.BULK, made):
            pass
        bare.executemany("INSERT INTO held VALUES (?, ?, ?)", [(name, k, n) for n, name in enumerate(names)])
    bare.execute("CREATE INDEX by_path ON held (path)")
    order = LoadOrder(load_rules(RULES), GameFolder(place), [f"pack_{k}.crate" for k in range(ARCHIVES)])
    try:
        found = len(winning.beaten(survey, order))
        row = pairs(
            "who wins among 200,000 paths in 20 archives",
            lambda: winning.beaten(survey, order),
            "one bare SQL join of them",
            lambda: bare.execute(HELD).fetchall(),
            3.0,
        )
        row.note += f"; {found:,} lose"
        yield row
    finally:
        Entry.objects.all()._raw_delete("default")
        game.delete()
        bare.close()


def _compared(folder: Path) -> Iterator[Row]:
    """Two surveys of 200,000 entries, some thousand of them different, against one bare join of the same rows."""
    game = Game.objects.create(name="bench", folder=str(folder / "changes"))
    surveys, bare = two_surveys(game, _some_differ)

    def forget() -> None:
        changes.Comparison.objects.all().delete()

    try:
        yield pairs(
            "what changed between two surveys of 200,000 entries",
            lambda: changes.compare(*surveys),
            "one bare SQL join of them",
            lambda: bare.execute(JOIN).fetchall(),
            3.0,
            before=forget,
        )
    finally:
        changes.Comparison.objects.all().delete()
        Entry.objects.all()._raw_delete("default")
        game.delete()
        bare.close()


SWAPS, A_BANK = 2_000, 500
"""Of a mod that is judged; streams of a bank."""


def _judged(folder: Path) -> Iterator[Row]:
    """A mod of 2,000 swaps against a build of 200,000 streams, before each of which one entry came: none stands where it stood. Every
    tenth is another sound, every hundredth gone. Payloads are not read here."""
    game = Game.objects.create(name="bench", folder=str(folder / "build"))
    survey = Survey.objects.create(game=game, finished=timezone.now())
    archive = Archive.objects.create(game=game, path="x.crate", size=1, mtime_ns=1, kind="layout", complete=True)
    SurveyFile.objects.create(survey=survey, path="x.crate", size=1, mtime_ns=1, what="archive", archive=archive)
    bank = Bank.objects.create(archive=archive, entry_index=1, entry_path="b", name="b")
    format = Format("pcm", 48_000, 1, 9_000)

    def where(n: int, build: int) -> str:
        return pack_locator("x.crate", [(f"voice/{n // A_BANK:03}.bell", n // A_BANK + build)], f"{n:06}", n % A_BANK)

    own = ("pcm", "", 48_000, 1, 9_000, 0.2, None, None, 0, "{}")
    streams = (
        (archive.pk, bank.pk, where(n, 1), n, f"{n:06}", "", *own, 0, 900 + n % 5_000, 0, "", "voice", "", "{}")
        for n in range(COUNT)
        if n % 10_000 != 100
    )
    for _ in bulk_insert(Stream, Stream.BULK, streams):
        pass
    mod = Mod.objects.create(game=game, name="bench")
    step = COUNT // SWAPS
    Swap.objects.bulk_create(
        Swap(
            mod=mod,
            locator=where(n, 0),
            source="silence",
            source_name="silence",
            payload_digest=f"{n if n % (10 * step) else -n:06}",
            original={"format": format.as_dict(), "stored": 900 + n % 5_000},
            prepared={"digest": "made", "format": format.as_dict()},
            state=Swap.READY,
        )
        for n in range(0, COUNT, step)
    )
    numbers = dict(Stream.objects.filter(archive=archive).values_list("pk", "ordinal"))

    def judge() -> None:
        carrying.judge_mod(Job(), carrying.JudgeOrder(mod.pk), silent)

    try:
        with mock.patch.object(carrying, "_read", lambda stream: f"{numbers[stream.number]:06}"):
            times = [seconds(judge) for _ in range(5)]
        found = Counter(Judged.objects.values_list("verdict", flat=True))
        note = ", ".join(f"{number:,} {verdict}" for verdict, number in found.items())
        yield Row("a mod of 2,000 swaps judged against 200,000 streams", "none: seconds", times, 5.0, note, "s")
        order = carrying.CarryOrder(mod.pk, True, [])
        times = [seconds(lambda: carrying.carry_over(Job(), order, silent))]
        yield Row("those of them that are the same carried over", "none: seconds", times, unit="s")
    finally:
        for made in (Judged, Judgement, Swap, Stream):
            made.objects.all()._raw_delete("default")
        game.delete()
