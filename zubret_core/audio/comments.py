"""Texts and loops in the comments of Ogg and FLAC files."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import mutagen

from ..base import Loop

LOOP = ("LOOPSTART", "LOOPLENGTH", "LOOPEND")
"""Common practice; no standard defines them."""
NAMES = {"track": "TRACKNUMBER"}


def tag(file: Any, texts: Mapping[str, str], loop: Loop | None, anew: bool = False) -> None:
    """Set texts, and LOOPSTART and LOOPLENGTH in frames, in an Ogg or FLAC file: a path or a file object. anew: a loop that it
    has goes. OSError where there is no room for them."""
    try:
        tags = mutagen.File(file)
        for name in LOOP if anew else ():
            tags.pop(name, None)
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
