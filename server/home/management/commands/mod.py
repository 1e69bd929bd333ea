"""Mods on the command line, for scripts: looking into a package, building it, installing it, and going back."""

from __future__ import annotations

import hashlib
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from django.core.files import File
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandError
from django.db.models import QuerySet
from django.utils import timezone

from server.games.models import Game
from server.home.registry import register_at
from server.install import installing
from server.jobs.models import Job
from server.layouts.rules import choose_way, rules_of, ways_of
from server.mods import carrying, packages, rebuilding, together
from server.mods.models import Build, Judged, Mod, Swap
from server.mods.services import build_folder
from server.mods.together import Together, current_mod, mods_of
from server.surveys.surveying import start_survey
from zubret_core.base import ZubretError
from zubret_core.locate.carry import GONE, SAFE
from zubret_core.package import Package

IN_PLACE = "in-place"
WHAT = ("check", "build", "install", "restore")


@contextmanager
def packed(place: Path) -> Iterator[Path]:
    """A package as a file; a folder that holds what is in one is packed for the while."""
    if not place.exists():
        raise CommandError(f"There is no package {place}.")
    if place.is_file():
        yield place
        return
    with tempfile.TemporaryDirectory() as scratch:
        yield Path(shutil.make_archive(f"{scratch}/{place.name}", "zip", place))


class Command(BaseCommand):
    help = "Check a package against a game, build it, install it, or restore the game."

    def add_arguments(self, parser):
        parser.add_argument("what", choices=WHAT)
        parser.add_argument("package", nargs="?", help="a package, or a folder with what is in one")
        parser.add_argument("--game", required=True, help="the game's folder")
        parser.add_argument("--out", help="build: the folder that gets the rebuilt files")
        parser.add_argument(
            "--way", help="how the game takes it from now on, by the name in its load rules; in-place for its archives"
        )
        parser.add_argument(
            "--also-changed",
            action="store_true",
            help="carry over what the game has changed, too, and leave out what is gone",
        )

    def handle(self, *args, **options):
        call_command("prepare")
        try:
            self._do(**{name: options[name] for name in ("what", "package", "game", "out", "way", "also_changed")})
        except ZubretError as e:
            raise CommandError(" ".join(filter(None, (e.what, e.where and f"({e.where})", e.next)))) from e

    def _do(
        self, what: str, package: str | None, game: str, out: str | None, way: str | None, also_changed: bool
    ) -> None:
        folder = Path(game).expanduser().resolve()
        if not folder.is_dir():
            raise CommandError(f"There is no folder {game}.")
        if package is None and what != "restore":
            raise CommandError(f"{what} wants a package.")
        target = Path(out).expanduser().resolve() if out else None
        if (what == "build") != (target is not None):
            raise CommandError("build wants --out FOLDER, and nothing else does.")
        if target is not None and (target == folder or folder in target.parents):
            raise CommandError("--out lies in the game's folder: that is changed by install only.")
        row = register_at(folder)
        if way is not None:
            self._choose(row, way)
        if what == "restore":
            self._restore(row, package)
            return
        self._done(start_survey(row))
        working = current_mod(row)
        try:
            self._go(row, what, Path(str(package)), target, also_changed)
        finally:  # a script does not change which mod its user works on
            if mods_of(row).filter(pk=working.pk).exists():
                together.choose(working)

    def _go(self, row: Game, what: str, package: Path, target: Path | None, also_changed: bool) -> None:
        """Take the package in, and as far as is asked for."""
        mod = self._taken_in(row, package)
        left = self._judged(mod)
        if what == "check":
            together.remove(mod)
            if left.exists():
                raise CommandError("Not all of it stands in this build.")
            return
        self._carried(mod, also_changed)
        if what == "build":
            assert target is not None
            self._built(Together(row, (mod,)), target)
            together.remove(mod)
        else:
            self._install(row)

    def _choose(self, game: Game, way: str) -> None:
        """Have the game take changes in one of its ways."""
        names = [one.name or IN_PLACE for one in ways_of(rules_of(game))]
        if way not in names:
            raise CommandError(f"This game has no way {way}. It has {', '.join(names)}.")
        choose_way(game, "" if way == IN_PLACE else way)

    def _say(self, text: str) -> None:
        self.stdout.write(text)

    def _done(self, job: Job) -> Job:
        """A job that ran to its end; what stopped it is raised."""
        job.refresh_from_db()
        self._say(f"{job.title}: {job.state}")
        if job.state != Job.DONE:
            error = job.error or {"what": f"{job.title} was not done.", "next": ""}
            raise ZubretError(error["what"], file=error.get("where") or None, next=error["next"])
        return job

    def _taken_in(self, game: Game, place: Path) -> Mod:
        """A package as a mod of the game, which takes the place of the one of this name."""
        with packed(place) as whole, whole.open("rb") as file:
            token = packages.kept(File(file, place.name))
        job = self._done(packages.start_taking_in(game, token))
        mod = Mod.objects.select_related("game").get(pk=job.result["mod"])
        for old in mods_of(game).filter(name=mod.name).exclude(pk=mod.pk):
            together.remove(old)
        return mod

    def _judged(self, mod: Mod) -> QuerySet[Judged]:
        """Say what became of what the mod changes; what is not safe."""
        rows = carrying.rows_of(mod.judgement)
        for row in rows.select_related("swap", "file"):
            detail = f": {row.detail}" if row.detail else ""
            self._say(f"{carrying.VERDICTS[row.verdict]:<18}{row.place()}{detail}")
        return rows.exclude(verdict__in=SAFE)

    def _carried(self, mod: Mod, also_changed: bool) -> None:
        """Carry the mod over, so that all of it fits."""
        rows = carrying.rows_of(mod.judgement)
        if also_changed:
            for gone in (mod.takes(), mod.live_files()):
                gone.filter(judged__verdict=GONE).update(removed=timezone.now())
        elif rows.exclude(verdict__in=SAFE).exists():
            together.remove(mod)
            raise CommandError("Not all of it stands in this build. --also-changed carries over what can be.")
        self._done(carrying.start_carrying(mod.judgement, list(rows.values_list("pk", flat=True))))
        waiting = mod.live_swaps().exclude(state=Swap.READY)
        if waiting:
            names = ", ".join(f"{s.source_name} ({(s.error or {}).get('what') or s.state})" for s in waiting)
            together.remove(mod)
            raise CommandError(f"These do not fit: {names}. Take the package in with Zubret and fit them.")

    def _rebuilt(self, mods: Together) -> Build:
        self._done(rebuilding.start_rebuild(mods, tight=False))
        build = rebuilding.newest_build(mods)
        if build is None or build.state != Build.PROVED:
            raise CommandError("The rebuild was not proved. Rebuild it with Zubret to see why.")
        return build

    def _built(self, mods: Together, out: Path) -> None:
        build = self._rebuilt(mods)
        for file in build.files:
            if file.get("gone"):
                self._say(f"to be set aside: {file['path']}")
                continue
            source, target = build_folder(build) / file["path"], out / file["path"]
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(source, target)
            with target.open("rb") as written:
                self._say(f"{hashlib.file_digest(written, 'sha256').hexdigest()}  {file['path']}")

    def _install(self, game: Game) -> None:
        """All mods of the game that are on."""
        build = self._rebuilt(Together.used(game))
        job = self._done(installing.start_install(build))
        self._say(f"{job.result['files']} files of the game changed")

    def _restore(self, game: Game, package: str | None) -> None:
        """The whole game; or only without the mod of a package, if others are on."""
        if package is not None:
            with packed(Path(package)) as whole, Package(whole) as opened:
                name = opened.manifest.name
            gone = mods_of(game).filter(name=name)
            if not gone.exists():
                raise CommandError(f"The game has no mod {name}.")
            for mod in gone:
                together.remove(mod)
            others = Together.used(game)
            if others.swaps or others.files:
                self._install(game)
                return
        self._done(installing.start_restore(game))
