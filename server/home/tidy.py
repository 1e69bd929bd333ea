"""What nobody refers to any more is removed, in the background and in small pieces.

Rows: of games that were forgotten, of versions of archives that no survey saw, of swaps that were removed long ago.
Files: those of rows that are gone, ZIP files that were taken out long ago, what a cut-off upload left, and of drawings
the ones that were not looked at for longest.
"""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path

from django.conf import settings
from django.db import transaction
from django.db.models import Model, Q, QuerySet
from django.utils import timezone

from zubret_core.base import Progress
from zubret_core.source import PART

from ..bench.models import Sifted, Sifting
from ..bulk import among
from ..errors import stopped
from ..games.models import Change, Comparison, Game, Key, KeyChoice, NameList, Pin, Survey, SurveyFile
from ..jobs.models import Job
from ..jobs.orders import Tidy
from ..jobs.run import cancel, tidy_up, work
from ..mods.models import Build, EntryFile, Judged, Judgement, Mod, Plan, Swap, SwapStep, Trial, Turn
from ..shelf.models import Archive, Bank, Beaten, Entry, Given, SavedSearch, Saying, Stream, SurveyGroup, Unsaid

BATCH = 5_000
"""Rows that are removed in one transaction."""
UNDONE = timedelta(days=1)
"""How long a removed swap or file can be brought back, and what was said of streams be taken back."""
BROUGHT_BACK = timedelta(minutes=15)
"""How long a forgotten game can be brought back."""
SAID = 500_000
"""Streams of sayings that are kept to be taken back: those of the newest ones."""
TAKEN_OUT = timedelta(days=2)
"""How long a ZIP file that was taken out is kept."""
YOUNG = 3600.0
"""Seconds for which a file may still be on its way to its row."""
DRAWN = {"waves": 1 << 30, "peaks": 1 << 28}
"""Folders of drawings, and the most bytes of each."""


def forget(game: Game, now: bool = False) -> None:
    """A game goes from every list at once, and its work is asked to stop. Its rows and files go in the background: now, or
    once it can't be brought back any more."""
    since = timezone.now() - BROUGHT_BACK if now else timezone.now()
    Game.objects.filter(pk=game.pk).update(forgotten=since, folder=f"{game.folder}{_mark(game)}")
    for job in Job.objects.filter(game=game, state__in=Job.OPEN):
        cancel(job)
    if now:
        tidy_up()


def _mark(game: Game) -> str:
    """What stands behind the folder of a forgotten game, so that the folder can be registered anew."""
    return f" (forgotten {game.pk})"


def lately_forgotten() -> QuerySet[Game]:
    """Games that can be brought back."""
    return Game.everything.filter(forgotten__gt=timezone.now() - BROUGHT_BACK)


def bring_back(game: Game) -> None:
    """A game that was forgotten lately is there again, with all that was; an error where its folder was registered anew."""
    folder = game.folder.removesuffix(_mark(game))
    if (other := Game.objects.filter(folder=folder).first()) is not None:
        raise stopped(
            409,
            "This folder was added again since.",
            f"Forget the newer game {other.name} first, then bring it back.",
            folder,
        )
    Game.everything.filter(pk=game.pk).update(forgotten=None, folder=folder)


class _Round:
    """When forgotten games are looked for again."""

    soonest = 0.0


def remove_forgotten() -> None:
    """Have games removed that can't be brought back any more; asked for every few seconds, it looks once a minute."""
    if time.monotonic() < _Round.soonest:
        return
    _Round.soonest = time.monotonic() + 60
    if _forgotten().exists():
        tidy_up()


def _forgotten() -> QuerySet[Game]:
    return Game.everything.filter(forgotten__lte=timezone.now() - BROUGHT_BACK)


@dataclass(frozen=True)
class Tidied:
    """The rows and the bytes that went."""

    rows: int
    bytes: int


@work("background")
def tidy(job: Job, order: Tidy, progress: Progress) -> Tidied:
    """All of it."""
    broom = _Broom(progress)
    for game in _forgotten():
        broom.game(game)
    for game in Game.objects.all():
        broom.old_surveys(game)
    broom.old_comparisons()
    broom.old_swaps()
    broom.old_sayings()
    broom.files()
    return Tidied(broom.rows, broom.bytes)


class _Broom:
    """One round, and what it has removed."""

    def __init__(self, progress: Progress):
        self.progress, self.rows, self.bytes = progress, 0, 0

    # Rows -------------------------------------------------------------------------------------------

    def delete(self, rows: QuerySet) -> None:
        """Remove rows in short transactions."""
        model: type[Model] = rows.model
        while True:
            some = rows.order_by("pk").values("pk")[:BATCH]
            gone = model._base_manager.filter(pk__in=some)._raw_delete("default")
            self.rows += gone
            self.progress(0, 0, f"tidying up: {self.rows:,} rows")
            if gone < BATCH:
                return

    def game(self, game: Game) -> None:
        """A forgotten game, once nothing works on it any more."""
        while Job.objects.filter(game=game, state__in=Job.OPEN).exists():
            self.progress(0, 0, f"waiting for the work on {game.name} to stop")
            time.sleep(0.25)
        places = list(self.places(game))
        compared = Comparison.objects.filter(Q(old__game=game) | Q(new__game=game))
        self.comparisons(compared)
        for seen in (Beaten, SurveyGroup, SurveyFile):
            self.delete(seen.objects.filter(survey__game=game))
        self.delete(Survey.objects.filter(game=game))
        self.archives(Archive.objects.filter(game=game, outer__isnull=True))
        mods = Mod.objects.filter(game=game)
        self.judged(Judgement.objects.filter(mod__in=mods))
        self.delete(Trial.objects.filter(build__game=game))
        self.delete(SwapStep.objects.filter(swap__mod__in=mods))
        for made in (Swap, EntryFile):
            self.delete(made._base_manager.filter(mod__in=mods))
        for of_all in (Turn, Build, Plan):
            self.delete(of_all._base_manager.filter(game=game))
        self.sayings(Saying.objects.filter(game=game))
        self.delete(Sifted.objects.filter(sifting__game=game))
        for own in (Sifting, Mod, Given, SavedSearch, KeyChoice, Key, NameList, Pin, Job):
            self.delete(own._base_manager.filter(game=game))
        game.delete()
        for place in places:
            self.remove(place)

    @staticmethod
    def places(game: Game) -> Iterator[Path]:
        """The files and folders that belong to a game's rows."""
        data, mods = settings.DATA_DIR, Mod.objects.filter(game=game)
        for name, rows in (
            ("mods", mods),
            ("builds", Build.objects.filter(game=game)),
            ("exports", Job.objects.filter(game=game)),
        ):
            yield from (data / name / number for number in _numbers(rows))
        yield from (data / "trials" / f"{n}.wav" for n in _numbers(Trial.objects.filter(build__game=game)))

    def archives(self, archives: QuerySet[Archive]) -> None:
        """Archives of files, with those inside them and all that is in them."""
        for group in (Archive.objects.filter(outer__in=archives), archives):
            for model in (Entry, Stream, Bank):
                self.delete(model._base_manager.filter(archive__in=group))
            self.delete(group)

    def comparisons(self, compared: QuerySet[Comparison]) -> None:
        """Comparisons with their changes."""
        self.delete(Change.objects.filter(comparison__in=compared))
        self.delete(compared)

    def old_surveys(self, game: Game) -> None:
        """Surveys that were given up or are forgotten; then versions of archives that no survey refers to."""
        with transaction.atomic():
            if Job.objects.filter(game=game, kind="survey", state__in=Job.OPEN).exists():
                return  # it is the unfinished one
            gone = list(Survey.objects.filter(game=game, finished__isnull=True).values_list("pk", flat=True))
        for number in gone:
            self.comparisons(Comparison.objects.filter(Q(old=number) | Q(new=number)))
            for seen in (Beaten, SurveyGroup, SurveyFile):
                self.delete(seen.objects.filter(survey=number))
            self.delete(Survey.objects.filter(pk=number))
        with transaction.atomic():
            if Job.objects.filter(game=game, kind="survey", state__in=Job.OPEN).exists():
                return  # it may be about to refer to some
            unseen = Archive.objects.filter(game=game, outer__isnull=True, seen_in__isnull=True)
            some = unseen.update(complete=False)  # a survey that begins meanwhile reads the file anew
        if some:
            self.archives(Archive.objects.filter(game=game, outer__isnull=True, seen_in__isnull=True, complete=False))

    def old_comparisons(self) -> None:
        """Comparisons whose place another has taken, or that were not finished."""
        with transaction.atomic():
            if Job.objects.filter(kind="compare", state__in=Job.OPEN).exists():
                return
            old = list(Comparison.objects.filter(ready=False).values_list("pk", flat=True))
        for number in old:
            self.comparisons(Comparison.objects.filter(pk=number))

    def old_swaps(self) -> None:
        """Swaps and files that were removed so long ago that nobody brings them back."""
        before = timezone.now() - UNDONE
        self.delete(SwapStep.objects.filter(swap__removed__lt=before))
        for model in (Swap, EntryFile):
            gone = model._base_manager.filter(removed__lt=before)
            self.delete(Judged.objects.filter(**{f"{'swap' if model is Swap else 'file'}__in": gone}))
            self.delete(gone)
        mods = Mod.objects.filter(removed__lt=before)
        self.judged(Judgement.objects.filter(mod__in=mods))
        self.delete(SwapStep.objects.filter(swap__mod__in=mods))
        for made in (Turn, Swap, EntryFile):
            self.delete(made._base_manager.filter(mod__in=mods))
        self.delete(mods)

    def judged(self, judgements: QuerySet[Judgement]) -> None:
        """Judgements of mods, with their rows."""
        self.delete(Judged.objects.filter(judgement__in=judgements))
        self.delete(judgements)

    def old_sayings(self) -> None:
        """What was said so long ago, or so much ago, that nobody takes it back. One that is being said is not among them."""
        room, gone = SAID, []
        for number, streams, made in Saying.objects.order_by("-pk").values_list("pk", "streams", "made"):
            room -= streams
            if room < 0 or made < timezone.now() - UNDONE:
                gone.append(number)
        self.sayings(Saying.objects.filter(pk__in=among(gone)))

    def sayings(self, made: QuerySet[Saying]) -> None:
        """Sayings with what was said before them."""
        self.delete(Unsaid.objects.filter(saying__in=made))
        self.delete(made)

    # Files ------------------------------------------------------------------------------------------

    def files(self) -> None:
        """Files and folders that no row refers to."""
        exports = Job.objects.filter(finished__gte=timezone.now() - TAKEN_OUT) | Job.objects.filter(state__in=Job.OPEN)
        self.folder("mods", lambda: _numbers(Mod.objects.all()))
        self.folder("builds", lambda: _numbers(Build.objects.all()))
        self.folder("trials", lambda: _numbers(Trial.objects.all()))
        self.folder("exports", lambda: _numbers(exports))
        for mod in Mod.objects.all():
            sources = {Path(p).name for p in mod.swaps.values_list("source_path", flat=True)}
            sources |= {Path(p).name for p in mod.files.values_list("source_path", flat=True)}
            self.sweep((settings.DATA_DIR / "mods" / str(mod.pk) / "sources").glob("*"), sources)
        self.sweep(settings.DATA_DIR.rglob(f"*{PART}"), ())
        self.sweep((settings.DATA_DIR / "tmp").glob("*"), ())
        for name, most in DRAWN.items():
            self.bound(settings.DATA_DIR / name, most)

    def folder(self, name: str, wanted: Callable[[], set[str]]) -> None:
        """What is in a folder and is not called by one of the wanted numbers. Those are asked for after looking: what came
        meanwhile is wanted, too."""
        found = list((settings.DATA_DIR / name).glob("*"))
        known = wanted()
        self.sweep((place for place in found if place.stem not in known), ())

    def sweep(self, places: Iterable[Path], wanted: Collection[str]) -> None:
        """Remove files and folders but for the wanted names, and for what is so young that its row may be on its way."""
        for place in places:
            try:
                if place.name in wanted or time.time() - place.stat().st_mtime < YOUNG:
                    continue
            except OSError:
                continue
            self.progress(0, 0, f"tidying up: {place.name}")
            self.remove(place)

    def remove(self, place: Path) -> None:
        """Remove a file or a folder, if it is there; what can't be removed now is tried again the next time."""
        inside = [place] if place.is_file() else [p for p in place.rglob("*") if p.is_file()]
        size = sum(p.stat().st_size for p in inside)
        if place.is_dir():
            shutil.rmtree(place, ignore_errors=True)
        else:
            try:
                place.unlink(missing_ok=True)
            except OSError:
                return
        self.bytes += 0 if place.exists() else size

    def bound(self, folder: Path, most: int) -> None:
        """Keep the newest files of a folder, up to so many bytes."""
        kept = 0
        stats = sorted(((p.stat(), p) for p in folder.glob("*") if p.is_file()), key=lambda s: -s[0].st_mtime)
        for stat, place in stats:
            kept += stat.st_size
            if kept > most:
                self.remove(place)


def _numbers(rows: QuerySet) -> set[str]:
    return {str(pk) for pk in rows.values_list("pk", flat=True)}
