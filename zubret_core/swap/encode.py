"""From the user's file to the payload that the game will decode. All of it goes piece by piece, and what is needed twice is made
twice unless it is short: a file of hours needs no more memory than one of seconds, and no room on the disk but for what is made of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..audio import AudioInfo, encoded_file, mixed, pieces_between, resampled
from ..audio.difference import Difference
from ..audio.files import file_format, with_loop
from ..audio.limiter import Limiter
from ..audio.tempo import at_tempo
from ..bank import Stream
from ..base import Format, Passes, Progress, Samples, ZubretError, silent, to_float, to_int16
from ..base.pcm import Snr
from ..base.room import IN_MEMORY
from ..codec import VorbisPackets, codec_of
from ..codec.aim import AGAIN, NEAR_BITS, RATES, bit_rate_of, can_aim, level_for, sample_of
from ..codec.base import PIECE
from ..codec.packets import OpusPackets
from ..source import BytesSource, Source
from .fit import FITS, FitReport, Made, Sound
from .levels import Level, Match, Meter, level_of, matched, within
from .sources import original_source
from .treatment import Target, Treatment

Pieces = Callable[[], Iterator[NDArray[np.float32]]]
"""Samples piece by piece, from their beginning whenever they are asked for."""
OVER, TRIES = 0.1, 3
"""dB by which what is heard may pass the ceiling, and how often it is encoded again because of that."""
NEAR, ROUNDS = 0.03, 6
"""LU within which a loudness behind a limiter is what is wanted, and how often a gain for that is looked for."""


@dataclass(frozen=True)
class Loud:
    """gain_db: what is applied; below: the ceiling of a limiter behind it in dBTP, None where there is none."""

    gain_db: float
    below: float | None = None


@dataclass
class Prepared:
    """An encoded replacement.

    payload: the bytes to store; format: what the bank will say of them; gain_db: what was applied before; limited_db: the most by
    which a limiter turned that down; snr_db, level: of what the game will play, against what was meant and by itself; match: how
    the gain was found, where loudness is matched.
    """

    payload: Source
    format: Format
    gain_db: float
    snr_db: float
    level: Level
    difference: Difference
    limited_db: float = 0.0
    match: Match | None = None

    @property
    def made(self) -> Made:
        """What came of it, for the report."""
        heard = self.difference
        sound = Sound(self.snr_db, heard.spectrum_db, heard.lost_above, heard.full)
        return Made(self.level, self.match, self.limited_db, self.payload.size, sound)

    def heard(self, start: int, frames: int) -> NDArray[np.int16]:
        """Frames [start, start + frames) as the game will play them."""
        return heard_of(self.payload, self.format, start, frames)


def heard_of(payload: Source, format: Format, start: int, frames: int) -> NDArray[np.int16]:
    """Frames [start, start + frames) of a payload, as the game will play them."""
    return to_int16(codec_of(format).decode(payload, format, start, frames))


def _as_it_is(original: Stream, source: Source | None, info: AudioInfo, loud: Loud, target: Target) -> Source | None:
    """Where nothing of the audio is changed: the stored payload, if the source is the original; a file's own packets, if its
    setup is the bank's. Else None."""
    format = target.format
    codec = codec_of(format)
    untouched = (
        target.timeline.span == (0, info.frames)
        and (info.rate, info.channels) == (format.rate, format.channels)
        and target.matrix is None
        and target.tempo == 1
        and not (target.pad or target.cut or target.behind)
        and loud == Loud(0.0)
    )
    if untouched and source is None:
        return original.payload
    if untouched and source is not None and isinstance(codec, VorbisPackets) and info.variant == "OGG/VORBIS":
        try:
            return BytesSource(codec.from_ogg(source, format), "replacement")
        except ZubretError:
            pass
    return None


def _treated(source: Source, info: AudioInfo, target: Target) -> Iterator[NDArray[np.float32]]:
    """The samples as they are to be encoded, but for gain and limiter, piece by piece."""
    channels, left = target.format.channels, target.format.frames
    if target.pad:
        yield np.zeros((target.pad, channels), np.float32)
        left -= target.pad
    cut = target.cut
    for piece in _in_tempo(source, info, target):
        kept, cut = piece[cut : cut + left], max(0, cut - len(piece))
        if len(kept):
            left -= len(kept)
            yield kept
        if not left:
            return
    yield np.zeros((left, channels), np.float32)  # behind the end


def _in_tempo(source: Source, info: AudioInfo, target: Target) -> Iterator[NDArray[np.float32]]:
    """What is heard of a file, with the rate, the channels and the tempo that are wanted."""
    format, line = target.format, target.timeline

    def mixed_file(first: int, last: int) -> Iterator[NDArray[np.float32]]:
        return (mixed(piece, format.channels, target.matrix) for piece in pieces_between(source, first, last))

    pieces = resampled(line.of(mixed_file, format.channels), line.frames, info.rate, format.rate, target.loop)
    if target.tempo == 1:
        return pieces
    return at_tempo(pieces, format.rate, format.channels, target.tempo, format.frames - target.behind)


def _told(pieces: Iterator[NDArray], frames: int, progress: Progress, note: str) -> Iterator[NDArray]:
    """The same pieces, while it is told how far they are."""
    done = 0
    for piece in pieces:
        done += len(piece)
        progress(min(done, frames), frames, note)
        yield piece


def prepare(
    original: Stream,
    given: Source | None,
    info: AudioInfo,
    how: Treatment,
    report: FitReport,
    progress: Progress = silent,
) -> Prepared:
    """Treat and encode a replacement; ZubretError while a required point does not fit. given: an audio file, or None for the
    original itself, whose stored payload is kept while only its loop changes. progress goes through measuring, where loudness is
    matched, encoding, and decoding what the game will hear."""
    source = original_source(original) if given is None else given
    target = report.target
    if target is None or report.verdict != FITS:
        open_points = ", ".join(p.label for p in report.points if p.required and p.verdict != FITS)
        raise ZubretError(f"The replacement does not fit yet: {open_points}.", next="Fit these points first.")

    format, bar = target.format, Passes(progress, 1 if how.match else 0, 1, 1)
    is_short = format.frames * format.channels * 4 <= IN_MEMORY
    held = list(_treated(source, info, target)) if is_short else []

    def treated() -> Iterator[NDArray[np.float32]]:
        return iter(held) if is_short else _treated(source, info, target)

    def made(loud: Loud, note: str = "encoding") -> Prepared:
        kept = _as_it_is(original, given, info, loud, target)
        return _encoded(kept, format, treated, loud, aim, bar, note)

    def measured(loud: Loud) -> Level:
        pieces = _told(_louder(treated(), loud, format)[0], format.frames, bar[0], "measuring the loudness")
        return level_of(pieces, format.rate, format.channels)

    aim = Aim.of(original, how)
    below, match = (how.ceiling_db if how.limit else None), None
    loud = Loud(0.0 if how.match else how.gain_db, below)
    if how.match:
        match = matched(measured(Loud(0.0)), report.level, how)
        loud = replace(loud, gain_db=match.gain_db if match else 0.0)
    for _ in range(ROUNDS if match and how.limit else 0):  # what is turned down is missing in the loudness
        assert match is not None
        missing = match.wanted - (measured(loud).loudness(match.short) or match.wanted)
        if abs(missing) <= NEAR:
            break
        loud = replace(loud, gain_db=within(loud.gain_db + missing))
    out = made(loud)
    for _ in range(TRIES):  # what a codec adds may pass the ceiling
        over = out.level.true_peak - how.ceiling_db
        if over <= OVER or not (match or how.limit):
            break
        if loud.below is not None:
            loud = replace(loud, below=loud.below - over)
        else:
            loud = replace(loud, gain_db=loud.gain_db - over)
        out = made(loud, "encoding again, below the ceiling")
    if match:
        held_back = match.held or (loud.below is None and loud.gain_db < match.gain_db)
        out.match = replace(match, gain_db=loud.gain_db, held=held_back)
    return out


def _louder(pieces: Iterator[NDArray], loud: Loud, format: Format) -> tuple[Iterator[NDArray], Limiter | None]:
    """Samples with a gain and behind a limiter; the limiter, where there is one."""
    gain = np.float32(10 ** (loud.gain_db / 20))
    flow = (piece * gain for piece in pieces)
    if loud.below is None:
        return flow, None
    limiter = Limiter(format.rate, format.channels, loud.below)
    return limiter.limited(flow), limiter


@dataclass(frozen=True)
class Aim:
    """What an encoder that has a choice aims at: bits a second, or, where `most` is not 0, so many bytes at most."""

    bits: float
    most: int = 0

    @classmethod
    def of(cls, original: Stream, how: Treatment) -> Aim | None:
        """As a treatment wants it; None where the format leaves no choice."""
        format = original.format
        if not can_aim(codec_of(format), format):
            return None
        if how.bits == "number":
            return cls(how.bit_rate)
        bits = bit_rate_of(original.payload, format)
        return cls(bits, original.slot) if how.bits == "place" else cls(bits)


def _encoded(
    kept: Source | None, format: Format, treated: Pieces, loud: Loud, aim: Aim | None, bar: Passes, note: str
) -> Prepared:
    """Samples made louder, encoded in the second pass and heard in the third; kept: the payload, where that is known."""
    frames, limiters = format.frames, []

    def louder() -> Iterator[NDArray[np.float32]]:
        flow, limiter = _louder(treated(), loud, format)
        limiters.append(limiter)
        return flow

    def read() -> Iterator[NDArray[np.float32]]:
        return _told(louder(), frames, bar[1], note)

    if (
        kept is not None
        and format.codec == "file"
        and (now := file_format(kept)) is not None
        and (now.loop, now.more) != (format.loop, format.more)
    ):
        kept = with_loop(kept, format)
    if kept is None and format.codec != "file":
        format = codec_of(format).fitted(Samples(frames, format.channels, louder), format)
    if kept is not None:
        payload = kept
    elif aim is None:
        payload = _written(read, format)
    else:
        payload = _aimed(read, format, aim)
    if format.codec == "file":
        stored = file_format(payload)
        assert stored is not None
        format = stored
    else:
        format = codec_of(format).told(payload, format)
    meant = Samples(frames, format.channels, louder)
    snr_db, level, difference = _compared(payload, format, meant, bar[2])
    limited_db = max((limiter.by_db for limiter in limiters if limiter), default=0.0)
    return Prepared(payload, format, loud.gain_db, snr_db, level, difference, limited_db)


def _written(pieces: Pieces, format: Format, **how: Any) -> Source:
    """Samples as a payload; how: `level` or `bit_rate`, as the codec has it. A file may hold more than 16 bits of each."""
    if format.codec == "file":
        return encoded_file(pieces(), format, **how)
    codec: Any = codec_of(format)
    pcm = Samples(format.frames, format.channels, pieces)
    return BytesSource(codec.encode(pcm, format, **how), "replacement")


def _aimed(pieces: Pieces, format: Format, aim: Aim) -> Source:
    """Samples as a payload of so many bits a second, or of at most so many bytes; of what is smallest, where nothing is small
    enough."""
    bits = min(aim.bits, aim.most * 8 * format.rate / format.frames) if aim.most else aim.bits
    bits = min(max(bits, RATES[0]), RATES[1])
    plain = format.with_(loop=None)
    made = _sampled(pieces, plain)
    wanted, out = bits, None
    for _ in range(AGAIN):
        by_rate = isinstance(codec_of(format), OpusPackets)
        how = {"bit_rate": round(wanted)} if by_rate else {"level": level_for(wanted, made, format)}
        out = _written(pieces, format, **how)
        now = bit_rate_of(out, plain)
        small = out.size <= aim.most if aim.most else True
        if (small and (aim.most or abs(now - bits) <= NEAR_BITS * bits)) or wanted <= RATES[0]:
            break
        share = aim.most / out.size * 0.98 if aim.most else bits / now
        wanted = min(max(wanted * share, RATES[0]), RATES[1])
    assert out is not None
    return out


def _sampled(pieces: Pieces, format: Format) -> Callable[[float], float]:
    """How many bits a second some stretches of a sound take at a level."""
    held: list[NDArray] = []

    def made(level: float) -> float:
        if not held:
            held.append(sample_of(Samples(format.frames, format.channels, pieces), format.rate)[:])
        part = format.with_(frames=len(held[0]))
        return bit_rate_of(_written(lambda: iter(held), part, level=level), part)

    return made


def _compared(payload: Source, format: Format, meant: Samples, progress: Progress) -> tuple[float, Level, Difference]:
    """Signal-to-noise ratio and level of what will be heard, and what a listener may notice of the codec."""
    ratio, meter, frames = Snr(), Meter(format.rate, format.channels), format.frames
    difference, late = Difference(format.rate), codec_of(format).late(format)
    for at in range(0, frames, PIECE):
        heard = heard_of(payload, format, at, min(PIECE, frames - at))
        meter.add(heard)
        begin = max(0, at - late)
        there, same = meant[begin : at + len(heard) - late], heard[max(0, late - at) :]
        ratio.add(there, same[: len(there)])
        difference.add(to_float(there), to_float(same[: len(there)]))
        progress(at + len(heard), frames, "decoding what the game will hear")
    return ratio.db, meter.level(), difference
