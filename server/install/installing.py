"""Installing a rebuild into a game's folder, and restoring it: what will happen beforehand, the work, and what state the game is in.

Nothing here has rows: what was installed stands in the core's ledger beside the game (`zubret_core.install`), which is right also
where the database is lost or older.
"""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from zubret_core import install as core
from zubret_core.base import Progress, ZubretError
from zubret_core.container import GameFolder
from zubret_core.install import Forecast, Wanted

from ..errors import stopped
from ..games.folders import original_folder, store_of
from ..games.models import Game, SurveyFile
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from ..mods import rebuilding
from ..mods.models import Build
from ..mods.services import build_folder
from ..mods.together import Together
from ..shelf.models import Archive
from ..shelf.opening import check_unchanged

ORIGINAL, INSTALLED, OUTDATED, CHANGED = "original", "installed", "out of date", "changed"
CUT_OFF, AWAY = "cut off", "away"


def newest_build(game: Game) -> Build | None:
    """The newest rebuild of all mods that are on, if it is proved."""
    build = rebuilding.newest_build(Together.used(game))
    return build if build and build.state == Build.PROVED else None


def state_of(game: Game, thorough: bool = False) -> tuple[str, list[core.Found]]:
    """What state the game's folder is in, and what was found of each file that was installed: original; installed (as the newest
    rebuild, which is proved); out of date (another rebuild than that); changed (a file by something else); cut off; away (there is no such folder now)."""
    if not Path(game.folder).is_dir():
        return AWAY, []
    store = store_of(game)
    if store.journal() is not None:
        return CUT_OFF, []
    found = core.look(GameFolder(Path(game.folder)), store, thorough)
    if not found:
        return ORIGINAL, []
    if any(f.state != core.INSTALLED or not f.backup for f in found):
        return CHANGED, found
    build = newest_build(game)
    current = build is not None and store.ledger().of == str(build.pk) and rebuilding.is_fresh(build)
    return INSTALLED if current else OUTDATED, found


def wanted_of(build: Build) -> dict[str, Wanted]:
    """What installing a rebuild makes of the game's folder."""
    folder, name = build_folder(build), Together.numbered(build.game, build.mods).name
    return {f["path"]: Wanted(None if f.get("gone") else folder / f["path"], name) for f in build.files}


def forecast(game: Game, build: Build | None) -> Forecast:
    """What installing a rebuild will do; of none, what restoring will."""
    if not Path(game.folder).is_dir():
        return Forecast([], 0, 0, 0)
    return core.forecast(GameFolder(Path(game.folder)), store_of(game), wanted_of(build) if build else {})


def room(game: Game) -> tuple[int, int]:
    """Free bytes on the game's disk and on that of the backups."""
    place = Path(game.folder)
    return shutil.disk_usage(place).free if place.is_dir() else 0, shutil.disk_usage(
        store_of(game).root.parent.parent
    ).free


def warnings(game: Game, build: Build | None) -> list[ZubretError]:
    """What speaks against it now; what would certainly fail comes first."""
    found = []
    if not Path(game.folder).is_dir():
        return [
            ZubretError(
                "The game's folder is not there.", file=game.folder, next="Plug in its disk, or survey it anew."
            )
        ]
    if not os.access(game.folder, os.W_OK):
        found.append(
            ZubretError(
                "The game's folder can't be written to.",
                file=game.folder,
                next="Change its rights, or start Zubret as somebody who may write there.",
            )
        )
    if build is not None:
        try:
            _check_made_of_this(game, build)
        except ZubretError as e:
            found.append(e)
    if who := _running(Path(game.folder)):
        found.append(
            ZubretError("The game seems to run: a program uses its folder.", field=who, next="Close it first.")
        )
    return found


LEFT = re.compile(r"(?i)(\.(bak|backup|orig|original|old|disabled|off)(\d*)|~|\.part| - copy\.[^./]*| \(\d\)\.[^./]*)$")
"""Names that people and tools give to what they put aside; common practice."""


def leftovers(game: Game) -> list[str]:
    """Files of the game's newest survey that look as if somebody had put them aside by hand, or another tool: by their names."""
    survey = game.current_survey()
    if survey is None:
        return []
    seen = SurveyFile.objects.filter(survey=survey, inside=False).exclude(what=SurveyFile.FOLDER)
    own = {path for path, place in store_of(game).ledger().places.items() if place.installed}
    return [path for path in seen.values_list("path", flat=True) if LEFT.search(path) and path not in own]


def _check_made_of_this(game: Game, build: Build) -> None:
    """An error where a rebuild was made of other files than are there now."""
    folder = original_folder(game)
    survey = game.current_survey()
    for file in build.files:
        place = folder.locate(file["path"])
        stat = place.stat() if place.is_file() else None
        if (stat.st_size if stat else 0) != file["size_before"] or (stat and stat.st_mtime > build.created.timestamp()):
            raise _outdated(file["path"])
    paths = [file["path"] for file in build.files]
    for archive in Archive.objects.filter(seen_in__survey=survey, path__in=paths).select_related("game", "outer"):
        try:
            check_unchanged(archive)
        except ZubretError as e:
            raise _outdated(archive.path) from e


def _outdated(path: str) -> ZubretError:
    return ZubretError(
        "The game's file has changed since the rebuild was made of it.",
        file=path,
        next="Survey the game again, then rebuild.",
    )


def _running(folder: Path) -> str:
    """The name of a program that has its file in this folder, where the system tells (Linux); "" where none is known."""
    for place in Path("/proc").glob("[0-9]*"):
        try:
            program = (place / "exe").readlink()
        except OSError:
            continue
        if folder in program.parents:
            return program.name
    return ""


@dataclass(frozen=True)
class InstallOrder(Order):
    """Install a rebuild, by its number."""

    kind: ClassVar[str] = "install"
    build: int


@dataclass(frozen=True)
class RestoreOrder(Order):
    """Put back what the game was."""

    kind: ClassVar[str] = "restore"


@dataclass(frozen=True)
class Installed:
    """How many files were changed."""

    files: int


def start_install(build: Build) -> Job:
    """Install as a job; refused while something would certainly fail."""
    if build.state != Build.PROVED:
        raise stopped(409, "This rebuild is not proved.", "Rebuild again; only what is proved is installed.")
    if not rebuilding.is_fresh(build):
        raise stopped(409, "The mod has changed since this rebuild.", "Rebuild it first.")
    game = build.game
    for warning in warnings(game, build):
        raise stopped(409, warning.what, warning.next or "", warning.where)
    return _start(InstallOrder(build.pk), f"Installing {Together.numbered(game, build.mods).name}", game)


def start_restore(game: Game) -> Job:
    """Restore as a job."""
    return _start(RestoreOrder(), f"Restoring {game.name}", game)


def _start(order: Order, title: str, game: Game) -> Job:
    busy = Job.objects.filter(game=game, kind__in=("survey", "rebuild"), state__in=Job.OPEN).first()
    if busy:
        raise stopped(409, f"{busy.title} is not done yet.", "Wait for it, or cancel it under Jobs.")
    return start(order, title, game, Job.OPEN)


@work("long")
def install(job: Job, order: InstallOrder, progress: Progress) -> Installed:
    """Make the game's folder what the rebuild says."""
    build = Build.objects.select_related("game").get(pk=order.build)
    game = build.game
    _check_made_of_this(game, build)
    return _done(game, lambda folder, store: core.install(folder, store, wanted_of(build), str(build.pk), progress))


@work("long")
def restore(job: Job, order: RestoreOrder, progress: Progress) -> Installed:
    """Make it what it was."""
    assert job.game is not None
    return _done(job.game, lambda folder, store: core.restore(folder, store, progress))


def _done(game: Game, act: Callable[[GameFolder, core.Store], core.Outcome]) -> Installed:
    outcome = act(GameFolder(Path(game.folder)), store_of(game))
    if outcome.back:
        raise ZubretError(
            "Another program changed a file of the game meanwhile, so everything was put back.",
            file=", ".join(outcome.strange),
            next="Close the game and what updates it, then install again.",
        )
    return Installed(outcome.steps)


def let_go(game: Game, paths: list[str]) -> None:
    """Leave files that something else has changed as they are, and forget that they were installed."""
    states = {f.path: f for f in core.look(GameFolder(Path(game.folder)), store_of(game))}
    unknown = [path for path in paths if path not in states]
    if unknown:
        raise stopped(404, "This file is not installed.", "Choose it from the list.", unknown[0])
    core.let_go(store_of(game), paths)


def settle_all() -> None:
    """Bring to an end what was cut off, in every game; what can't be is told where the game's state is asked for."""
    for game in Game.objects.all():
        if Path(game.folder).is_dir():
            try:
                core.settle(GameFolder(Path(game.folder)), store_of(game))
            except ZubretError:
                continue
