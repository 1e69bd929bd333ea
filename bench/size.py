"""A game at full size: its survey against plain walks, lists against those of a hundredth of it, and a comparison."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import time
import zlib
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any
from unittest import mock

from django.db import connection
from django.test import Client

from server.changes import comparing as changes
from server.games.models import Comparison, Game, SurveyFile
from server.jobs import run
from server.shelf.models import Archive, Bank, Entry, Given, Stream
from server.surveys.contents import ContentsRead
from server.surveys.surveying import start_survey
from zubret_core.container import Entry as CoreEntry

from . import game
from .pairs import Row, pairs, seconds
from .surveys import JOIN, two_surveys

FULL, SMALL = (50_000, 200_000, 40_000), (500, 2_000, 400)
"""Loose files, entries of a table and of a ZIP file, streams in banks and in the ZIP file."""
LISTS = (
    "/files",
    "/files?tree=true&opened=",
    "/holders",
    "/places",
    "/groups",
    "/file-kinds",
    "/streams",
    "/entries",
    "/entries?archive={archive}",
    "/route",
    "/survey",
)
TYPED = ("bank_03", "harbour", "voice 399", "3999", "line 17 of", "bank_0", "39")
"""What somebody types into Locate's field."""


def rows(folder: Path) -> Iterator[Row]:
    """All rows of this part."""
    run._kinds["digest"] = run._kinds["digest"]._replace(
        work=lambda job, order, progress: ContentsRead(0)
    )  # contents are not measured here
    loose = folder / "loose"
    game.loose_sounds(loose, FULL[0])
    yield from _surveys(loose)
    games = {}
    for name, sizes in (("small", SMALL), ("full", FULL)):
        game.make(folder / name, sizes[0], sizes[1], sizes[2], 50, 3)
        games[name] = Game.objects.create(name=name, folder=str(folder / name))
        if name == "full":
            yield _memory(games[name])
        else:
            start_survey(games[name])
    yield from _lists(folder, games)
    yield from _comparison(folder)


def _survey(of: Game) -> None:
    job = start_survey(of)
    job.refresh_from_db()
    assert job.state == "done", job.error


def _walk(folder: Path) -> int:
    """The plain loop: every file's first 64 bytes."""
    total = 0
    for place, _, names in os.walk(folder):
        for name in names:
            with open(os.path.join(place, name), "rb") as file:
                total += len(file.read(64))
    return total


def _surveys(loose: Path) -> Iterator[Row]:
    of = Game.objects.create(name="loose", folder=str(loose))
    _survey(of)  # both find the files in the system's cache
    ratios, ours, theirs = [], [], []
    for _ in range(5):
        of.delete()
        for model in (Stream, Bank, Entry, SurveyFile, Archive):
            model.objects.all()._raw_delete("default")
        of = Game.objects.create(name="loose", folder=str(loose))
        ours.append(seconds(partial(_survey, of)))
        theirs.append(seconds(partial(_walk, loose)))
        ratios.append(ours[-1] / theirs[-1])
    note = f"{statistics.median(ours):.1f} s against {statistics.median(theirs):.2f} s"
    yield Row("a survey of 50,000 loose sounds", "a loop that reads 64 bytes of each", ratios, 6, note)
    ratios, ours, theirs = [], [], []
    find = ["find", str(loose), "-type", "f", "-printf", "%p %s %T@\n"]
    for _ in range(3):
        ours.append(seconds(lambda: _survey(of)))
        theirs.append(seconds(lambda: subprocess.run(find, stdout=subprocess.DEVNULL, check=True)))
        ratios.append(ours[-1] / theirs[-1])
    note = f"{statistics.median(ours):.2f} s against {statistics.median(theirs):.2f} s"
    yield Row("again, with nothing changed", "find -printf of the same folder", ratios, 4, note)


def _memory(of: Game) -> Row:
    """The most memory of a process that surveys the game, above what it has when it begins."""
    code = (
        "import os, sys, django; django.setup(); from server.ready import make_ready; make_ready();"
        "from server.games.models import Game; from bench import size; from server.jobs import run;"
        "from server.surveys.contents import ContentsRead;"
        "run._kinds['digest'] = run._kinds['digest']._replace(work=lambda j, o, p: ContentsRead(0));"
        "most = lambda: int(open('/proc/self/status').read().split('VmHWM:')[1].split()[0]);"
        "before = most(); import time; begun = time.perf_counter();"
        "size._survey(Game.objects.get(pk=int(sys.argv[1])));"
        "print(most() - before, time.perf_counter() - begun)"
    )
    done = subprocess.run([sys.executable, "-c", code, str(of.pk)], capture_output=True, text=True, check=True)
    peak, took = done.stdout.split()
    return Row(
        "memory of a survey of it all, above idle", "290,000 files, entries and streams more", [int(peak) / 1024], 500,
        f"{float(took):.0f} s", "MB",
    )  # fmt: skip


def _lists(folder: Path, games: dict[str, Game]) -> Iterator[Row]:
    client = Client(HTTP_HOST="localhost")

    def asked(of: Game, path: str) -> Callable[[], Any]:
        archive = Archive.objects.filter(game=of, path="data/table.crate").values_list("pk", flat=True).first()
        address = f"/api/games/{of.pk}{path.format(archive=archive)}"
        return lambda: client.get(address).content

    ratios, note = [], []
    for path in LISTS:
        row = pairs(path, asked(games["full"], path), "", asked(games["small"], path), None, 9)
        ratios.append(row.median)
        note.append(f"{path.partition('=')[0]} {row.median:.2f}")
    yield Row(
        "first answers of lists, the slowest of them", "the same with a hundredth", [max(ratios)], 1.5, ", ".join(note)
    )
    yield _typed(folder, client)


def _typed(folder: Path, client: Client) -> Row:
    """Rows for what is typed into Locate's field, over 40,000 streams, some of them with names that were given."""
    place = folder / "typed"
    place.mkdir()
    game.many_streams(place / "voice.crate", FULL[2])
    of = Game.objects.create(name="typed", folder=str(place))
    start_survey(of)
    streams = Stream.objects.filter(archive__game=of)
    for n, locator in enumerate(streams.order_by("pk").values_list("locator", flat=True)[:2000]):
        Given.objects.create(game=of, locator=locator, name=f"line {n} of the harbour")
    times = []
    for n in range(40):
        query = f"/streams?q={TYPED[n % len(TYPED)].replace(' ', '+')}"
        Game.objects.filter(pk=of.pk).update(said=n)  # so that no answer is one of those before
        times.append(seconds(lambda address=f"/api/games/{of.pk}{query}": client.get(address).content) * 1000)
    return Row("a typed filter over 40,000 streams, rows in the answer", "none", times, 60, unit="ms")


def _most_differ(build: int, n: int) -> CoreEntry:
    content = n if n % 10 == 0 else -n * build
    return CoreEntry(f"s/{n // 500}/e{n:06}.bin", n, 900, 900, "plain", zlib.crc32(b"%d" % content))


def _comparison(folder: Path) -> Iterator[Row]:
    """Two surveys of 200,000 entries with nine of ten different, and the longest transaction of their comparison."""
    of = Game.objects.create(name="compared", folder=str(folder / "compared"))
    surveys, bare = two_surveys(of, _most_differ)
    locked: list[float] = []
    began = [0.0]

    def watch(execute: Callable, sql: str, params: Any, many: bool, context: Any) -> Any:
        if sql.startswith("BEGIN"):
            began[0] = time.perf_counter()
        return execute(sql, params, many, context)

    def commit() -> None:
        commits()
        locked.append(time.perf_counter() - began[0])

    commits = connection.commit

    def compare() -> None:
        with connection.execute_wrapper(watch), mock.patch.object(connection, "commit", commit):
            changes.compare(*surveys)

    yield pairs(
        "what changed, nine of ten entries different",
        compare,
        "one bare SQL join of them",
        lambda: bare.execute(JOIN).fetchall(),
        4,
        3,
        before=Comparison.objects.all().delete,
    )
    yield Row("its longest transaction", "none", [max(locked) * 1000], 50, unit="ms")
    Comparison.objects.all().delete()
