"""What is done to a replacement before it is encoded. Nothing of it changes the user's file."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import asdict, dataclass, fields
from typing import Any

from ..audio import AudioInfo, can_mix, carried, resampled_length
from ..audio.edges import THRESHOLDS
from ..audio.mix import Matrix
from ..audio.tempo import TEMPI
from ..base import Format, Loop, ZubretError
from ..codec import codec_of
from ..codec.aim import RATES
from ..codec.speakers import LAYOUTS
from .timeline import Part, Timeline

CHOICES = {
    "loop": ("source", "whole", "points", "original", "none"),
    "more_loops": ("source", "original", "none"),
    "extend": ("", "times", "length"),
    "extend_end": ("fade", "rest"),
    "length": ("", "end", "tempo"),
    "match": ("", "original", "number"),
    "align": ("", "pad", "trim"),
    "bits": ("", "number", "place"),
}
LONGEST = 12 * 3600.0
"""Seconds that a loop may be played out to."""
GAINS, LUFS, CEILINGS = (-60.0, 40.0), (-60.0, 0.0), (-20.0, 0.0)
RANGES = {
    "silence_db": (float(THRESHOLDS[0]), float(THRESHOLDS[-1])),
    "loop_scale": (0.25, 4.0),
    "declick_ms": (0.0, 200.0),
    "extend_times": (1, 100_000),
    "extend_seconds": (0.0, LONGEST),
    "fade_in": (0.0, 600.0),
    "fade_out": (0.0, 600.0),
    "tempo": TEMPI,
    "gain_db": GAINS,
    "lufs": LUFS,
    "ceiling_db": CEILINGS,
    "bit_rate": RATES,
}
"""What may be asked for: dBFS, ms, times, s, times as fast, dB, LUFS, dBTP, bits a second."""
WEIGHTS = 4.0
"""The largest weight of a mix."""


@dataclass(frozen=True)
class Treatment:
    """The steps, in the order in which they are done.

    trim_start, trim_end: the part of the file that is used, in its own frames (None: its end)
    cut_silence: whether of that part what is below `silence_db` (dBFS) at both ends is cut, too
    loop:       where the loop comes from: the file itself, the whole part, the points below, the original's (at the same times), or
                none
    loop_start, loop_end: half-open, in the file's own frames; used when `loop` is "points"
    loop_scale: how long a beat of the file is, of one of the original; what is taken over from the original stands at the same beat
    more_loops: where loops besides the first come from, if the original's kind of file has room for them
    declick_ms: for so long before its end the loop goes over into what is before its start
    extend:     "" leaves repeating the loop to the game; else it is played out, "times" or until a "length" is passed
    extend_times, extend_seconds: how often, or how long all of it is at least
    extend_end: behind that, the file goes on ("rest"), or the loop does while it fades out ("fade")
    fade_in, fade_out: seconds at both ends
    resample, mix: bring rate and channels to the original's; matrix: the weights of the mix, a row for each channel of the
                original; None is the usual one
    tempo:      so many times as fast, at the same pitch; for what plays once
    length:     brings it to the original's length: its "end" is cut or filled with silence, or its "tempo" is changed
    gain_db:    applied before encoding, unless loudness is matched
    match:      the loudness it is brought to: the original's, or `lufs` ("number"); "" leaves it. Its true peak is kept
                below `ceiling_db` (dBTP)
    limit:      whether a limiter turns down peaks above `ceiling_db`; without it the gain gives way
    align:      how a loop start gets onto a block edge: "pad" puts silence before the head,
                "trim" cuts the head; "" leaves it
    bits:       what an encoder that has a choice aims at: the original's own bits a second (""), `bit_rate` ("number"), or what
                fits the original's place
    """

    trim_start: int = 0
    trim_end: int | None = None
    cut_silence: bool = False
    silence_db: int = -60
    loop: str = "source"
    loop_start: int = 0
    loop_end: int = 0
    loop_scale: float = 1.0
    more_loops: str = "source"
    declick_ms: float = 0.0
    extend: str = ""
    extend_times: int = 2
    extend_seconds: float = 300.0
    extend_end: str = "fade"
    fade_in: float = 0.0
    fade_out: float = 0.0
    resample: bool = False
    mix: bool = False
    matrix: Matrix | None = None
    tempo: float = 1.0
    length: str = ""
    gain_db: float = 0.0
    match: str = ""
    lufs: float = -23.0
    ceiling_db: float = -1.0
    limit: bool = False
    align: str = ""
    bits: str = ""
    bit_rate: int = 64_000

    def as_dict(self) -> dict[str, Any]:
        """JSON-ready form."""
        return asdict(self)

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Treatment:
        """From its JSON form; ZubretError for a value that can't be meant."""
        known = {f.name for f in fields(cls)}
        for name in data:
            if name not in known:
                raise ZubretError(f'A treatment has no step "{name}".', field=name, next="Correct the request.")
        matrix = data.get("matrix")
        new = cls(**{**data, "matrix": None if matrix is None else tuple(tuple(row) for row in matrix)})
        wrong = {
            name: f"one of {', '.join(map(repr, c))}" for name, c in CHOICES.items() if getattr(new, name) not in c
        }
        wrong |= {n: f"from {a:g} to {b:g}" for n, (a, b) in RANGES.items() if not a <= getattr(new, n) <= b}
        if not all(abs(weight) <= WEIGHTS for row in new.matrix or () for weight in row):
            wrong["matrix"] = f"weights from {-WEIGHTS:g} to {WEIGHTS:g}"
        for name, possible in wrong.items():
            raise ZubretError(
                "A step of the treatment has a value that is not possible.", field=name, next=f"Choose {possible}."
            )
        return new

    def used(self, info: AudioInfo) -> tuple[int, int]:
        """The part [start, end) of a file that is used, in its frames; ZubretError where there is none."""
        start, end = self.trim_start, info.frames if self.trim_end is None else self.trim_end
        if not 0 <= start < end <= info.frames:
            raise ZubretError(
                f"The part from {start:,} to {end:,} lies outside the file's {info.frames:,} frames.",
                field="trim",
                next=f"Choose a part inside 0 to {info.frames:,}.",
            )
        if not self.cut_silence:
            return start, end
        first, last = info.sounding(self.silence_db) or (end, end)
        start, end = max(start, first), min(end, last)
        if start >= end:
            raise ZubretError(
                f"Nothing in the part that is used reaches {self.silence_db} dBFS.",
                field="silence_db",
                next="Set a lower threshold, or leave the silence in.",
            )
        return start, end

    def loop_of(self, info: AudioInfo, original: Format) -> Loop | None:
        """The loop that is asked for, in a file's own frames; it may be impossible."""
        if self.loop == "whole":
            return Loop(*self.used(info))
        if self.loop == "original":
            return self._taken_over(original.loop, original, info) if original.loop else None
        return {"source": info.loop, "points": Loop(self.loop_start, self.loop_end)}.get(self.loop)

    def more_of(self, info: AudioInfo, original: Format) -> list[Loop]:
        """Loops besides the first, in a file's own frames."""
        if not original.variant.startswith(("WAV/", "WAVEX/")):
            return []
        if self.more_loops == "original":
            return [self._taken_over(loop, original, info) for loop in original.more]
        return list(info.more) if self.more_loops == "source" else []

    def _taken_over(self, loop: Loop, original: Format, info: AudioInfo) -> Loop:
        """A loop of the original at the same beats of a file, to its nearest frames."""
        same = carried(loop, original.rate, info.rate)
        start = round(same.start * self.loop_scale)
        return Loop(start, start + max(1, round(same.length * self.loop_scale)))


@dataclass(frozen=True)
class Target:
    """What a treatment leads to.

    timeline: the frames of the file that are heard; loop: inside them, before resampling; matrix: the weights of the mix, where
    they are not the usual ones; tempo: how many times as fast that is played then; format: of the stream to be stored; pad, cut: frames put before or cut from the head; behind: frames of
    silence put behind the end (below 0: frames cut from it); filled: how many of these the bank needs, up to a length that it can
    tell; unheard: frames that are left out since they stand behind a loop which goes to the end; gap: frames of silence in such a loop;
    off_grid: frames by which the loop start misses a block edge, 0 when it does not.
    """

    timeline: Timeline
    loop: Loop | None
    matrix: Matrix | None
    tempo: float
    format: Format
    pad: int
    cut: int
    behind: int
    filled: int
    unheard: int
    gap: int
    off_grid: int

    def in_file(self, frame: int, rate: int) -> int:
        """A frame of what is stored as the nearest one of the file; rate: the file's, in Hz."""
        before = round((frame - self.pad + self.cut) * self.tempo * rate / self.format.rate)
        return self.timeline.in_file(min(max(before, 0), self.timeline.frames))


def target_of(
    original: Format, info: AudioInfo, how: Treatment, told: Callable[[Format], Format] = lambda format: format
) -> Target:
    """The stream that a file becomes under a treatment; ZubretError, with the step as its field, where it can't. told: a format as the
    bank tells it."""
    start, end = how.used(info)
    loop = how.loop_of(info, original)
    if loop and not start <= loop.start < loop.end <= end:
        raise ZubretError(
            f"The loop from {loop.start:,} to {loop.end:,} is empty or leaves the part from {start:,} to {end:,}.",
            field="loop",
            next="Set the loop's start before its end, both inside the part that is used.",
        )
    timeline = _timeline(info, how, start, end, loop)
    part_loop = Loop(loop.start - start, loop.end - start) if loop and not how.extend else None

    out_rate = original.rate if how.resample else info.rate
    out_channels = original.channels if how.mix else info.channels
    new_loop = carried(part_loop, info.rate, out_rate) if part_loop else None
    length = resampled_length(timeline.frames, info.rate, out_rate, part_loop)
    wanted = round(original.frames * out_rate / original.rate)
    tempo = _tempo(how, length, wanted, out_channels, part_loop)
    if tempo != 1:
        length = max(1, wanted if how.length == "tempo" else round(length / tempo))

    block = codec_of(original).block_frames(original)
    off = new_loop.start % block if new_loop else 0
    pad = block - off if off and how.align == "pad" else 0
    cut = off if how.align == "trim" else 0
    if new_loop:
        new_loop = Loop(new_loop.start + pad - cut, new_loop.end + pad - cut)
    length += pad - cut
    behind = wanted - length if how.length == "end" else 0
    if new_loop and new_loop.end > length + behind:
        raise ZubretError(
            "The loop would end behind the original's end.",
            field="length",
            next="Choose a shorter loop, or leave the length as it is.",
        )
    more = []
    for other in how.more_of(info, original) if new_loop else []:
        if start <= other.start < other.end <= end and not how.extend and tempo == 1:
            new = carried(Loop(other.start - start, other.end - start), info.rate, out_rate)
            more.append(Loop(new.start + pad - cut, new.end + pad - cut))
    as_told = told(original.with_(frames=length + behind, loop=new_loop))
    if new_loop and as_told.loop and as_told.loop.start != new_loop.start:
        raise ZubretError(
            "This bank only tells whether a stream loops, and it does so from its beginning.",
            field="loop",
            next="Loop the whole piece, or let the part that is used begin where the loop does.",
        )
    unheard = 0
    if new_loop and as_told.loop != new_loop and how.length != "end":  # it goes to the end, whatever is there
        unheard, behind = length - new_loop.end, new_loop.end - length
        as_told = told(original.with_(frames=new_loop.end, loop=new_loop))
    filled, off, matrix = as_told.frames - length - behind, 0 if pad or cut else off, how.matrix if how.mix else None
    fitting = tuple(loop for loop in more if 0 <= loop.start < loop.end <= length + behind)
    format = original.with_(
        rate=out_rate, channels=out_channels, frames=as_told.frames, loop=as_told.loop, more=fitting
    )
    gap = format.loop.end - new_loop.end if format.loop and new_loop else 0
    behind += filled
    return Target(timeline, part_loop, matrix, tempo, format, pad, cut, behind, filled, unheard, gap, off)


def _timeline(info: AudioInfo, how: Treatment, start: int, end: int, loop: Loop | None) -> Timeline:
    """The part [start, end) of a file, with a loop in it or played out, and its fades."""
    fade_in, fade_out = round(how.fade_in * info.rate), round(how.fade_out * info.rate)

    def faded(*parts: Part) -> Timeline:
        some = tuple(part for part in parts if part.frames)
        most = sum(part.frames for part in some)
        return Timeline(some, min(fade_in, most), min(fade_out, most))

    if loop is None:
        if how.extend:
            raise ZubretError(
                "There is no loop that could be played out.", field="extend", next="Set a loop, or let one be found."
            )
        return faded(Part(start, end))
    blend = min(round(how.declick_ms * info.rate / 1000), loop.start, loop.length // 2)
    first = Part(start, loop.end, 1, blend, loop.start)
    if not how.extend:
        return faded(first, Part(loop.end, end)) if blend else faded(Part(start, end))

    behind = fade_out if how.extend_end == "fade" else end - loop.end
    times = how.extend_times
    if how.extend == "length":
        missing = math.ceil(how.extend_seconds * info.rate) - (loop.start - start) - behind
        times = max(1, -(-missing // loop.length))
    if (loop.start - start) + times * loop.length + behind > LONGEST * info.rate:
        raise ZubretError(
            f"Played out so often the loop would last longer than {LONGEST / 3600:g} hours.",
            field="extend",
            next="Choose a smaller number.",
        )
    if how.extend_end == "fade":
        more, rest = divmod(behind, loop.length)
        again = Part(loop.start, loop.end, times - 1 + more, blend, loop.start)
        return faded(first, again, Part(loop.start, loop.start + rest))
    if times == 1:
        return faded(Part(start, end))
    again = Part(loop.start, loop.end, times - 2, blend, loop.start)
    return faded(first, again, Part(loop.start, end))


def _tempo(how: Treatment, length: int, wanted: int, channels: int, loop: Loop | None) -> float:
    """How many times as fast `length` frames are to be played; wanted: the original's length."""
    tempo = length / max(1, wanted) if how.length == "tempo" else how.tempo
    if tempo == 1:
        return 1.0
    if loop:
        raise ZubretError(
            "The tempo of what loops can't be changed: its seam would not hold.",
            field="tempo",
            next="Set the loop to none, or the tempo to 1.",
        )
    if channels not in LAYOUTS:
        raise ZubretError(
            f"The tempo of {channels} channels can't be changed.", field="tempo", next="Set the tempo to 1."
        )
    low, high = TEMPI
    if not low <= tempo <= high:
        raise ZubretError(
            f"To have the original's length it would be played {tempo:.2f} times as fast.",
            field="length",
            next=f"From {low:g} to {high:g} times is possible: trim it, or cut or fill its end.",
        )
    return tempo


def mixes(info: AudioInfo, want: Format, how: Treatment) -> bool:
    """Whether the mix that is asked for can be made."""
    if how.matrix is not None:
        return len(how.matrix) == want.channels and all(len(row) == info.channels for row in how.matrix)
    return can_mix(info.channels, want.channels)
