"""Rebuild, proof and trial run as jobs."""

from __future__ import annotations

import hashlib
import json
import shutil
import subprocess
import sys
from dataclasses import asdict, dataclass, replace
from pathlib import Path, PurePosixPath
from typing import Any, ClassVar

from django.conf import settings
from django.db import transaction
from django.db.models import Sum

from zubret_core.base import Format, Passes, Progress, ZubretError, silent, told_to
from zubret_core.locate.spot import IN
from zubret_core.rebuild import FilePlan, Prover, StreamSwap, plan_rebuild, write_plan
from zubret_core.rebuild.expected import Expectation, expectation

from ..bulk import among
from ..errors import stopped
from ..games.folders import original_folder
from ..games.models import Game
from ..jobs.models import Job
from ..jobs.orders import Order, read
from ..jobs.program import last_words, run_program
from ..jobs.run import start, work
from ..layouts.known import known_for, user_layouts
from ..layouts.rules import mark_of, order_of, way_of
from ..shelf.api import ribbon_of
from ..shelf.models import Archive, Stream, seen_by, unpack_locator
from ..shelf.opening import disk_cache
from .entry_files import planned
from .models import Build, Plan, Swap, Trial
from .services import build_folder, prepared_file, stream_row, trial_file
from .together import Together

LONGEST_TRIAL = 600
"""Seconds after which the stand-in game is taken to hang."""


def _check_ready(mods: Together) -> None:
    """An error while there is nothing to rebuild, or one of the swaps is not ready."""
    swaps = mods.swaps
    if not mods.mods:
        raise stopped(409, "No mod is on.", "Turn one on among the mods, or rebuild one alone.")
    if not swaps and not mods.files:
        raise stopped(
            409, "The mod changes nothing yet.", "Swap a stream in Locate, or put a file into an archive in Survey."
        )
    unfit = [s.source_name for s in swaps if s.state != Swap.READY]
    if unfit:
        raise stopped(
            409, f"{len(unfit)} of {len(swaps)} swaps do not fit yet: {', '.join(unfit)}.", "Fit or remove them first."
        )


def plan_of(mods: Together, tight: bool, progress: Progress = silent) -> list[FilePlan]:
    """What a rebuild of the mods would write."""
    _check_ready(mods)
    items = []
    for s in mods.swaps:
        assert s.prepared
        snr = s.prepared["snr_db"]
        items.append(
            StreamSwap(
                unpack_locator(s.locator),
                prepared_file(s),
                Format.from_dict(s.prepared["format"]),
                float("inf") if snr is None else snr,
            )
        )
    folder = original_folder(mods.game)
    known, order = known_for(mods.game), order_of(mods.game)
    way = way_of(mods.game, order.rules if order else None).name
    return plan_rebuild(
        folder, items, disk_cache(), progress,
        known=known, files=planned(mods.files), tight=tight, order=order, way=way,
    )  # fmt: skip


def plan_out(mods: Together, plans: list[FilePlan]) -> list[dict[str, Any]]:
    """Plans as the screen shows them."""
    banks = _banks(mods)
    return [
        {
            "path": p.path,
            "size_before": p.size_before,
            "size": p.size,
            "in_place": p.built.in_place,
            "moved": p.built.moved,
            "entries": p.entries,
            "note": _note(p),
            "streams": [str(s.locator) for s in p.swaps],
            "banks": [bank for path, bank in banks if path == p.path],
            "files": [{"place": str(f), "adds": f.index is None} for f in p.files],
            "gone": p.gone,
            "of": p.of,
            "only": None if p.only is None else list(p.only),
            "entry": p.entry and p.entry[1],
            "way": p.way,
            "suspects": [asdict(s) for s in p.suspects],
            "before": ribbon_of(p.before, p.size_before),
            "after": ribbon_of(p.built.segments, p.size),
        }
        for p in plans
    ]


def _banks(mods: Together) -> list[tuple[str, dict[str, Any]]]:
    """Each bank in which a stream is swapped, behind the path of its file: what its streams take, before and after."""
    new = {swap.locator: swap.prepared for swap in mods.swaps if swap.prepared}
    there = Stream.objects.filter(seen_by(mods.game.current_survey()), locator__in=among(list(new)))
    touched = list(there.values_list("bank", "locator", "stored", "seconds"))
    sums = Stream.objects.filter(bank__in={bank for bank, *_ in touched}).values("bank", "bank__name")
    out = {}
    for row in sums.annotate(bytes=Sum("stored"), length=Sum("seconds")).order_by("bank"):
        before = {"name": row["bank__name"], "size_before": row["bytes"], "seconds_before": row["length"]}
        out[row["bank"]] = {**before, "size": row["bytes"], "seconds": row["length"]}
    paths = {}
    for bank, locator, stored, seconds in touched:
        format = new[locator]["format"]
        paths[bank] = unpack_locator(locator).archive
        out[bank]["size"] += new[locator]["size"] - stored
        out[bank]["seconds"] += format["frames"] / format["rate"] - seconds
    return [(paths[bank], sizes) for bank, sizes in out.items()]


def _note(plan: FilePlan) -> str:
    """What a file is written for, where no stream in it says so."""
    if plan.note:
        return plan.note
    if plan.lists:
        names = ", ".join(PurePosixPath(path).name for path in plan.lists)
        return f"a list of sums: the lines of {names} are taken anew"
    return f"holds payloads of {plan.belongs_to}" if plan.belongs_to else ""


def start_planning(mods: Together, tight: bool) -> Job:
    """Work out a plan as a job, since what is packed has to be packed before its size is known; refused where nothing can
    be rebuilt. The same plan is worked out once."""
    _check_ready(mods)
    order = PlanOrder(mods.numbers, tight, _made_of(mods))
    return start(order, f"Plan of {mods.name}", mods.game, Job.OPEN, ("mods", "tight", "made_of"))


def _made_of(mods: Together) -> str:
    """A text that changes with what the mods are made of, and with the survey of the files that they are built from."""
    survey = mods.game.current_survey()
    return hashlib.blake2b(json.dumps([_made(mods), survey and survey.pk]).encode(), digest_size=12).hexdigest()


def _made(mods: Together) -> dict[str, str | None]:
    """What a rebuild of some mods is made of: what goes in, and the way in which the game takes it."""
    return mods.made_of() | mark_of(mods.game)


@dataclass(frozen=True)
class PlanOrder(Order):
    """Plan a rebuild of some mods, as they are made now."""

    kind: ClassVar[str] = "plan"
    mods: list[int]
    tight: bool
    made_of: str


@dataclass(frozen=True)
class Planned:
    """plan: its number."""

    plan: int


@work("quick")
def plan(job: Job, order: PlanOrder, progress: Progress) -> Planned:
    """The plan that the screen shows. Of some mods' plans the newest is kept."""
    mods = _ordered(job, order.mods)
    with told_to(progress):
        files = plan_out(mods, plan_of(mods, order.tight, progress))
    same = Plan.objects.filter(game=mods.game, mods=mods.numbers)
    new = Plan.objects.create(
        game=mods.game, mods=mods.numbers, tight=order.tight, made_of=order.made_of, files=files, count=len(files)
    )
    same.filter(pk__lt=new.pk).delete()
    return Planned(new.pk)


def _ordered(job: Job, numbers: list[int]) -> Together:
    """The mods of an order."""
    assert job.game is not None
    return Together.numbered(job.game, numbers)


def newest_plan(mods: Together, tight: bool) -> Plan | None:
    """The newest plan; None where the mods were not planned as they are now."""
    _check_ready(mods)
    plans = Plan.objects.filter(game=mods.game, mods=mods.numbers, tight=tight, made_of=_made_of(mods)).defer("files")
    return plans.order_by("-pk").first()


def newest_build(mods: Together) -> Build | None:
    """The newest rebuild of these mods, without what may be long."""
    builds = Build.objects.filter(game=mods.game, mods=mods.numbers).defer("files", "proof")
    return builds.order_by("-pk").first()


def is_fresh(build: Build) -> bool:
    """Whether its mods are still what was built."""
    mods = Together.numbered(build.game, build.mods)
    return mods.numbers == build.mods and _made(mods) == build.made_of


@dataclass(frozen=True)
class RebuildOrder(Order):
    """Rebuild some mods as one; build: the number of what it becomes, once that has begun."""

    kind: ClassVar[str] = "rebuild"
    mods: list[int]
    tight: bool
    deep: bool
    way: str = ""
    build: int | None = None


@dataclass(frozen=True)
class Rebuilt:
    """A build, by its number, and its state."""

    build: int
    state: str


def start_rebuild(mods: Together, tight: bool, deep: bool = False) -> Job:
    """Rebuild as a job; one that has been asked for already, and is the same, takes its place. Refused while another
    one of this game runs, or a swap is not ready."""
    _check_ready(mods)
    order = RebuildOrder(mods.numbers, tight, deep, mark_of(mods.game).get("way", ""))
    job = start(order, f"Rebuild of {mods.name}", mods.game, Job.OPEN)
    if replace(read(RebuildOrder, job.args), build=None) != order:
        raise stopped(409, "A rebuild of this game is already running.", "Wait for it, or cancel it under Jobs.")
    return job


def _settle(job: Job, order: RebuildOrder, result: Rebuilt | None) -> None:
    """A build is proved in the same moment in which its job is done; of any other nothing stays."""
    builds = Build.objects.filter(pk=order.build or 0)
    if result is None:
        builds.delete()
        return
    builds.update(state=result.state)
    transaction.on_commit(lambda: _forget_older(builds.get()))


@work("long", _settle)
def rebuild(job: Job, order: RebuildOrder, progress: Progress) -> Rebuilt:
    """Plan, write below the data folder, prove in a new process."""
    mods = _ordered(job, order.mods)
    made_of = _made(mods)
    # Planning packs what is packed, which is slower than copying; the proof reads both files.
    bar = Passes(progress, 3, 2, 3)
    with told_to(bar[0]):
        plans = plan_of(mods, order.tight, bar[0])
    build = Build.objects.create(
        game=mods.game, mods=mods.numbers, tight=order.tight, made_of=made_of, files=plan_out(mods, plans)
    )
    out = build_folder(build)
    Job.objects.filter(pk=job.pk).update(scratch=str(out), args=asdict(replace(order, build=build.pk)))
    with Prover() as prover:
        write_plan(plans, out, bar[1])
        Build.objects.filter(pk=build.pk).update(state=Build.PROVING)
        points = prover.prove(_expected(mods.game, out, plans, order.deep), bar[2])
    Build.objects.filter(pk=build.pk).update(proof=[asdict(p) for p in points])
    return Rebuilt(build.pk, Build.PROVED if all(p.ok for p in points) else Build.FAILED)


def _expected(game: Game, out: Path, plans: list[FilePlan], deep: bool) -> Expectation:
    """What the proof has to know: plans, layouts, and the keys and names of the archives that are touched."""
    keys: dict[str, dict[str, str]] = {}
    for choice in game.key_choices.select_related("key"):
        keys.setdefault(choice.path, {})[choice.name] = choice.key.secret
    known = known_for(game)
    names = {}
    for path in {n.path for n in game.name_lists.all()}:
        layout = Archive.objects.filter(game=game, path=path).values_list("layout", flat=True).last()
        found = known.layout_named(layout or "")
        if found is not None:
            names[path] = known.names(found, path)
    layouts = [version.text for version, _ in user_layouts()]
    return expectation(original_folder(game), out, plans, layouts, keys, names, deep, known.pins)


def _forget_older(build: Build) -> None:
    """Only the newest rebuild of the same mods is kept: each is as large as the archives it touches."""
    for old in Build.objects.filter(game=build.game_id, mods=build.mods, pk__lt=build.pk):
        for trial in old.trials.all():
            trial_file(trial).unlink(missing_ok=True)
        shutil.rmtree(build_folder(old), ignore_errors=True)
        old.delete()


def start_trial(build: Build, swap: Swap, loops: int, installed: bool = False) -> tuple[Trial, Job]:
    """Load the game with the program that plays it, with the rebuilt files laid over it or as it is installed, and play the swapped
    stream."""
    game = build.game
    if game.player not in settings.PLAYERS:
        raise stopped(
            409, "No stand-in plays this game.", "Download the rebuilt files and try them in the game itself."
        )
    if build.state not in (Build.PROVED, Build.FAILED):
        raise stopped(409, "The rebuild is not finished.", "Wait for its proof.")
    if not 1 <= loops <= 20:
        raise stopped(422, "A trial run plays 1 to 20 loops.", "Choose a number from 1 to 20.", "loops")
    locator = unpack_locator(swap.locator)
    trial = Trial.objects.create(build=build, cue=_place(swap), title=str(locator), loops=loops)
    return trial, start(TrialOrder(trial.pk, installed), f"Trial run of {locator}", game)


def _place(swap: Swap) -> str:
    """Where a stream stands, for the program that plays it: JSON of its file, the names on the way inside it, and its id."""
    locator, row = unpack_locator(swap.locator), stream_row(swap)
    inside = [path for path, _ in locator.entries]
    if row is not None:
        around = row.archive.inside().split(IN) if row.archive.outer_id else []
        inside = [*around, row.bank.entry_path]
    return json.dumps({"file": locator.archive, "inside": inside, "id": locator.stream_id})


@dataclass(frozen=True)
class TrialOrder(Order):
    """Make a trial run, by its number. installed: in the game's folder as it is."""

    kind: ClassVar[str] = "trial"
    trial: int
    installed: bool = False


@dataclass(frozen=True)
class Played:
    """A trial run, by its number, and whether the game played it."""

    trial: int
    played: bool


def _settle_trial(job: Job, order: TrialOrder, result: Played | None) -> None:
    """Of a trial run that came to no end nothing stays; its job says why."""
    Trial.objects.filter(pk=order.trial, played__isnull=True).delete()


@work("long", _settle_trial)
def trial_run(job: Job, order: TrialOrder, progress: Progress) -> Played:
    """Run the game's player as a program; it answers with JSON and a WAV file."""
    trial = Trial.objects.select_related("build__game").get(pk=order.trial)
    wav = trial_file(trial)
    wav.parent.mkdir(exist_ok=True)
    part = wav.with_suffix(".part")
    game = trial.build.game
    command = [sys.executable, "-m", game.player, "play", game.folder, trial.cue]
    if not order.installed:
        command += ["--over", str(build_folder(trial.build))]
        command += ["--without", *(f["path"] for f in trial.build.files if f.get("gone"))]
    command += ["--loops", str(trial.loops), "--wav", str(part)]
    try:
        try:
            done = run_program(command, LONGEST_TRIAL, progress, "the stand-in game is playing")
        except subprocess.TimeoutExpired as e:
            raise ZubretError(
                "The stand-in game did not answer.", field=trial.title, next="Try the trial run again."
            ) from e
        if done.returncode:
            raise ZubretError(
                "The stand-in game broke down.", field=last_words(done.stderr), next="Try the trial run again."
            )
        answer = json.loads(done.stdout)
        values = {"played": answer["played"], "why": answer.get("why", ""), "log": answer["log"]}
        if answer["played"]:
            part.replace(wav)
            digest = hashlib.blake2b(wav.read_bytes(), digest_size=10).hexdigest()
            values |= {k: answer[k] for k in ("rate", "channels", "frames")} | {"digest": digest}
        Trial.objects.filter(pk=trial.pk).update(**values)
        return Played(trial.pk, answer["played"])
    finally:
        part.unlink(missing_ok=True)
