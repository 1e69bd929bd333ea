"""What is measured of a stream, in one pass over it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import asdict, dataclass, field
from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..base import Format, Progress, silent, to_float
from ..base.pcm import decibels
from .files import DecodeRange
from .loudness import Loudness

PIECE = 1 << 18
SILENCE = 10 ** (-60 / 20)
"""Amplitude below which the head and the tail count as silent: -60 dBFS."""
WINDOW = 0.02
"""Seconds of an envelope's step."""
KINDS = MUSIC, VOICE, EFFECT = "music", "voice", "effect"
Vote = tuple[str, float, str]
"""A kind, how much speaks for it, and why."""
_SAY = {
    VOICE: "voice voices voiced vo vox speech dialog dialogs dialogue dialogues dlg talk spoken narration barks",
    MUSIC: "music bgm song songs theme themes soundtrack ost score jingle",
    EFFECT: "sfx fx effect effects se foley ambience ambient ambiences amb ui footsteps",
}
_KIND_OF = {word: kind for kind, words in _SAY.items() for word in words.split()}
"""What folders, banks and files are called by what is in them (common practice)."""
_WORD = re.compile("[A-Z]*[a-z]+|[A-Z]+")
_DIGITS = dict.fromkeys(range(0x30, 0x3A), "0")


class _Shape(NamedTuple):
    """What of a format speaks for a kind: longer than 40 s, shorter than 2.5 s, than 20 s, longer than 15 s; it loops, and has
    several channels."""

    long: bool
    short: bool
    line: bool
    lasts: bool
    loops: bool
    wide: bool


@dataclass
class Measures:
    """loudness in LUFS and range in LU (None: too short or silent); true_peak in dBTP and peak in dBFS (-200: silence);
    dc as a share of full scale; head and tail: silent frames; frames: those that decode; kind with its reasons.
    """

    loudness: float | None = None
    range: float | None = None
    true_peak: float = -200.0
    peak: float = -200.0
    dc: float = 0.0
    head: int = 0
    tail: int = 0
    frames: int = 0
    kind: str = EFFECT
    reasons: list[str] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        """JSON-ready form."""
        return asdict(self)


def measure(
    decode: DecodeRange, format: Format, language: str = "", path: str = "", progress: Progress = silent
) -> Measures:
    """Measure a stream piece by piece, so that memory does not grow with its length. path: where it stands in the game."""
    out, meter = Measures(frames=format.frames), Loudness(format.rate, format.channels)
    total, peak = np.zeros(format.channels), 0.0
    first, last = -1, -1
    envelope: list[NDArray[np.float32]] = []
    step = max(1, round(format.rate * WINDOW))
    for start in range(0, format.frames, PIECE):
        pcm = to_float(decode(start, min(PIECE, format.frames - start)))
        level = np.abs(pcm).max(axis=1)
        heard = np.flatnonzero(level > SILENCE)
        if len(heard):
            first = start + int(heard[0]) if first < 0 else first
            last = start + int(heard[-1])
        peak = max(peak, float(level.max(initial=0)))
        total += pcm.sum(axis=0, dtype=np.float64)
        whole = len(pcm) // step * step
        if whole:
            envelope.append(np.sqrt((pcm[:whole] ** 2).mean(axis=1).reshape(-1, step).mean(axis=1)))
        meter.add(pcm, last=start + len(pcm) >= format.frames)
        progress(start + len(pcm), format.frames, "measuring")
    out.loudness, out.range = meter.integrated, meter.range
    out.peak, out.true_peak = max(-200.0, decibels(peak)), max(-200.0, meter.true_peak)
    out.dc = float(np.abs(total).max() / format.frames) if format.frames else 0.0
    out.head = first if first >= 0 else format.frames
    out.tail = format.frames - 1 - last if last >= 0 else format.frames
    out.kind, out.reasons = guess(format, language, path, np.concatenate(envelope) if envelope else None)
    return out


def guess(format: Format, language: str = "", path: str = "", envelope: NDArray | None = None) -> tuple[str, list[str]]:
    """Music, voice or effect, with the reasons for it; `envelope` is the level of every 20 ms where it is known.

    Rules of thumb on what its path says, on length, loop, channels and language, and on how the level moves: speech has pauses
    and a beat of about four syllables a second (common practice), an effect dies away.
    """
    said = list(_by_format(language, _said_by(path), _shape(format)))
    if envelope is not None and len(envelope) >= 25 and envelope.max() > 0:
        said += _by_envelope(envelope)
    best = _heaviest(said)
    return best, [why for kind, _, why in sorted(said, key=lambda vote: vote[1:], reverse=True) if kind == best]


def likely_kind(format: Format, language: str = "", path: str = "") -> str:
    """What `guess` says of a stream of which nothing was measured."""
    return _likely(language, _said_by(path), _shape(format))


def _said_by(path: str) -> str:
    """The last word of a path that says of which kind a sound is; "" where none does. Paths that differ in numbers say the
    same."""
    return _telling(path.translate(_DIGITS))


@lru_cache(1 << 14)
def _telling(path: str) -> str:
    words = (word.lower() for word in reversed(_WORD.findall(path)))
    return next((word for word in words if word in _KIND_OF), "")


def _shape(format: Format) -> _Shape:
    seconds = format.frames / format.rate
    return _Shape(seconds > 40, seconds < 2.5, seconds < 20, seconds > 15, format.loop is not None, format.channels > 1)


@lru_cache
def _likely(language: str, said: str, shape: _Shape) -> str:
    return _heaviest(list(_by_format(language, said, shape)))


def _heaviest(said: list[Vote]) -> str:
    return max(KINDS, key=lambda kind: sum(weight for of, weight, _ in said if of == kind))


def _by_format(language: str, said: str, shape: _Shape) -> Iterator[Vote]:
    if language:
        yield VOICE, 3, f"its bank is in {language}"
    if said:
        yield _KIND_OF[said], 3, f"its path says “{said}”"
    if shape.long:
        yield MUSIC, 2, "longer than 40 s"
    elif shape.short:
        yield EFFECT, 1.5, "shorter than 2.5 s"
    elif shape.line:
        yield VOICE, 0.5, "as long as a spoken line"
    if shape.loops:
        yield MUSIC if shape.lasts else EFFECT, 1.5, "it loops"
    yield (MUSIC, 1, "more than one channel") if shape.wide else (VOICE, 0.5, "one channel")


def _by_envelope(envelope: NDArray) -> Iterator[Vote]:
    loud = float(np.percentile(envelope, 90))
    pauses = float((envelope < loud * 0.05).mean())
    swing = envelope - envelope.mean()
    power = np.abs(np.fft.rfft(swing * np.hanning(len(swing)))) ** 2
    beat = np.fft.rfftfreq(len(swing), WINDOW)
    syllables = float(power[(beat > 2) & (beat < 8)].sum() / max(1e-12, power[1:].sum()))
    if 0.08 < pauses < 0.7 and syllables > 0.25:
        yield VOICE, 2, f"pauses ({pauses:.0%}) and a beat of syllables"
    elif pauses < 0.03 and len(envelope) > 200:
        yield MUSIC, 1, "hardly a pause"
    quarter = max(1, len(envelope) // 4)
    if envelope[:quarter].mean() > 4 * envelope[-quarter:].mean() and len(envelope) < 250:
        yield EFFECT, 1.5, "it dies away"
