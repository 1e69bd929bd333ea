"""Plans, rebuilds, proofs and trial runs in the API."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.db.models import QuerySet
from django.http import FileResponse, HttpRequest
from ninja import Router, Schema

from ..errors import one, stopped
from ..jobs.api import JobOut
from ..paging import Limit, Offset
from ..shelf.api import Ribbon
from . import parts, rebuilding, services
from .models import Build, Mod, Swap, Trial
from .together import Together

router = Router()


class RebuildIn(Schema):
    """With `tight` everything is laid out afresh, without free space; with `deep` the proof decodes what nobody touched,
    too, in every bank that is rebuilt; together: all mods that are on as one."""

    tight: bool = False
    deep: bool = False
    together: bool = False


class PlacedFile(Schema):
    """Where a file goes in a rebuild."""

    place: str
    adds: bool


class SuspectOut(Schema):
    """A number that may not fit what is written: where, what speaks for it, and the line that would tie it, if one can."""

    file: str
    place: str
    evidence: str
    line: str


class BankSize(Schema):
    """What the streams of a bank take in bytes, and how many seconds they last, before and after."""

    name: str
    size_before: int
    size: int
    seconds_before: float
    seconds: float


class FilePlanOut(Schema):
    """A file that a rebuild writes, before and after; note tells why where no stream and no entry does. gone: it is set aside instead;
    way: by which of the game's ways it is taken, empty for the place of the old file."""

    path: str
    size_before: int
    size: int
    in_place: bool
    moved: int
    entries: int
    note: str
    gone: bool = False
    way: str = ""
    streams: list[str]
    banks: list[BankSize] = []
    files: list[PlacedFile]
    suspects: list[SuspectOut] = []
    before: Ribbon
    after: Ribbon


class ProofOut(Schema):
    """A measured fact of a proof; doubt: it holds, but should be looked at."""

    file: str
    label: str
    expected: str
    found: str
    ok: bool
    doubt: bool = False


class ResultOut(Schema):
    """A swapped stream in the rebuilt files."""

    swap_id: int
    title: str
    audio: str


class TrialIn(Schema):
    """Which swap to play, and how often its loop. installed: from the game's own folder, as it is now; else the rebuilt files are
    laid over it."""

    swap_id: int
    loops: int = 2
    installed: bool = False


class TrialOut(Schema):
    """A trial run; played is null while it runs; audio is the address of what was played."""

    id: int
    title: str
    loops: int
    played: bool | None
    why: str
    log: list[str]
    rate: int
    channels: int
    frames: int
    audio: str


class BuildOut(Schema):
    """A rebuild. state: writing, proving, proved or not proved; files, points: how many; failed, doubts: of the points."""

    id: int
    state: str
    tight: bool
    fresh: bool
    created: datetime
    files: int
    points: int
    failed: int
    doubts: int
    trials: list[TrialOut]


class PlanPage(Schema):
    """Files of a plan, and how many there are."""

    rows: list[FilePlanOut]
    total: int


class BuiltFile(Schema):
    """A file of a rebuild by its number; size in bytes; gone: it is set aside instead of written; how many points of its proof there are, fail, should be looked at."""

    number: int
    path: str
    size: int
    gone: bool
    points: int
    failed: int
    doubts: int


class BuiltFiles(Schema):
    """Files of a rebuild, and how many there are."""

    rows: list[BuiltFile]
    total: int


class ProofPage(Schema):
    """Points of a proof, and how many there are."""

    rows: list[ProofOut]
    total: int


class ResultPage(Schema):
    """Swapped streams of a rebuild, and how many there are."""

    rows: list[ResultOut]
    total: int


class TrialStarted(Schema):
    """The trial and the job that runs it."""

    trial: TrialOut
    job: JobOut


def _mods(mod_id: int, together: bool) -> Together:
    """A mod alone, or all of its game that are on."""
    mod = one(Mod.objects.select_related("game"), mod_id)
    return Together.used(mod.game) if together else Together(mod.game, (mod,))


@router.get("/mods/{int:mod_id}/plan", response=PlanPage | None)
def get_plan(
    request: HttpRequest,
    mod_id: int,
    tight: bool = False,
    together: bool = False,
    offset: Offset = 0,
    limit: Limit = 100,
):
    """What a rebuild would write, as far as that was worked out for the mod as it is now; else null. together: with all that are on."""
    plan = rebuilding.newest_plan(_mods(mod_id, together), tight)
    return None if plan is None else _page(parts.planned_files(plan, offset, limit))


class PlanIn(Schema):
    """tight: lay archives and banks out afresh; together: with all mods that are on."""

    tight: bool = False
    together: bool = False


@router.post("/mods/{int:mod_id}/plan", response=JobOut)
def make_plan(request: HttpRequest, mod_id: int, data: PlanIn):
    """Work out what a rebuild would write, as a job."""
    return rebuilding.start_planning(_mods(mod_id, data.together), data.tight)


@router.post("/mods/{int:mod_id}/rebuild", response=JobOut)
def rebuild(request: HttpRequest, mod_id: int, data: RebuildIn):
    """Write new files and prove them."""
    return rebuilding.start_rebuild(_mods(mod_id, data.together), data.tight, data.deep)


@router.get("/mods/{int:mod_id}/build", response=BuildOut | None)
def latest_build(request: HttpRequest, mod_id: int, together: bool = False):
    """The newest rebuild of a mod, or of all that are on as one; else null."""
    build = rebuilding.newest_build(_mods(mod_id, together))
    return _build_out(build) if build else None


def _build_out(build: Build) -> dict[str, Any]:
    return {
        "id": build.pk,
        "state": build.state,
        "tight": build.tight,
        "fresh": rebuilding.is_fresh(build),
        "created": build.created,
        **parts.totals(build),
        "trials": [_trial_out(t) for t in build.trials.order_by("-id")[:20]],
    }


def _page(page: parts.Page) -> dict[str, Any]:
    rows, total = page
    return {"rows": rows, "total": total}


@router.get("/builds/{int:build_id}/files", response=BuiltFiles)
def built_files(request: HttpRequest, build_id: int, offset: Offset = 0, limit: Limit = 100):
    """The files of a rebuild: first those of which a point of the proof fails."""
    return _page(parts.built_files(one(_builds(), build_id), offset, limit))


@router.get("/builds/{int:build_id}/proof", response=ProofPage)
def proof_of(request: HttpRequest, build_id: int, file: str, offset: Offset = 0, limit: Limit = 100):
    """The points of the proof of a file, by its path: first those that fail."""
    return _page(parts.points_of(one(_builds(), build_id), file, offset, limit))


@router.get("/builds/{int:build_id}/results", response=ResultPage)
def results_of(request: HttpRequest, build_id: int, offset: Offset = 0, limit: Limit = 100):
    """The swapped streams of a rebuild, and where each is heard."""
    return _page(parts.results_of(one(_builds(), build_id), offset, limit))


def _builds() -> QuerySet[Build]:
    """Builds without what may be long."""
    return Build.objects.defer("files", "proof")


def _trial_out(trial: Trial) -> dict[str, Any]:
    out = {k: getattr(trial, k) for k in ("id", "title", "loops", "played", "why", "log", "rate", "channels", "frames")}
    return {**out, "audio": f"t{trial.pk}.{trial.digest}" if trial.played else ""}


@router.get("/builds/{int:build_id}/files/{int:number}")
def download(request: HttpRequest, build_id: int, number: int):
    """A rebuilt file."""
    build = one(Build.objects.all(), build_id)
    if number >= len(build.files):
        raise stopped(404, "The rebuild has no such file.", "Choose it from the list.")
    place = services.build_folder(build) / build.files[number]["path"]
    if not place.is_file():
        raise stopped(410, "The rebuilt file is no longer there.", "Rebuild again.", place.name)
    return FileResponse(open(place, "rb"), as_attachment=True, filename=place.name)


@router.post("/builds/{int:build_id}/trials", response=TrialStarted)
def start_trial(request: HttpRequest, build_id: int, data: TrialIn):
    """Play a swapped stream in the stand-in game."""
    build = one(Build.objects.select_related("game"), build_id)
    swap = one(Swap.objects.select_related("mod__game"), data.swap_id)
    trial, job = rebuilding.start_trial(build, swap, data.loops, data.installed)
    return {"trial": _trial_out(trial), "job": job}


@router.get("/trials/{int:trial_id}", response=TrialOut)
def get_trial(request: HttpRequest, trial_id: int):
    """One trial run."""
    return _trial_out(one(Trial.objects.all(), trial_id))
