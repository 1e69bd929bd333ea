"""Texts and loops in the comments of Ogg and FLAC files."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import mutagen

from ..base import Loop

NAMES = {"track": "TRACKNUMBER"}


def tag(file: Any, texts: Mapping[str, str], loop: Loop | None) -> None:
    """Set texts, and LOOPSTART and LOOPLENGTH in frames, in an Ogg or FLAC file: a path or a file object. OSError where
    there is no room for them."""
    try:
        tags = mutagen.File(file)
        for name, text in texts.items():
            if text:
                tags[NAMES.get(name, name.upper())] = text
        if loop:
            tags["LOOPSTART"], tags["LOOPLENGTH"] = str(loop.start), str(loop.length)
        if hasattr(file, "seek"):
            file.seek(0)
        tags.save(file)
    except mutagen.MutagenError as e:
        if isinstance(e.__context__, OSError):
            raise e.__context__ from None
        raise
