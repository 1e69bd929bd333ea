"""Finding loops: where a piece repeats itself, and how clean a jump back would be.

Common practice of music analysis: the spectrum in semitones says what is heard; a piece that repeats after some time is like
itself moved by that time, which the autocorrelation of its spectra shows for all times at once (Wiener-Khinchin). Where it is, the
waveforms themselves give the lag to the frame.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import soxr
from numpy.typing import NDArray

from ..base import Progress, ZubretError, silent
from .resample import Between

RATE, WINDOW, HOP = 12_000, 2048, 500
"""What is looked at: Hz, and frames of a spectrum and between two of them there."""
SECOND = RATE // HOP
LOWEST, SEMITONES = 65.4, 72
"""Hz of the lowest band's middle (C2), and bands."""
USUAL = 12
"""Seconds around a moment that say what is usual there."""
SHORTEST = 1.0
"""Seconds of a loop at least, and of what has to be heard twice."""
LONGEST = 3600.0
"""Seconds that are looked through at most."""
MOST, TRIED = 8, 16
"""Loops that are told, and those that are looked at to the frame."""
ALONE = 6.0
"""Seconds of what is heard twice at least, where most of the piece does not repeat after the same time."""
LONG, SAME = 8.0, 0.55
"""Seconds of a loop of which only the beginning is heard again behind it, and how like that must be, of 1."""
LIKE = 0.4
"""How like itself a piece must be, of 1, for its repetition to count."""
EQUAL = 0.05
"""Scores that differ by less are equal: then the shorter loop comes first."""


@dataclass(frozen=True)
class FoundLoop:
    """Frames [start, end). waveform: correlation around the seam, of 1; spectrum: how like each other what is heard before and
    behind both ends is, of 1; step_db: from the level before the end to that behind the start; seconds: its length; bars: of four
    beats, where the tempo is steady and they are whole."""

    start: int
    end: int
    waveform: float
    spectrum: float
    step_db: float
    seconds: float
    bars: int | None


def find_loops(between: Between, frames: int, rate: int, progress: Progress = silent) -> list[FoundLoop]:
    """Up to eight loops of a piece, the likeliest first; none where it does not repeat itself."""
    if frames > LONGEST * rate:
        raise ZubretError(
            f"Loops are looked for in up to {LONGEST / 60:.0f} minutes, and this has {frames / rate / 60:.0f}.",
            field="loop",
            next="Cut the part that is used to where the loop should be.",
        )
    spectra = _spectra(between, frames, rate, progress)
    if len(spectra) < 3 * SHORTEST * SECOND:
        return []
    beat = _beat(spectra)
    features = _features(spectra)
    found = []
    lags = _lags(features)
    for n, lag in enumerate(lags):
        progress(len(lags) + n, 2 * len(lags), "comparing what repeats")
        if run := _run(features, lag):
            found.append(run)
    loops: list[FoundLoop] = []
    exact: list[FoundLoop] = []
    for run in _ranked(found)[:TRIED]:
        loop, is_exact = _refined(between, frames, rate, features, run, beat)
        if loop is None or (run.again < 0.5 and not is_exact):
            continue
        if not any(abs(loop.end - loop.start - o.end + o.start) < rate * 0.2 for o in (*exact, *loops)):
            counts = loop.seconds >= LONG or run.again > 0.9
            (exact if is_exact and counts else loops).append(loop)
    return (exact + loops)[:MOST]


def beat_of(between: Between, frames: int, rate: int, progress: Progress = silent) -> float | None:
    """Seconds from beat to beat of a piece, as far as LONGEST; None where no beat is steady."""
    spectra = _spectra(between, min(frames, round(LONGEST * rate)), rate, progress)
    return _beat(spectra) if len(spectra) >= 3 * SHORTEST * SECOND else None


@dataclass(frozen=True)
class _Run:
    """A piece is like itself moved by `lag` from one spectrum to another; like: how much, of 1; covered: how much of all that
    could be."""

    lag: int
    start: int
    end: int
    like: float
    covered: float

    @property
    def again(self) -> float:
        """How much of the loop is heard a second time, of 1."""
        return min(1.0, (self.end - self.start) / self.lag)

    @property
    def score(self) -> float:
        """The higher, the likelier it is the piece's loop."""
        return self.like * (0.5 + 0.5 * self.again) * (0.3 + 0.7 * self.covered)


def _ranked(found: list[_Run]) -> list[_Run]:
    """The best first; of equal ones the shortest."""
    left, out = sorted(found, key=lambda run: -run.score), []
    while left:
        best = min((r for r in left if r.score >= left[0].score * (1 - EQUAL)), key=lambda r: r.lag)
        left.remove(best)
        out.append(best)
    return out


# What is heard ----------------------------------------------------------------------------------------


def _spectra(between: Between, frames: int, rate: int, progress: Progress) -> NDArray[np.float32]:
    """(spectra, semitones): the square roots of magnitudes."""
    stream = soxr.ResampleStream(rate, RATE, 1, dtype="float32")
    bands, window = _bands(), np.hanning(WINDOW).astype(np.float32)
    held, out, done = np.zeros(WINDOW // 2, np.float32), [], 0

    def taken(mono: NDArray[np.float32]) -> NDArray[np.float32]:
        count = max(0, (len(mono) - WINDOW) // HOP + 1)
        if count:
            views = np.lib.stride_tricks.sliding_window_view(mono, WINDOW)[: count * HOP : HOP]
            out.append(np.sqrt(np.abs(np.fft.rfft(views * window)).astype(np.float32) @ bands))
        return mono[count * HOP :]

    for piece in between(0, frames):
        held = taken(np.concatenate([held, stream.resample_chunk(_together(piece))]))
        done += len(piece)
        progress(done, 2 * frames, "listening for what repeats")
    rest = stream.resample_chunk(np.zeros(0, np.float32), last=True)
    taken(np.concatenate([held, rest, np.zeros(WINDOW // 2, np.float32)]))
    return np.concatenate(out) if out else np.zeros((0, SEMITONES), np.float32)


def _bands() -> NDArray[np.float32]:
    """(bins, semitones): how much of each bin belongs to each band; triangles that are at least as wide as a bin."""
    hertz = np.fft.rfftfreq(WINDOW, 1 / RATE)[:, None]
    middle = LOWEST * 2 ** (np.arange(SEMITONES) / 12)
    width = np.maximum(middle * (2 ** (1 / 12) - 1), RATE / WINDOW)
    return np.maximum(0, 1 - np.abs(hertz - middle) / width).astype(np.float32)


def _features(spectra: NDArray[np.float32]) -> NDArray[np.float32]:
    """(spectra, features), each row of length 1 or less: the bands, and these over a fifth of a second and folded into one octave,
    which stay when another instrument plays. Each band counts by how far it is from what is usual around there."""
    folded = _around(spectra, SECOND // 5).reshape(len(spectra), -1, 12).sum(axis=1)
    parts = []
    for part in (spectra, folded):
        middle = _around(part, USUAL * SECOND)
        spread = np.sqrt(np.maximum(_around((part - middle) ** 2, USUAL * SECOND), 1e-12))
        different = (part - middle) / (spread + 0.1 * spread.mean())
        length = np.linalg.norm(different, axis=1, keepdims=True)
        parts.append(different / np.maximum(length, 0.3 * float(np.median(length)) or 1.0) / np.sqrt(2))
    return np.concatenate(parts, axis=1).astype(np.float32)


def _around(rows: NDArray, count: int) -> NDArray[np.float64]:
    """The mean of so many rows around each, as far as there are any."""
    count = min(count, len(rows))
    padded = np.pad(rows.astype(np.float64), ((count // 2 + 1, count - count // 2 - 1), (0, 0)), mode="edge")
    sums = np.cumsum(padded, axis=0)
    return (sums[count:] - sums[:-count])[: len(rows)] / count


def _beat(spectra: NDArray[np.float32]) -> float | None:
    """Seconds from beat to beat, roughly; None where no beat is steady."""
    rise = np.maximum(0, np.diff(spectra, axis=0)).sum(axis=1)
    rise = rise - rise.mean()
    power = np.abs(np.fft.rfft(rise, 2 * len(rise))) ** 2
    like = np.fft.irfft(power)[: len(rise)]
    if like[0] <= 0:
        return None
    lags = np.arange(0.3 * SECOND, SECOND + 0.05, 0.05)  # of spectra; a beat has no whole number of them
    places = np.arange(len(like))
    sums = np.interp(lags[:, None] * np.arange(1, 9), places, like).mean(axis=1) / like[0]
    if sums.max() < 0.2:
        return None
    beat = float(lags[np.argmax(sums)])
    near = np.arange(16 * beat - 4, 16 * beat + 4, 0.1)  # sixteen beats say it sixteen times as well
    if near[-1] >= len(like):
        return None
    return float(near[np.argmax(np.interp(near, places, like))]) / 16 / SECOND


# What repeats -----------------------------------------------------------------------------------------


def _lags(features: NDArray[np.float32]) -> list[int]:
    """The lags at which a piece is most like itself, the likest first."""
    count = len(features)
    size = 1 << (2 * count - 1).bit_length()
    power = np.zeros(size // 2 + 1)
    for column in features.T:
        power += np.abs(np.fft.rfft(column, size)) ** 2
    shortest = round(SHORTEST * SECOND)
    like = np.fft.irfft(power)[: count - shortest] / np.arange(count, shortest, -1)
    reach = SECOND // 4
    around = np.lib.stride_tricks.sliding_window_view(np.pad(like, reach, constant_values=-1), 2 * reach + 1).max(
        axis=1
    )
    peaks = np.flatnonzero((like >= around) & (np.arange(len(like)) >= shortest) & (like > 0.05))
    return [int(lag) for lag in peaks[np.argsort(-like[peaks])][:48]]


def _alike(features: NDArray[np.float32], lag: int) -> NDArray[np.float32]:
    """How like each spectrum is to that `lag` later, over a second."""
    same = (features[:-lag] * features[lag:]).sum(axis=1)
    return np.convolve(same, np.full(SECOND, 1 / SECOND), "same")


def _run(features: NDArray[np.float32], lag: int) -> _Run | None:
    """The longest part that is heard again after a lag."""
    like = _alike(features, lag)
    level = max(LIKE, 0.75 * float(np.percentile(like, 98)))
    edges = np.flatnonzero(np.diff(np.concatenate([[0], like >= level, [0]]).astype(np.int8)))
    if not len(edges):
        return None
    starts, ends = edges[::2], edges[1::2]
    n = int(np.argmax(ends - starts))
    start, end = int(starts[n]), int(ends[n])
    run = _Run(lag, start, end, float(like[start:end].mean()), float((like >= level).mean()))
    if run.again < 0.5:
        return run if lag >= LONG * SECOND and end - start >= 2 * SECOND and run.like >= SAME else None
    return run if end - start >= ALONE * SECOND or (end - start >= 2 * SECOND and run.covered >= 0.25) else None


# To the frame -----------------------------------------------------------------------------------------

BLOCK = 0.05
"""Seconds in which waveforms are compared."""
EXACT = 0.9
"""Correlation of waveforms, of 1, from which a repetition is the same sound again."""
TAILS = 1.5
"""Seconds after the beginning of what repeats at which the seam is best, if it goes on long enough."""
IDENTICAL = 0.95
"""The same, from which nobody hears a difference."""
FIRST = 6.0
"""Seconds at the beginning of what repeats, in which the seam is looked for."""


def _refined(
    between: Between, frames: int, rate: int, features: NDArray, run: _Run, beat: float | None
) -> tuple[FoundLoop | None, bool]:
    """The lag to the frame, the best place for the seam near the beginning of what repeats, and whether the very same sound is
    heard again there."""
    step = rate * HOP / RATE
    reach = round(1.5 * step)
    first = max(0, round((run.start - SECOND // 2) * step))
    last = min(round((min(run.end, run.start + FIRST * SECOND) + SECOND // 2) * step), frames)
    here = _mono(between, first, last)
    lag = round(run.lag * step)
    begin = first + lag - reach
    there = _mono(between, begin, begin + len(here) + 2 * reach, frames)
    lag, there = _aligned(here, there, lag, reach)
    block = max(8, round(BLOCK * rate))
    like = _blocks(here, there, block)
    if not len(like):
        return None, False
    middle, high = (float(np.percentile(like, n)) for n in (50, 90))
    good = np.convolve(like >= middle - 4 * (high - middle) - 0.01, np.ones(8), "valid") >= 8  # they go on for a while
    usual = min(SECOND * step, max(0, len(here) - 4 * block))
    from_block = int(np.argmax(good)) if middle >= EXACT and good.any() else round(usual / block)
    into = min(TAILS, (run.end - run.start) / SECOND / 3)  # where what rings on from before has gone
    at = _seam(here, there, from_block * block + round(into * rate), 2 * block)
    start, end = first + at, first + at + lag
    if end > frames or end - start < SHORTEST * rate:
        return None, False
    around = slice(max(0, at - block), at + block)
    same = _like_of(here[around], there[around])
    place = round(start / step)
    spectrum = float(_alike(features, run.lag)[max(0, place - SECOND) : place + SECOND].mean())
    before, behind = there[max(0, at - block) : at], here[at : at + block]
    seconds = lag / rate
    is_exact = bool(good.any()) and float(np.median(like[from_block : from_block + round(1.5 / BLOCK)])) >= IDENTICAL
    return FoundLoop(
        start, end, same, spectrum, _level(behind) - _level(before), seconds, _bars(seconds, beat)
    ), is_exact


def _mono(between: Between, first: int, last: int, frames: int | None = None) -> NDArray[np.float32]:
    """Frames of all channels together; silence where there are none."""
    least, most = max(0, first), last if frames is None else min(last, frames)
    parts = [_together(piece) for piece in between(least, most)] if most > least else []
    found = np.concatenate(parts) if parts else np.zeros(0, np.float32)
    return np.pad(found, (least - first, last - least - len(found)))


def _together(piece: NDArray) -> NDArray[np.float32]:
    """All channels as one; what is no number is silence."""
    mono = piece[:, 0].astype(np.float32)
    for channel in range(1, piece.shape[1]):  # a mean along so short an axis takes ten times as long
        mono += piece[:, channel]
    return np.nan_to_num(mono / np.float32(piece.shape[1]), nan=0.0, posinf=0.0, neginf=0.0)


def _aligned(here: NDArray, there: NDArray, lag: int, reach: int) -> tuple[int, NDArray]:
    """The lag at which two waveforms are likest, within its reach, and the second one moved so."""
    # Long enough for the lags that are wanted: others, which are not, wrap around.
    size = min(odd << max(0, -(-len(there) // odd) - 1).bit_length() for odd in (1, 3, 5, 9, 15))
    both = np.fft.irfft(np.fft.rfft(there, size) * np.conj(np.fft.rfft(here, size)), size)[: 2 * reach + 1]
    energy = np.concatenate([[0], np.cumsum(there.astype(np.float64) ** 2)])
    length = np.sqrt(energy[len(here) : len(here) + 2 * reach + 1] - energy[: 2 * reach + 1])
    move = int(np.argmax(both / np.maximum(length, 1e-9)))
    return lag - reach + move, there[move : move + len(here)]


def _like_of(one: NDArray, other: NDArray) -> float:
    """The correlation of two waveforms, of 1."""
    length = float(np.linalg.norm(one) * np.linalg.norm(other))
    return float(one @ other) / length if length > 0 else 0.0


def _blocks(here: NDArray, there: NDArray, block: int) -> NDArray[np.float64]:
    """The correlation of each block of two waveforms."""
    count = len(here) // block
    one, other = (x[: count * block].reshape(count, block).astype(np.float64) for x in (here, there))
    length = np.sqrt((one**2).sum(axis=1) * (other**2).sum(axis=1))
    return (one * other).sum(axis=1) / np.maximum(length, 1e-9)


def _seam(here: NDArray, there: NDArray, first: int, length: int) -> int:
    """Of the frames in which both waveforms go up through zero together, the one around which they differ least."""
    part = slice(first, min(first + length, len(here) - 1))
    ups = first + np.flatnonzero((here[part] <= 0) & (here[part.start + 1 : part.stop + 1] > 0))
    if not len(ups):
        return min(first, len(here) - 1)
    wide = 64
    cost = [float(((here[max(0, u - wide) : u + wide] - there[max(0, u - wide) : u + wide]) ** 2).sum()) for u in ups]
    return int(ups[int(np.argmin(cost))]) + 1


def _level(part: NDArray) -> float:
    return float(10 * np.log10(np.mean(part.astype(np.float64) ** 2) + 1e-12)) if len(part) else -120.0


def _bars(seconds: float, beat: float | None) -> int | None:
    """How many bars of four beats a loop has; None where they are not whole."""
    bars = seconds / (4 * beat) if beat else 0.0
    return round(bars) if bars > 0.9 and abs(bars - round(bars)) < 0.2 else None
