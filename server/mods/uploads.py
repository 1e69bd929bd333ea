"""Files that the user hands over, kept by digest below their mod's folder."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from pathlib import Path, PurePath
from tempfile import mkstemp

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile

from zubret_core.source import FileSource, Source

from ..errors import stopped
from .models import Mod


def mod_folder(mod: Mod) -> Path:
    """Where a mod's own files are kept."""
    return settings.DATA_DIR / "mods" / str(mod.pk)


def kept_upload(
    mod: Mod, upload: UploadedFile, check: Callable[[Source], None] = lambda source: None
) -> tuple[str, Path, str]:
    """The name, place and digest of an uploaded file; what `check` refuses is not kept."""
    name = PurePath(upload.name or "file").name
    folder = mod_folder(mod) / "sources"
    folder.mkdir(parents=True, exist_ok=True)
    digest = hashlib.blake2b(digest_size=16)
    part = getattr(upload, "temporary_file_path", str)()  # a large file lies on this disk already, and is moved
    try:
        if part:
            for piece in upload.chunks():
                digest.update(piece)
        else:
            handle, part = mkstemp(".part", "upload-", folder)
            with os.fdopen(handle, "wb") as out:
                for piece in upload.chunks():
                    digest.update(piece)
                    out.write(piece)
        with FileSource(part, name) as source:
            check(source)
        place = folder / (digest.hexdigest() + PurePath(name).suffix.lower()[:8])
        os.replace(part, place)
    except OSError as e:
        raise stopped(507, f"The file can't be kept: {e.strerror}.", "Free some space on the disk.", name) from e
    finally:
        if part:
            Path(part).unlink(missing_ok=True)
    return name, place, digest.hexdigest()
