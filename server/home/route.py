"""The route bar: where the work stands, station by station."""

from __future__ import annotations

from typing import Any

from ..games.models import Game
from ..install import installing
from ..jobs.models import Job
from ..mods.carrying import lost
from ..mods.lines import completeness
from ..mods.models import Build, Mod
from ..mods.rebuilding import is_fresh, newest_build
from ..mods.together import Together, current_mod

EMPTY, HALF, FULL = "empty", "half", "full"


def route_of(game: Game) -> list[dict[str, Any]]:
    """key, name, dot and text of Survey, Locate, Swap, Rebuild and Install; of Swap how many streams are not where the mod knows them,
    and how far the banks of spoken lines are."""
    survey = game.current_survey()
    open_jobs = set(Job.objects.filter(game=game, state__in=Job.OPEN).values_list("kind", flat=True))
    if "survey" in open_jobs:
        first = HALF, "surveying"
    elif survey:
        found = [_count(n, noun) for n, noun in ((survey.archives, "archive"), (survey.loose, "loose sound")) if n]
        locked = [f"{survey.locked} locked"] if survey.locked else []
        first = (HALF if locked else FULL), ", ".join([*(found or ["nothing recognised"]), *locked])
    else:
        first = EMPTY, "not surveyed"
    streams = survey.streams if survey else 0
    mod = current_mod(game)
    swaps = list(mod.live_swaps())
    ready = sum(s.state == "ready" for s in swaps)
    files = mod.live_files().count()
    away = lost(game).get(mod.pk, 0) if swaps and survey else 0
    texts = [f"{ready} of {len(swaps)} fit"] if swaps else []
    if away:
        texts = [f"{away} not in place"]
    texts += [_count(files, "file")] if files else []
    swap_dot = EMPTY if not texts else FULL if ready == len(swaps) and not away else HALF
    spoken = completeness(mod) if swaps else []
    return [
        {"key": "survey", "name": "Survey", "dot": first[0], "text": first[1]},
        {
            "key": "locate",
            "name": "Locate",
            "dot": FULL if streams else EMPTY,
            "text": _count(streams, "stream") if survey else "nothing yet",
        },
        {"key": "swap", "name": "Swap", "dot": swap_dot, "text": ", ".join(texts) or "no swaps yet", "lines": spoken},
        {"key": "rebuild", "name": "Rebuild", **_rebuild(game, mod, "rebuild" in open_jobs)},
        {"key": "install", "name": "Install", **_install(game, open_jobs)},
    ]


def _rebuild(game: Game, mod: Mod, running: bool) -> dict[str, str]:
    """Of all mods that are on, or of the one that is worked on, whichever was rebuilt last."""
    build = max(filter(None, map(newest_build, (Together.used(game), Together(game, (mod,))))), key=_age, default=None)
    if running:
        return {"dot": HALF, "text": "rebuilding"}
    if build is None:
        return {"dot": EMPTY, "text": "not rebuilt"}
    if build.state == Build.PROVED:
        fresh = is_fresh(build)
        return {"dot": FULL if fresh else HALF, "text": "proved" if fresh else "out of date"}
    return {"dot": HALF, "text": build.state}


INSTALL = {
    installing.ORIGINAL: (EMPTY, "not installed"),
    installing.INSTALLED: (FULL, "installed"),
    installing.OUTDATED: (HALF, "an older rebuild"),
    installing.CHANGED: (HALF, "changed by others"),
    installing.CUT_OFF: (HALF, "cut off"),
    installing.AWAY: (EMPTY, "no folder"),
}


def _install(game: Game, open_jobs: set[str]) -> dict[str, str]:
    running = {"install": "installing", "restore": "restoring"}
    for kind, text in running.items():
        if kind in open_jobs:
            return {"dot": HALF, "text": text}
    dot, text = INSTALL[installing.state_of(game)[0]]
    return {"dot": dot, "text": text}


def _age(build: Build) -> int:
    return build.pk


def _count(n: int, noun: str) -> str:
    return f"{n:,} {noun}{'' if n == 1 else 's'}".replace(",", "\u202f")
