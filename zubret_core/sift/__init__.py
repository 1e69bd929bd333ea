"""Sounds that stand in bytes which nobody has described: found by a signature, believed after validation."""

from . import flac, marks
from .find import Hit, sounds_in


def warm() -> None:
    """Compile what is compiled."""
    marks.warm()
    flac.warm()


__all__ = ["Hit", "sounds_in", "warm"]
