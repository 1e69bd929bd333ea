"""What of a reading of unknown audio can be turned by ear, and to what."""

from __future__ import annotations

from typing import NamedTuple, get_args

from ..codec.pcm import WIDTHS
from ..layout.language.codecs import CodecModel

"""Usual sample rates in Hz (common practice)."""
MOST_CHANNELS = 64
CONVINCING, PERHAPS = 10.0, 5.0
"""Decibels of evidence above which a reading is likely, or may be right."""
NEAR = 3.0
"""Decibels by which a convincing one may lie below the best."""
_TURNED = {
    "pcm": ("sample", "order", "interleave"),
    "packed-pcm": ("bits", "nibbles"),
    "step-adpcm": ("header", "nibbles", "group"),
    "filter-adpcm": ("word", "nibbles", "rounding", "interleave"),
}
_USUAL: dict[str, tuple[str | int, ...]] = {
    "sample": tuple(WIDTHS),
    "interleave": (-1, 0, *(1 << n for n in range(4, 16))),
    "group": (0, 1, 2, 4, 8),
    "bits": tuple(range(9, 16)),
    "word": ("filter-shift", "shift-filter"),
}
"""Of parameters that may have any value those to be tried (common practice)."""


class Turn(NamedTuple):
    """A parameter of a codec, and the values that can be tried."""

    name: str
    values: tuple[str | int, ...]


def turns_of(codec: str) -> list[Turn]:
    """What of a codec can be turned; of most, nothing."""
    return [Turn(name, _USUAL.get(name) or _words(name)) for name in _TURNED.get(codec, ())]


def _words(name: str) -> tuple[str, ...]:
    """The values that the layout language knows for a parameter."""
    return tuple(word for part in get_args(CodecModel.model_fields[name].annotation) for word in get_args(part))


def verdict(score: float, best: float) -> str:
    """A reading's decibels of evidence in a word, beside those of the best one."""
    if score > CONVINCING and score > best - NEAR:
        return "convincing"
    return "perhaps" if score > PERHAPS else "weak"
