"""The picture of a mod: kept by its digest, told from other files by its signature, and given as what it is."""

from __future__ import annotations

import hashlib
from pathlib import Path

from django.core.files.uploadedfile import UploadedFile

from ..errors import stopped
from .models import Mod
from .uploads import mod_folder

LARGEST = 8 << 20
"""Bytes of a picture."""
KINDS = {
    b"\x89PNG\r\n\x1a\n": (".png", "image/png"),
    b"\xff\xd8\xff": (".jpg", "image/jpeg"),
    b"RIFF": (".webp", "image/webp"),
}
"""By their first bytes: PNG (W3C, section 5.2), JPEG (ITU-T T.81, B.1.1.3), WebP (RFC 9649, section 2.4)."""


def ending_of(data: bytes) -> str:
    """The ending of a picture's kind; "" of anything else."""
    for mark, (ending, _) in KINDS.items():
        if data.startswith(mark) and (mark != b"RIFF" or data[8:12] == b"WEBP"):
            return ending
    return ""


def place_of(mod: Mod) -> Path | None:
    """Where a mod's picture is; None where it has none."""
    place = mod_folder(mod) / "picture" / mod.picture
    return place if mod.picture and place.is_file() else None


def type_of(place: Path) -> str:
    """The media type of a picture that was kept."""
    return next(kind for ending, kind in KINDS.values() if ending == place.suffix)


def show(mod: Mod, upload: UploadedFile) -> None:
    """Give a mod a picture; the one before goes."""
    if (upload.size or 0) > LARGEST:
        raise stopped(413, f"A picture has at most {LARGEST >> 20} MB.", "Make it smaller.", upload.name or "")
    put(mod, upload.read())


def put(mod: Mod, data: bytes) -> None:
    """The same, of its bytes."""
    ending = ending_of(data)
    if not ending:
        raise stopped(422, "This is no picture that a browser shows.", "Choose a PNG, JPEG or WebP file.", "picture")
    folder = mod_folder(mod) / "picture"
    folder.mkdir(parents=True, exist_ok=True)
    name = hashlib.blake2b(data, digest_size=16).hexdigest() + ending
    (folder / name).write_bytes(data)
    _become(mod, name)


def hide(mod: Mod) -> None:
    """A mod has no picture any more."""
    _become(mod, "")


def _become(mod: Mod, name: str) -> None:
    Mod.objects.filter(pk=mod.pk).update(picture=name)
    for old in (mod_folder(mod) / "picture").glob("*"):
        if old.name != name:
            old.unlink(missing_ok=True)
    mod.picture = name
