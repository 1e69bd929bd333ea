"""The fit report: a replacement against the original, point by point."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

from ..audio import AudioInfo
from ..bank import Stream
from ..base import Format, Loop, ZubretError
from ..base.wording import clock, spaced
from ..codec import codec_of
from ..codec.aim import can_aim
from .levels import Level, Match
from .treatment import Target, Treatment, mixes, target_of

LABELS = {"trim": "part", "silence_db": "silence", "extend": "played out"}
"""What a step that is impossible is called, where its name is not enough."""
FITS, CAN, BLOCKS = "fits", "can be fitted", "blocks"
LOUDER = 1.0
"""dB by which a replacement's peak may pass the original's, or LU by which its loudness may differ, before the report offers to
match it."""
ROUNDS = 3
"""How often what a report proposes is done, at most."""
TONE = 0.02
"""Seconds of a loop that is heard as a tone rather than as what it holds: 50 passes a second."""
MANY_FULL = 10
"""Frames at full scale that are told."""
DULL = 6.0
"""dB of spectral distance from which a listener is told. Opus at 7 to 13 kbit/s comes to it; 4-bit codecs and usual bit rates stay
at half of it (measured on the demo's speech and music)."""


@dataclass(frozen=True)
class Sound:
    """What is heard against what was meant: signal to noise in dB (inf: they are equal), the distance of their spectra in dB, Hz
    above which nothing of it is left, and frames at full scale."""

    snr_db: float
    spectrum_db: float
    lost_above: int | None
    full: int


@dataclass(frozen=True)
class Made:
    """What came of a replacement: the level of what the game will play, how its gain was found where loudness is matched, the most
    by which a limiter turned it down, its stored bytes, and how it differs from what was meant."""

    level: Level
    match: Match | None = None
    limited_db: float = 0.0
    size: int = 0
    sound: Sound | None = None


@dataclass(frozen=True)
class FitPoint:
    """One line of the report.

    verdict: "fits", "can be fitted" or "blocks"; action: what would be done, or was; fix: the
    steps of the treatment that would do it; required: nothing can be encoded before it is done.
    """

    key: str
    label: str
    original: str
    new: str
    verdict: str
    action: str = ""
    fix: dict[str, Any] | None = None
    required: bool = True


@dataclass(frozen=True)
class FitReport:
    """All points, and the format the stream will have; `target` is None where the treatment is impossible. level: the
    original's."""

    points: list[FitPoint]
    level: Level
    target: Target | None = None
    changes_too: list[str] = field(default_factory=list)

    @property
    def verdict(self) -> str:
        """The worst of all required points."""
        verdicts = {p.verdict for p in self.points if p.required}
        return BLOCKS if BLOCKS in verdicts else CAN if CAN in verdicts else FITS

    def fix_all(self) -> dict[str, Any]:
        """The steps that fit every point that can be fitted."""
        steps: dict[str, Any] = {}
        for point in self.points:
            # The grid is asked for even where the loop meets it by chance: it may be moved later.
            if point.verdict == CAN or point.key == "align":
                steps.update(point.fix or {})
        return steps

    def as_dict(self) -> dict[str, Any]:
        """JSON-ready form."""
        return {
            "verdict": self.verdict,
            "points": [dict(vars(p)) for p in self.points],
            "fix_all": self.fix_all(),
            "format": self.target.format.as_dict() if self.target else None,
            "changes_too": self.changes_too,
        }


def fit_report(
    original: Stream,
    level: Level,
    info: AudioInfo,
    how: Treatment,
    made: Made | None = None,
) -> FitReport:
    """Compare a replacement under a treatment with the stream it is to replace; level: the original's; made: what came of it, once
    it is encoded."""
    want = original.format
    try:
        target = target_of(want, info, how, original.told)
    except ZubretError as e:
        key = e.field or "loop"
        point = FitPoint(key, LABELS.get(key, key), "", "", BLOCKS, f"{e.what} {e.next}")
        return FitReport([point], level)
    points = [
        _rate(want, info, how),
        _channels(want, info, how),
        *_codec(want, info),
        _length(original, target, info, how),
        *_loop(want, target, info, how),
        *_more_loops(want, target),
        *_edited(want, target, info, how),
        _peak(level.peak, info, how, made),
        *([_limiter(made)] if how.limit and made else []),
        *([_loudness(level, how, made)] if made else []),  # else nobody knows yet
        _size(original, target, how, made),
        *([_sound(made.sound)] if made and made.sound else []),
        *_late(want),
    ]
    shares = [str(n) for n in original.shares]
    return FitReport(points, level, target, shares)


def stored_report(original: Stream, level: Level, format: Format, size: int) -> FitReport:
    """Compare a payload that is taken as it is stored with the stream it is to replace: nothing of it can be fitted, so what the bank
    keeps has to be the same."""

    def said(f: Format) -> dict[str, tuple[str, str]]:
        return {
            "rate": ("sample rate", f"{spaced(f.rate)} Hz"),
            "channels": ("channels", str(f.channels)),
            "codec": ("codec", f.variant.replace("/", ", ") if f.codec == "file" else codec_of(f).label),
            "block_size": ("block size", f"{spaced(f.block_size)} B" if f.block_size else "no blocks"),
            "length": ("length", f"{clock(f.frames, f.rate)}, {spaced(f.frames)} frames"),
            "loop": ("loop", f"{spaced(f.loop.start)} to {spaced(f.loop.end)}" if f.loop else "plays once"),
        }

    old, points = said(original.format), []
    for key, (label, new) in said(format).items():
        same = old[key][1] == new
        blocks = not same and key in original.keeps
        words = "as it is stored" if same else "the bank takes no other" if blocks else "another one, as it is stored"
        points.append(FitPoint(key, label, old[key][1], new, BLOCKS if blocks else FITS, words))
    points.append(FitPoint("size", "stored size", f"{spaced(original.stored)} B", f"{spaced(size)} B", FITS, ""))
    return FitReport(points, level, None, [str(n) for n in original.shares])


def fitted(original: Stream, level: Level, info: AudioInfo, how: Treatment) -> Treatment:
    """A treatment with all that the reports on it propose: a step may bring up another, as resampling moves the loop off the block
    grid."""
    for _ in range(ROUNDS):
        steps = fit_report(original, level, info, how).fix_all()
        then = Treatment.from_dict({**how.as_dict(), **steps})
        if then == how:
            break
        how = then
    return how


def decibel(value: float) -> str:
    """A level with its unit."""
    return "silence" if math.isinf(value) or value <= -200 else f"{value:+.1f} dBFS".replace("-", "−")


def _rate(want: Format, info: AudioInfo, how: Treatment) -> FitPoint:
    old, new = f"{spaced(want.rate)} Hz", f"{spaced(info.rate)} Hz"
    if want.rate == info.rate:
        return FitPoint("rate", "sample rate", old, new, FITS)
    if how.resample:
        lost = f": what is above {spaced(want.rate // 2)} Hz goes" if want.rate < info.rate else ""
        return FitPoint("rate", "sample rate", old, old, FITS, f"resampled from {new}{lost}")
    return FitPoint("rate", "sample rate", old, new, CAN, f"resample to {old}", {"resample": True})


def _channels(want: Format, info: AudioInfo, how: Treatment) -> FitPoint:
    old, new = str(want.channels), str(info.channels)
    if want.channels == info.channels and not (how.mix and how.matrix):
        return FitPoint("channels", "channels", old, new, FITS)
    if not mixes(info, want, how):
        text = f"no mix from {new} to {old} channels is usual: give its weights, or export the file with {old} channels"
        return FitPoint("channels", "channels", old, new, BLOCKS, text)
    way = "with the weights that are set" if how.matrix else "copied to all" if info.channels == 1 else "mixed"
    if how.mix:
        return FitPoint("channels", "channels", old, old, FITS, f"{way}, from {new}")
    what = "copy the one channel to all" if info.channels == 1 else f"mix {new} channels to {old}"
    return FitPoint("channels", "channels", old, new, CAN, what, {"mix": True})


def _codec(want: Format, info: AudioInfo) -> list[FitPoint]:
    codec = codec_of(want)
    label = want.variant.replace("/", ", ") if want.codec == "file" else codec.label
    source = info.variant.replace("/", ", ")
    obstacle = codec.obstacle(want)
    if obstacle:
        return [FitPoint("codec", "codec", label, source, BLOCKS, obstacle)]
    points = [FitPoint("codec", "codec", label, source, FITS, f"encoded as {label}")]
    frames = f"{spaced(codec.block_frames(want))} frames a block"
    if want.block_size and codec.block_frames(want) > 1:
        size = f"{spaced(want.block_size)} B"
        points.append(FitPoint("block_size", "block size", size, size, FITS, frames))
    return points


def _length(original: Stream, target: Target, info: AudioInfo, how: Treatment) -> FitPoint:
    want, new = original.format, target.format
    old_text, new_text = clock(want.frames, want.rate), clock(new.frames, new.rate)
    done = ""
    behind = target.behind - target.filled + target.unheard
    if how.length == "end" and behind:
        done = f"{clock(abs(behind), new.rate)} {'of silence behind it' if behind > 0 else 'cut off its end'}"
    elif target.tempo != 1:
        done = f"played {target.tempo:.3f} times as fast"
    if target.filled:
        why = "this bank tells lengths in steps only"
        done = f"{done + ', and ' if done else ''}{spaced(target.filled)} frames of silence behind it: {why}"
    if "length" not in original.keeps:
        return FitPoint("length", "length", old_text, new_text, FITS, done or "any length is allowed here")
    surplus = new.frames - round(want.frames * new.rate / want.rate)
    if not surplus:
        return FitPoint("length", "length", old_text, new_text, FITS, done)
    what = "cut the end" if surplus > 0 else "put silence behind it"
    fix = {"length": "end"}
    return FitPoint("length", "length", old_text, new_text, CAN, f"{what}, {clock(abs(surplus), new.rate)}", fix)


def _edited(want: Format, target: Target, info: AudioInfo, how: Treatment) -> list[FitPoint]:
    """What of the file is heard, where that is not all of it as it is."""
    start, end = how.used(info)
    told = []
    if (start, end) != (0, info.frames):
        silence = f", without what is below {how.silence_db} dBFS" if how.cut_silence else ""
        told.append(f"from {clock(start, info.rate)} to {clock(end, info.rate)}{silence}")
    if how.extend:
        loop = how.loop_of(info, want)
        assert loop is not None
        passes = sum(part.times for part in target.timeline.parts if part.end >= loop.end)
        told.append(f"its loop {spaced(passes)} times")
    fades = [f"{s:g} s {way}" for s, way in ((how.fade_in, "in"), (how.fade_out, "out")) if s]
    if fades:
        told.append(f"faded {' and '.join(fades)}")
    if not told:
        return []
    old, new = clock(info.frames, info.rate), clock(target.timeline.frames, info.rate)
    return [FitPoint("edit", "what is heard", old, new, FITS, ", ".join(told), required=False)]


def _loop_text(loop: Loop | None, rate: int) -> str:
    return f"{clock(loop.start, rate)} – {clock(loop.end, rate)}" if loop else "none"


def _loop(want: Format, target: Target, info: AudioInfo, how: Treatment) -> list[FitPoint]:
    new = target.format
    old_text, new_text = _loop_text(want.loop, want.rate), _loop_text(new.loop, new.rate)
    if want.loop and how.extend:
        what = "the game loops this: leave repeating it to the game"
        return [FitPoint("loop", "loop", old_text, "played out", CAN, what, {"extend": ""})]
    if want.loop and not new.loop:
        fix: dict[str, Any] = {"loop": "source"} if info.loop else {"loop": "whole"}
        what = "use the file's own loop" if info.loop else "loop the whole piece"
        return [FitPoint("loop", "loop", old_text, new_text, CAN, f"the game loops this: {what}", fix)]
    if new.loop and not want.loop:
        what = "the game plays this once: leave the loop out"
        return [FitPoint("loop", "loop", old_text, new_text, CAN, what, {"loop": "none"})]
    if not new.loop:
        return [FitPoint("loop", "loop", old_text, new_text, FITS, "plays once")]
    points = [FitPoint("loop", "loop", old_text, new_text, FITS, _pass_text(new.loop, target, info, how))]
    block = codec_of(want).block_frames(want)
    if block == 1:
        return points
    old_edge = f"block {spaced(want.loop.start // block)}" if want.loop else ""
    if target.off_grid:
        pad = block - target.off_grid
        text = f"pad the head by {clock(pad, new.rate)}, up to a block edge"
        here = f"{spaced(target.off_grid)} frames past an edge"
        points.append(FitPoint("align", "loop start", old_edge, here, CAN, text, {"align": "pad"}))
    else:
        done = f"head padded by {spaced(target.pad)} frames" if target.pad else ""
        done = f"head cut by {spaced(target.cut)} frames" if target.cut else done
        edge = f"block {spaced(new.loop.start // block)}"
        points.append(
            FitPoint(
                "align",
                "loop start",
                old_edge,
                edge,
                FITS,
                done or "on a block edge",
                {} if how.align else {"align": "pad"},
            )
        )
    return points


def _more_loops(want: Format, target: Target) -> list[FitPoint]:
    """Loops besides the first, where there are any."""
    new = target.format
    if not (want.more or new.more):
        return []
    old_text, new_text = (
        ", ".join(_loop_text(loop, format.rate) for loop in format.more) or "none" for format in (want, new)
    )
    if len(new.more) == len(want.more):
        return [FitPoint("more_loops", "further loops", old_text, new_text, FITS)]
    what = "take the original’s over" if want.more else "leave them out"
    fix = {"more_loops": "original" if want.more else "none"}
    return [FitPoint("more_loops", "further loops", old_text, new_text, CAN, what, fix, required=False)]


def _pass_text(loop: Loop, target: Target, info: AudioInfo, how: Treatment) -> str:
    text = f"{spaced(loop.length)} frames a pass"
    if loop.length < TONE * target.format.rate:
        text += ", so short that it is heard as a tone"
    if how.declick_ms:
        blend = target.timeline.parts[0].blend * 1000 / info.rate
        text += f", its end blended for {blend:.1f} ms" if blend else ", not blended: nothing is before its start"
    if target.unheard:
        text += f"; the {spaced(target.unheard)} frames behind it are left out, as loops of this bank go to the end"
    if target.gap:
        text += f"; with {spaced(target.gap)} frames of silence at its end, up to a length that this bank can tell"
    return text


def _limiter(made: Made) -> FitPoint:
    new, by = f"{_signed(made.level.true_peak)} dBTP", made.limited_db
    text = f"turned down by {by:.1f} dB at most" if by >= 0.05 else "nothing had to be turned down"
    return FitPoint("limiter", "limiter", "", new, FITS, text, required=False)


def _peak(original: float, info: AudioInfo, how: Treatment, made: Made | None) -> FitPoint:
    if how.match or how.limit:
        new, why = (
            decibel(made.level.peak) if made else "",
            "as its loudness wants it" if how.match else "as the limiter lets it",
        )
        return FitPoint("peak", "peak level", decibel(original), new, FITS, why)
    level = info.peak_db + how.gain_db
    match = math.floor((original - info.peak_db) * 10) / 10 if original > -200 and info.peak_db > -200 else 0.0
    old, new = decibel(original), decibel(level)
    if level > 0.001:
        gain = min(match, math.floor(-info.peak_db * 10) / 10)
        action = f"it would clip: {gain:+.1f} dB".replace("-", "−")
        return FitPoint("peak", "peak level", old, new, CAN, action, {"gain_db": gain}, required=False)
    if level > original + LOUDER and abs(match - how.gain_db) > 0.05:
        text = f"{match:+.1f} dB to match the original's peak".replace("-", "−")
        return FitPoint("peak", "peak level", old, new, CAN, text, {"gain_db": match}, required=False)
    return FitPoint("peak", "peak level", old, new, FITS, f"{how.gain_db:+.1f} dB gain".replace("-", "−"))


def _loudness(original: Level, how: Treatment, made: Made) -> FitPoint:
    heard, match = made.level, made.match
    short = match.short if match else original.short or heard.short
    old = _lufs(original, short)
    new, way = _lufs(heard, short), ", without gates: it is short" if short else ""
    if how.match:
        text = "nothing to be measured" if match is None else f"matched by {_signed(match.gain_db)} dB{way}"
        if match and match.held:
            text += f"; its true peak, {_signed(heard.true_peak)} dBTP, allows no more"
        return FitPoint("loudness", "loudness", old, new, FITS, text, required=False)
    now, wanted = heard.loudness(short), original.loudness(short)
    if now is None or wanted is None or abs(now - wanted) <= LOUDER:
        return FitPoint("loudness", "loudness", old, new, FITS, way.removeprefix(", "), required=False)
    text = f"{abs(now - wanted):.1f} LU {'louder' if now > wanted else 'quieter'}{way}: match the original's"
    return FitPoint("loudness", "loudness", old, new, CAN, text, {"match": "original"}, required=False)


def _lufs(level: Level, short: bool) -> str:
    found = level.loudness(short)
    return "none" if found is None else f"{_signed(found)} LUFS"


def _signed(value: float) -> str:
    return f"{value:+.1f}".replace("-", "−")


def _sound(sound: Sound) -> FitPoint:
    """What a listener would notice of it; apart: as their spectra are."""
    if math.isinf(sound.snr_db) and sound.snr_db > 0:
        new = "as meant, to the bit"
    else:
        new = f"{sound.spectrum_db:.1f} dB apart"
    told = []
    if sound.full >= MANY_FULL:
        told.append(f"{spaced(sound.full)} frames at full scale: it may have been cut off")
    if sound.lost_above is not None:
        told.append(f"nothing is left above {spaced(sound.lost_above)} Hz")
    if sound.spectrum_db > DULL:
        told.append("its sound is another one: this codec does it no good")
    return FitPoint(
        "sound", "heard against meant", "", new, FITS, "; ".join(told) or "nothing that stands out", required=False
    )


def _late(want: Format) -> list[FitPoint]:
    """Of a codec whose encoder begins late, by how much."""
    late = codec_of(want).late(want)
    if not late:
        return []
    words = "its encoder's own delay, of which nothing in the stream tells the player"
    shown = f"{spaced(late)} frames, {1000 * late / want.rate:.0f} ms"
    return [FitPoint("late", "heard late by", "", shown, FITS, words, required=False)]


def _size(original: Stream, target: Target, how: Treatment, made: Made | None) -> FitPoint:
    want, new = original.format, target.format
    codec = codec_of(want)
    old = _stored(original.stored, want)
    size = made.size if made else codec.stored_size(want.with_(frames=new.frames))
    if size is None:
        return FitPoint("size", "stored size", old, "known after encoding", FITS, "the archive is written anew")
    text = "fits its place"
    if size > original.slot:
        text = f"{spaced(size - original.slot)} B more than its place holds"
        text += ", in the smallest way there is" if how.bits == "place" else ""
        if codec.stored_size(want) is not None:
            per_frame = codec.stored_size(want.with_(frames=100_000)) or 1
            text += f", or {clock(math.ceil((size - original.slot) * 100_000 / per_frame), new.rate)}"
        text += ": what follows will be moved"
    if can_aim(codec, want):
        text += "" if how.bits else "; as many bits a second as the original"
    elif how.bits == "number":
        text += f"; {codec.label} leaves no choice of {spaced(how.bit_rate)} bits a second"
    return FitPoint("size", "stored size", old, _stored(size, new), FITS, text)


def _stored(size: int, format: Format) -> str:
    """A size, and what it is of each second."""
    return f"{spaced(size)} B · {size * 8 * format.rate / max(1, format.frames) / 1000:.0f} kbit/s"
