"""Numbers and times as people read them, the same on every screen and in every report."""

from __future__ import annotations


def spaced(number: int) -> str:
    """A number in groups of three, set apart by narrow no-break spaces."""
    return f"{number:,}".replace(",", "\u202f")


def clock(frames: int, rate: int) -> str:
    """A length in frames as minutes, seconds and milliseconds."""
    ms = round(frames * 1000 / rate)
    return f"{ms // 60000}:{ms // 1000 % 60:02}.{ms % 1000:03}"
