"""Finding games on this machine, and making one to try things on."""

from __future__ import annotations

import os
import shutil
import string
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from typing import ClassVar

from django.conf import settings
from django.utils import timezone

from zubret_core.base import Progress, ZubretError
from zubret_core.locate.likely import likely_games

from ..games.folders import roots
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.program import last_words, run_program
from ..jobs.run import start, work
from ..surveys.surveying import start_survey
from .registry import register_at

LASTS = timedelta(hours=1)
"""How long what was found is shown without looking again."""
USUAL = ("/mnt/*", "/media/*/*", "/run/media/*/*", "/opt", "/srv", "/Applications", "/Volumes/*")
"""Where drives and programs are beside the user's own folder; common practice."""
DEMO = "Saltglass Ferry"
LONGEST = 600.0
"""Seconds after which making the demo game is given up."""


@dataclass(frozen=True)
class LookForGames(Order):
    """Look for folders that look like a game."""

    kind: ClassVar[str] = "look"


@dataclass(frozen=True)
class Likely:
    """A folder that looks like a game; files: its large ones; bytes: of these; program: whether one is there."""

    path: str
    files: int
    bytes: int
    program: bool


@dataclass(frozen=True)
class GamesFound:
    """The folders that look like a game: first those with a program, the largest first."""

    found: list[Likely]


@work("quick")
def look(job: Job, order: LookForGames, progress: Progress) -> GamesFound:
    """Look below the folders that may be read, and at the usual places, by names and sizes only."""
    return GamesFound([Likely(*game) for game in likely_games([*roots(), *_usual()], progress)])


def _usual() -> Iterator[Path]:
    if os.name == "nt":
        yield from (Path(f"{letter}:/") for letter in string.ascii_uppercase if os.path.exists(f"{letter}:/"))
        return
    for pattern in USUAL:
        yield from sorted(p for p in Path("/").glob(pattern[1:]) if p.is_dir())


def start_looking(again: bool) -> Job:
    """A job that looks, or the last one where it is not long ago."""
    last = Job.objects.filter(kind=LookForGames.kind, state=Job.DONE, finished__gt=timezone.now() - LASTS)
    if not again and (found := last.order_by("-pk").first()) is not None:
        return found
    return start(LookForGames(), "Looking for games", None, Job.OPEN)


@dataclass(frozen=True)
class MakeDemo(Order):
    """Make the demo game."""

    kind: ClassVar[str] = "demo"


@dataclass(frozen=True)
class DemoMade:
    """game: its number."""

    game: int


@work("long")
def make_demo(job: Job, order: MakeDemo, progress: Progress) -> DemoMade:
    """Have the stand-in make its game in the data folder, and survey it; one that is there is taken as it is."""
    folder = settings.DATA_DIR / "demo" / DEMO
    if not folder.is_dir():
        part = folder.with_name(f"{DEMO}.part")
        shutil.rmtree(part, ignore_errors=True)
        part.parent.mkdir(exist_ok=True)
        try:
            _make(part, progress)
            part.rename(folder)
        finally:
            shutil.rmtree(part, ignore_errors=True)
    game = register_at(folder)
    if game.current_survey() is None:
        start_survey(game)
    return DemoMade(game.pk)


def _make(folder: Path, progress: Progress) -> None:
    command = [sys.executable, "-m", "standin", "make", str(folder)]
    try:
        done = run_program(command, LONGEST, progress, "being made: half a minute")
    except subprocess.TimeoutExpired as e:
        raise ZubretError("Making the demo game takes too long.", next="Try it again.") from e
    if done.returncode:
        raise ZubretError("The demo game can't be made.", field=last_words(done.stderr), next="Try it again.")


def start_demo() -> Job:
    """A job that makes the demo game."""
    return start(MakeDemo(), "Demo game", None, Job.OPEN)
