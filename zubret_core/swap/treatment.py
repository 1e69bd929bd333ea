"""What is done to a replacement before it is encoded. Nothing of it changes the user's file."""

from __future__ import annotations

from dataclasses import asdict, dataclass, fields
from typing import Any

from ..audio import carried, resampled_length
from ..base import Format, Loop, ZubretError
from ..codec import codec_of

LOOP_MODES = ("source", "whole", "points", "none")
MATCHES = ("", "original", "number")
GAINS, LUFS, CEILINGS = (-60.0, 40.0), (-60.0, 0.0), (-20.0, 0.0)
"""What may be asked for: dB, LUFS, dBTP."""


@dataclass(frozen=True)
class Treatment:
    """The steps, in the order in which they are done.

    trim_start, trim_end: the part of the file that is used, in its own frames (None: its end)
    loop:       where the loop comes from: the file itself, the whole part, the points below, or none
    loop_start, loop_end: half-open, in the file's own frames; used when `loop` is "points"
    resample, mix: bring rate and channels to the original's
    gain_db:    applied before encoding, unless loudness is matched
    match:      the loudness it is brought to: the original's, or `lufs` ("number"); "" leaves it. Its true peak is kept
                below `ceiling_db` (dBTP)
    align:      how a loop start gets onto a block edge: "pad" puts silence before the head,
                "trim" cuts the head; "" leaves it
    """

    trim_start: int = 0
    trim_end: int | None = None
    loop: str = "source"
    loop_start: int = 0
    loop_end: int = 0
    resample: bool = False
    mix: bool = False
    gain_db: float = 0.0
    match: str = ""
    lufs: float = -23.0
    ceiling_db: float = -1.0
    align: str = ""

    def as_dict(self) -> dict[str, Any]:
        """JSON-ready form."""
        return asdict(self)

    def loop_of(self, frames: int, own: Loop | None) -> Loop | None:
        """The loop that is asked for, in the frames of a file of `frames` with a loop of its `own`; it may be impossible."""
        if self.loop == "whole":
            return Loop(self.trim_start, frames if self.trim_end is None else self.trim_end)
        return {"source": own, "points": Loop(self.loop_start, self.loop_end)}.get(self.loop)

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Treatment:
        """From its JSON form; ZubretError for a value that can't be meant."""
        known = {f.name for f in fields(cls)}
        for name in data:
            if name not in known:
                raise ZubretError(f'A treatment has no step "{name}".', field=name, next="Correct the request.")
        new = cls(**data)
        choices = {"loop": LOOP_MODES, "align": ("", "pad", "trim"), "match": MATCHES}
        ranges = {"gain_db": GAINS, "lufs": LUFS, "ceiling_db": CEILINGS}
        wrong = {
            name: f"one of {', '.join(map(repr, c))}" for name, c in choices.items() if getattr(new, name) not in c
        }
        wrong |= {n: f"from {a:g} to {b:g}" for n, (a, b) in ranges.items() if not a <= getattr(new, n) <= b}
        for name, possible in wrong.items():
            raise ZubretError(
                "A step of the treatment has a value that is not possible.", field=name, next=f"Choose {possible}."
            )
        return new


@dataclass(frozen=True)
class Target:
    """What a treatment leads to.

    used: the part of the file, in its frames; loop: inside that part, before resampling;
    format: of the stream to be stored; pad, cut: frames put before or cut from the head after
    resampling; off_grid: frames by which the loop start misses a block edge, 0 when it does not.
    """

    used: tuple[int, int]
    loop: Loop | None
    format: Format
    pad: int
    cut: int
    off_grid: int

    def in_file(self, frame: int, rate: int) -> int:
        """A frame of what is stored as the nearest one of the part of the file that is used; rate: the file's, in Hz."""
        start, end = self.used
        return min(max(start + round((frame - self.pad + self.cut) * rate / self.format.rate), start), end)


def target_of(original: Format, rate: int, channels: int, frames: int, own: Loop | None, how: Treatment) -> Target:
    """The stream that a file (rate, channels, frames, own loop) becomes under a treatment."""
    start, end = how.trim_start, frames if how.trim_end is None else how.trim_end
    if not 0 <= start < end <= frames:
        raise ZubretError(
            f"The part from {start:,} to {end:,} lies outside the file's {frames:,} frames.",
            field="trim",
            next=f"Choose a part inside 0 to {frames:,}.",
        )
    loop = how.loop_of(frames, own)
    if loop and not start <= loop.start < loop.end <= end:
        raise ZubretError(
            f"The loop from {loop.start:,} to {loop.end:,} is empty or leaves the part from {start:,} to {end:,}.",
            field="loop",
            next="Set the loop's start before its end, both inside the part that is used.",
        )
    part_loop = Loop(loop.start - start, loop.end - start) if loop else None
    out_rate = original.rate if how.resample else rate
    out_channels = original.channels if how.mix else channels
    new_loop = carried(part_loop, rate, out_rate) if part_loop else None
    length = resampled_length(end - start, rate, out_rate, part_loop)
    block = codec_of(original).block_frames(original)
    off = new_loop.start % block if new_loop else 0
    pad = block - off if off and how.align == "pad" else 0
    cut = off if how.align == "trim" else 0
    if new_loop:
        new_loop = Loop(new_loop.start + pad - cut, new_loop.end + pad - cut)
    format = original.with_(rate=out_rate, channels=out_channels, frames=length + pad - cut, loop=new_loop)
    return Target((start, end), part_loop, format, pad, cut, 0 if pad or cut else off)
