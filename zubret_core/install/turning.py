"""The one way in which a game's folder is changed, to and fro.

What is wanted is the whole of it: every file that shall be another than in the original game. What is not wanted any more goes back.
So restoring is installing nothing.

1. *Staging.* Each new file is written beside its place under a name of its own, flushed and read back. What stands there gets a
   second name in the store (or a copy, on another disk). Nothing of the game has changed; a cut, an error or a cancel leads back.
2. *Turning.* The journal says that it has begun. Each step is one call that the file system does whole or not at all: a rename over
   the old file, or the removal of a name. It needs no room. A cut leads forward, unless somebody else has changed one of the files
   meanwhile: then back.
3. *The end.* The ledger says what is there now, the journal goes.

Every step can be looked at afterwards: its file is either what it was, or what it becomes, or somebody else's. So going on after a
cut needs no more than the journal and the files.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from secrets import token_hex

from ..base import Passes, Progress, ZubretError, silent
from ..container import GameFolder
from ..source.whole import PART, sync_folder
from .files import Facts, copy, digest, facts, link_or_copy
from .ledger import Journal, Ledger, Place, Step, Store

LATER = "Mend that, then start Zubret again: it brings this to an end."


@dataclass(frozen=True)
class Wanted:
    """What a file shall be: the bytes of another, or nothing at all (it is set aside); by: whose it is, in words."""

    new: Path | None
    by: str = ""


@dataclass(frozen=True)
class Coming:
    """What will become of a file. what: replaced, added, set aside, put back (the original), or taken away (it was added); before,
    after: bytes, None for no file."""

    path: str
    what: str
    before: int | None
    after: int | None
    by: str


@dataclass(frozen=True)
class Forecast:
    """What an install does before it does it. most, end: bytes that it takes on the game's disk at the worst moment and when it is
    done (less than 0: it frees them); backups: those that it takes for copies in the store, where that is on another disk."""

    files: list[Coming]
    most: int
    end: int
    backups: int


@dataclass(frozen=True)
class Outcome:
    """What came of it: the steps that were done; back: it went back instead; strange: files that somebody else changed meanwhile,
    which were left alone."""

    steps: int
    back: bool = False
    strange: tuple[str, ...] = ()


def forecast(folder: GameFolder, store: Store, wanted: Mapping[str, Wanted]) -> Forecast:
    """By sizes alone; nothing is read and nothing is written."""
    ledger, files = store.ledger(), []
    most = end = backups = 0
    near = _same_disk(folder.folder, store.root)
    for path in sorted({*wanted, *ledger.places}):
        place, known, want = _place(folder, path), ledger.places.get(path), wanted.get(path)
        before = place.stat().st_size if place.is_file() else None
        if want is None:
            after = known.original.size if known and known.original else None
        else:
            after = want.new.stat().st_size if want.new else None
        files.append(Coming(path, _what(known, want, before), before, after, (want or known or Wanted(None)).by))
        written = 0 if want is None and near else after or 0
        most += written
        end += written - (before or 0 if known or not near else 0)
        backups += 0 if near else before or 0
    return Forecast(files, most, end, backups)


def _what(known: Place | None, want: Wanted | None, before: int | None) -> str:
    if want is None:
        return "put back" if known and known.original else "taken away"
    if want.new is None:
        return "set aside"
    return "added" if before is None and not (known and known.original) else "replaced"


def install(
    folder: GameFolder, store: Store, wanted: Mapping[str, Wanted], of: str = "", progress: Progress = silent
) -> Outcome:
    """Make the game's folder what is wanted; of: what that is, in words of who asks.

    Raises ZubretError, and leaves all as it was, where a file is not what it was when it was installed, a backup is not what was kept, a
    path is none that may be written, or a disk is full.
    """
    with _in_words("Nothing of the game was changed. Mend that, then start again."), store.held():
        store.begin()
        _settle(folder, store)
        try:
            journal = _staged(folder, store, dict(wanted), of, progress)
            store.write_journal(journal)
        except BaseException:
            _drop(folder, store)
            raise
        return _forward(folder, store, journal)


def restore(folder: GameFolder, store: Store, progress: Progress = silent) -> Outcome:
    """The game as it was before anything was installed, byte for byte."""
    return install(folder, store, {}, "", progress)


def settle(folder: GameFolder, store: Store) -> Outcome | None:
    """Bring to an end what was cut off, forward or back; None where nothing was."""
    if not store.root.is_dir():
        return None
    with _in_words(LATER), store.held():
        return _settle(folder, store)


def _settle(folder: GameFolder, store: Store) -> Outcome | None:
    journal = store.journal()
    if journal is None:
        store.tidy()
        return None
    if journal.phase == "staging":
        _drop(folder, store)
        return Outcome(0, True)
    if journal.phase == "turning":
        return _forward(folder, store, journal)
    return _back(folder, store, journal)


def _staged(folder: GameFolder, store: Store, wanted: dict[str, Wanted], of: str, progress: Progress) -> Journal:
    """Everything that needs room or time, with nothing of the game changed; the steps that are left to do."""
    ledger, token = store.ledger(), token_hex(4)
    places = {path: _place(folder, path) for path in sorted({*wanted, *ledger.places})}
    _check_names(places)
    made = list(dict.fromkeys(f for path in wanted for f in _missing_folders(folder, path)))
    planned = [Step(path, None, None, _kept(path, n, ledger), f"{token}-{n}{PART}") for n, path in enumerate(places)]
    then = Ledger(dict(ledger.places), list(dict.fromkeys([*ledger.folders, *made])), of)
    store.write_journal(Journal("staging", planned, ledger, then))
    sizes = [_weight(places[s.path], wanted.get(s.path)) for s in planned]
    bar = Passes(progress, *sizes)
    steps = []
    for below in made:
        (folder.folder / below).mkdir(exist_ok=True)
    for n, step in enumerate(planned):
        known, want = ledger.places.get(step.path), wanted.get(step.path)
        done = _stage(folder, store, known, want, step, bar[n])
        if done.before != done.after:
            steps.append(done)
        if want is None:
            then.places.pop(step.path)
        elif known is not None or done.before != done.after:  # what is wanted as it is stays the original
            then.places[step.path] = Place(known.original if known else done.before, done.after, want.by)
    _flush(folder, steps)
    return Journal("turning", steps, ledger, then)


def _stage(
    folder: GameFolder, store: Store, known: Place | None, want: Wanted | None, step: Step, progress: Progress
) -> Step:
    """One file: what is there gets a second name, and what it becomes waits beside it."""
    place, bar = folder.folder / step.path, Passes(progress, 1, 1)
    if known is None:
        before = facts(place, bar[0]) if place.exists() else None
    else:
        before = _as_left(place, known, step.path)
    if before is not None:
        kept = store.root / step.kept
        kept.parent.mkdir(parents=True, exist_ok=True)
        kept.unlink(missing_ok=True)  # of an install that went back
        link_or_copy(place, kept, bar[0])
    staged = place.with_name(step.staged)
    if want is None:
        assert known is not None
        after = known.original
        if after is not None and before != after:
            backup = store.backup(step.path)
            if not after.fits(backup, thorough=True):
                raise ZubretError(
                    "The backup of this file was changed: it is not what was kept.",
                    file=step.path,
                    next=f"Nothing was overwritten. Get the file from the game's own source (its backup is {backup}).",
                )
            link_or_copy(backup, staged, bar[1])
    elif want.new is None:
        after = None
    else:
        if before is not None and before.size == want.new.stat().st_size and before.sha256 == digest(want.new):
            return replace(step, before=before, after=before)
        sha = copy(want.new, staged, bar[1])
        if before is not None:
            staged.chmod(place.stat().st_mode)
        stat = staged.stat()
        if before is not None and (stat.st_size, stat.st_mtime_ns) == (before.size, before.mtime_ns):
            os.utime(staged, ns=(stat.st_mtime_ns, stat.st_mtime_ns + 2_000_000_000))  # told apart without reading
        after = Facts(stat.st_size, sha, staged.stat().st_mtime_ns)
    return replace(step, before=before, after=after)


def _as_left(place: Path, known: Place, path: str) -> Facts | None:
    """A file as the ledger knows it: as it was installed, or as it was before; an error where it is neither."""
    for one in (known.installed, known.original):
        if one is None and not place.exists():
            return None
        if one is not None and one.fits(place):
            return replace(one, mtime_ns=place.stat().st_mtime_ns)
    gone = not place.exists()
    raise ZubretError(
        f"This file was {'removed' if gone else 'changed by something else'} since it was installed: an update of the game, or another "
        "tool.",
        file=path,
        next="Nothing was overwritten. Leave it as it is and take it out of the ledger, or put back what was installed.",
    )


def _forward(folder: GameFolder, store: Store, journal: Journal) -> Outcome:
    """Do all steps that are not done yet; back where a file is somebody else's now, or can't be renamed."""
    try:
        for step in journal.steps:
            place = folder.folder / step.path
            staged = place.with_name(step.staged)
            if _is(place, step.after) and not staged.exists():
                continue
            if not _is(place, step.before) or (step.after is not None and not staged.exists()):
                return _back(folder, store, journal)
            if step.after is None:
                place.unlink()
            else:
                os.replace(staged, place)
    except OSError as e:
        with _in_words(LATER):
            _back(folder, store, journal)
        raise _failed(
            e, "All that was done is undone: the game is as it was before. Mend that, then start again."
        ) from e
    with _in_words(LATER):
        _end(folder, store, journal, journal.then)
    return Outcome(len(journal.steps))


def _back(folder: GameFolder, store: Store, journal: Journal) -> Outcome:
    """Undo the steps that are done; a file that is neither what it was nor what it becomes is left alone."""
    store.write_journal(replace(journal, phase="back"))
    strange, then = [], replace(journal.ledger, places=dict(journal.ledger.places), folders=list(journal.then.folders))
    for step in reversed(journal.steps):
        place = folder.folder / step.path
        again = place.with_name(f"back-{step.staged}")
        again.unlink(missing_ok=True)
        if _is(place, step.before):
            continue
        if not _is(place, step.after):
            strange.append(step.path)
            if not place.with_name(step.staged).exists() and step.path in journal.then.places:
                then.places[step.path] = journal.then.places[step.path]  # it was done before: its original stays kept
        elif step.before is None:
            place.unlink()
        else:
            link_or_copy(store.root / step.kept, again)
            os.replace(again, place)
    _end(folder, store, journal, then)
    return Outcome(0, True, tuple(strange))


def _end(folder: GameFolder, store: Store, journal: Journal, then: Ledger) -> None:
    """The ledger is as it shall be, and nothing else of the install is left. What was kept for it goes last."""
    _flush(folder, journal.steps)
    store.write_ledger(then)
    _unstage(folder, journal)
    if (stay := _emptied(folder, then)) != then.folders:
        store.write_ledger(replace(then, folders=stay))
    store.end_journal()
    store.tidy()


def _drop(folder: GameFolder, store: Store) -> None:
    """Forget an install of which nothing has been done."""
    journal = store.journal()
    if journal is not None:
        _unstage(folder, journal)
        _emptied(folder, journal.then)
        store.end_journal()
    store.tidy()


def _unstage(folder: GameFolder, journal: Journal) -> None:
    for step in journal.steps:
        (folder.folder / step.path).with_name(step.staged).unlink(missing_ok=True)


def _flush(folder: GameFolder, steps: list[Step]) -> None:
    """The names in all folders of some steps are on the disk when this ends."""
    for parent in {(folder.folder / step.path).parent for step in steps}:
        if parent.is_dir():
            sync_folder(parent)


def _emptied(folder: GameFolder, ledger: Ledger) -> list[str]:
    """Remove the folders that an install had made and that are empty; those that stay."""
    stay = []
    for below in sorted(ledger.folders, key=len, reverse=True):
        try:
            (folder.folder / below).rmdir()
        except FileNotFoundError:
            continue
        except OSError:
            stay.append(below)
    return stay


def _is(place: Path, one: Facts | None) -> bool:
    return not os.path.lexists(place) if one is None else one.fits(place)


def _kept(path: str, number: int, ledger: Ledger) -> str:
    """Where what is there stays meanwhile: an original among the backups."""
    return f"leaving/{number}" if path in ledger.places else f"originals/{path}"


def _weight(place: Path, want: Wanted | None) -> int:
    """Bytes that a step reads and writes, roughly."""
    new = want.new.stat().st_size if want and want.new else 0
    return 1 + new + (place.stat().st_size if place.is_file() else 0)


def _same_disk(one: Path, other: Path) -> bool:
    while not other.exists():
        other = other.parent
    return one.stat().st_dev == other.stat().st_dev


def _place(folder: GameFolder, path: str) -> Path:
    """The place of a path that may be written; an error for one that leads out, or goes over a link."""
    place = folder.folder / path
    if folder.locate(path) != place:
        raise ZubretError(
            "This path goes over a link, so it is not written to.",
            file=path,
            next="Install into the folder it leads to.",
        )
    if place.is_dir():
        raise ZubretError("There is a folder where this file should be.", file=path, next="Rename the folder first.")
    return place


def _missing_folders(folder: GameFolder, path: str) -> list[str]:
    """The folders above a path that are not there yet, the outermost first."""
    parents = [str(p) for p in reversed(Path(path).parents) if str(p) != "."]
    return [p.replace(os.sep, "/") for p in parents if not (folder.folder / p).is_dir()]


def _check_names(places: Mapping[str, Path]) -> None:
    """An error where two paths, or one and what is there, differ in case only: on some disks these are one file."""
    seen: dict[str, str] = {}
    for path, place in places.items():
        other = seen.setdefault(path.casefold(), path)
        if other == path and not place.exists() and place.parent.is_dir():
            alike = [p.name for p in place.parent.iterdir() if p.name.casefold() == place.name.casefold()]
            other = alike[0] if alike else path
        if other != path:
            raise ZubretError(
                f"Two names differ in case only: {path} and {other}. On many disks these are one file.",
                file=path,
                next="Name it as the game does.",
            )


@contextmanager
def _in_words(next: str) -> Iterator[None]:
    """What the system refuses is told as an error of ours."""
    try:
        yield
    except OSError as e:
        raise _failed(e, next) from e


def _failed(e: OSError, next: str) -> ZubretError:
    what = {errno.ENOSPC: "The disk is full.", errno.EDQUOT: "The disk is full.", errno.EROFS: "The disk is read-only."}
    return ZubretError(
        what.get(e.errno or 0, f"A file can't be changed: {e.strerror}."), file=str(e.filename or ""), next=next
    )
