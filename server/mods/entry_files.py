"""Files that go into an archive as they are: in the place of an entry, or as a new one."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path, PurePosixPath

from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.utils import timezone

from zubret_core.container import NewEntry
from zubret_core.locate import Locator
from zubret_core.rebuild import EntryFile as PlannedFile
from zubret_core.source import BytesSource

from ..errors import stopped
from ..shelf.models import Archive, Entry, unpack_locator
from ..shelf.opening import opened
from .models import EntryFile, Mod
from .uploads import kept_upload


def replace_entry(mod: Mod, entry: Entry, upload: UploadedFile) -> EntryFile:
    """Put a file in the place of an entry; one that the entry already has is set aside."""
    archive = opened(entry.archive)
    path = archive.entries[entry.ordinal].path
    inside = [*_steps(entry.archive), (path, entry.ordinal)]
    swapped = [s for s in mod.live_swaps() if _leads_through(unpack_locator(s.locator), entry.archive, inside)]
    if swapped:
        raise stopped(
            409,
            f"{len(swapped)} of the streams in this entry are swapped.",
            "Remove those swaps first, or leave the entry as it is.",
            entry.path,
        )
    return _put(mod, entry.archive, path, entry.ordinal, entry.path, upload)


def add_entry(mod: Mod, row: Archive, path: str, upload: UploadedFile) -> EntryFile:
    """Add a file to an archive under a path; refused where the archive can't take it."""
    path = path.strip().replace("\\", "/")
    parts = PurePosixPath(path).parts
    if not path or path.endswith("/") or path.startswith("/") or ".." in parts or any(ord(c) < 32 for c in path):
        raise stopped(422, "This is no path for an entry.", "Write folders and a name, as in text/notes.txt.", path)
    archive = opened(row)
    archive.rebuild({}, added=[NewEntry(path, BytesSource(b".", path))])
    return _put(mod, row, path, None, path, upload)


def _put(mod: Mod, row: Archive, path: str, index: int | None, label: str, upload: UploadedFile) -> EntryFile:
    name, place, digest = kept_upload(mod, upload)
    where = {"archive": row.file_path(), "inside": row.chain, "path": path, "index": index}
    with transaction.atomic():
        mod.live_files().filter(**where).update(removed=timezone.now())
        return EntryFile.objects.create(
            mod=mod, **where, label=label, shown_in=row.path, source_name=name, source_path=str(place), digest=digest
        )


def remove(file: EntryFile) -> None:
    """Take a file out of the mod; `restore` brings it back."""
    EntryFile.objects.filter(pk=file.pk).update(removed=timezone.now())


def restore(file: EntryFile) -> EntryFile:
    """Undo a removal; a file that has taken the place since is set aside."""
    where = {name: getattr(file, name) for name in ("archive", "inside", "path", "index")}
    with transaction.atomic():
        file.mod.live_files().filter(**where).exclude(pk=file.pk).update(removed=timezone.now())
        EntryFile.objects.filter(pk=file.pk).update(removed=None)
    file.refresh_from_db()
    return file


def planned(files: Iterable[EntryFile]) -> list[PlannedFile]:
    """Files as a rebuild takes them."""
    return [
        PlannedFile(f.archive, f.path, f.index, Path(f.source_path), tuple((path, n) for path, n in f.inside))
        for f in files
    ]


def in_the_way(files: Iterable[EntryFile], locator: Locator) -> EntryFile | None:
    """Of a mod's files the one that takes the place of an entry in which a stream stands."""
    for file in files:
        inside = [*((path, n) for path, n in file.inside), (file.path, file.index)]
        if file.archive == locator.archive and list(locator.entries[: len(inside)]) == inside:
            return file
    return None


def _steps(row: Archive) -> list[tuple[str, int]]:
    return [(path, n) for path, n in row.chain]


def _leads_through(locator: Locator, row: Archive, inside: list[tuple[str, int]]) -> bool:
    return locator.archive == row.file_path() and list(locator.entries[: len(inside)]) == inside
