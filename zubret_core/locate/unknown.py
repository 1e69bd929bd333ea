"""Audio that nothing describes: which codec the bytes are likely to be in, by what is measured on them.

Every candidate is decoded for a moment and judged by its sound. The differences of neighbouring samples of music and
speech are strongly coloured, those of bytes that are read in a wrong way are nearly white; so the evidence is the
spectral flatness of the differences (Wiener entropy), with clipping and offset against a candidate and header bytes that
count or stay in bounds for it. All of this is common practice in signal analysis, none of it proof: the ear decides.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..base import Format, ZubretError, to_float
from ..base.format import frozen
from ..codec import Framed, codec_named, codec_of
from ..codec.base import frames_held
from ..source import BytesSource, SliceSource, Source

SAMPLE = 96 << 10
"""Bytes that a candidate is judged by."""
BEST = 8
"""Candidates that are given."""
MOST_PACKET = 8192
"""Bytes of a packet at most, where lengths are looked for: music at 500 kbit/s has packets of 1,500."""
_WINDOW = 1024
_SIGNS = {b"RIFF": "a WAV file", b"OggS": "an Ogg file", b"fLaC": "a FLAC file", b"FORM": "an AIFF file"}


@dataclass(frozen=True)
class Candidate:
    """A way to read bytes as sound. score: decibels of evidence, above 10 convincing; reasons: what speaks for it."""

    codec: str
    channels: int
    score: float
    block_size: int = 0
    skip: int = 0
    parameters: tuple[tuple[str, Any], ...] = ()
    reasons: tuple[str, ...] = field(default=())

    @property
    def label(self) -> str:
        """What people call it."""
        return codec_named(self.codec, self.parameters).label

    def read(self, source: Source, start: int, end: int, rate: int) -> tuple[Source, Format]:
        """The payload in [start, end) of a source and its format: at a rate in Hz, but for codecs whose payloads say theirs; of
        these what stands behind the last frame is left out."""
        payload = SliceSource(source, start + self.skip, max(0, end - start - self.skip))
        codec, format = codec_of(self.format(rate, end - start)), self.format(rate, end - start)
        if isinstance(codec, Framed):
            found = codec.chain(payload)
            if found is None:
                return payload, format.with_(frames=0)
            payload = SliceSource(payload, 0, found[1])
            format = codec.told(payload, format)
        return payload, format

    def format(self, rate: int, stored: int) -> Format:
        """The format of so many bytes read in this way at a rate in Hz."""
        bare = Format(self.codec, rate, self.channels, 0, None, self.block_size, "", self.parameters)
        return bare.with_(frames=frames_held(codec_of(bare), bare, stored - self.skip))


@dataclass(frozen=True)
class Ranking:
    """The likeliest candidates, the best first; note: what the bytes look like beside that."""

    candidates: list[Candidate]
    note: str


def rank(source: Source, start: int, end: int) -> Ranking:
    """Judge the bytes [start, end) of a source, of which a part in the middle is read."""
    size = max(0, end - start)
    if size < 64:
        return Ranking([], "Too few bytes to judge.")
    head = source.read(start, min(16, size))
    for mark, what in _SIGNS.items():
        if head.startswith(mark):
            return Ranking([], f"These bytes begin as {what} does: it can be taken out as it is.")
    if framed := rank_frames(SliceSource(source, start, size)):
        return Ranking(framed, "")
    data = source.read(start, min(size, SAMPLE))
    if data.count(0) > len(data) * 0.98:
        return Ranking([], "Nearly all of these bytes are zero.")
    found = []
    for trial in (*_samples(), *_step_adpcm(data), *_blocks(data), *_frames(data)):
        judged = _judged(trial, data)
        if judged is not None:
            found.append(judged)
    found.sort(key=lambda c: -c.score)
    found = _different(found)[:BEST]
    note = ""
    if not found or found[0].score < 4:
        counts = np.bincount(np.frombuffer(data, np.uint8), minlength=256)
        share = counts[counts > 0] / len(data)
        bits = float(-(share * np.log2(share)).sum())
        packed = "they look packed, encrypted or coded by a perceptual codec" if bits > 7.9 else "choose another part"
        note = _packets(data, size) or f"Nothing convinces ({bits:.1f} bits a byte): {packed}."
    return Ranking(found, note)


def rank_frames(part: Source) -> list[Candidate]:
    """Frames that say themselves how long they are, if these bytes are a chain of them; the longest chain first."""
    out = []
    for codec in ("mpeg", "adts"):
        for how in ({}, {"align": 0}):
            made = codec_named(codec, frozen(how))
            assert isinstance(made, Framed)
            found = made.chain(part)
            if found is None:
                continue
            payload = SliceSource(part, found[0], found[1] - found[0])
            told = made.told(payload, Format(codec, 1, 1, -1, parameters=frozen(how)))
            words = f"{len(made.walked(payload).at):,} frames follow one another, at {told.rate:,} Hz"
            share = payload.size / part.size
            out.append(Candidate(codec, told.channels, round(40 * share, 1), 0, found[0], frozen(how), (words,)))
            break
    return sorted(out, key=lambda c: -c.score)


def _packets(data: bytes, size: int) -> str:
    """What to say of a part of `size` bytes, of which `data` is the beginning, if lengths lead through it; else ""."""
    for width, order in ((2, "little"), (2, "big"), (4, "little"), (4, "big"), (1, "little")):
        at, firsts = 0, []
        while at + width < len(data):
            length = int.from_bytes(data[at : at + width], order)  # type: ignore[arg-type]
            if not 0 < length <= MOST_PACKET:
                break
            firsts.append(data[at + width])
            at += width + length
        # The part may end with filled bytes, and what was read of it in the middle of a packet.
        whole = at >= len(data) if len(data) < size else at <= size and set(data[at:]) <= {data[-1]}
        if len(firsts) < 12 or not whole:
            continue
        kinds = {first & 0xFC for first in firsts}  # Opus: the TOC's mode and channels, RFC 6716, 3.1
        codec = "opus" if len(kinds) == 1 else "vorbis"
        of = f"{width} bytes ({order}-endian)" if width > 1 else "one byte"
        return (
            f"Lengths of {of} lead through this part: {len(firsts):,} packets without a container"
            f"{' have been read' if len(data) < size else ''}. "
            f"{'All begin alike, as those of Opus do' if codec == 'opus' else 'They may be Vorbis'}: "
            f"describe them on the layout bench with the codec {codec}."
        )
    return ""


# What is tried ----------------------------------------------------------------------------------


def _samples() -> Iterator[Candidate]:
    """Samples as numbers, and the two laws."""
    for channels in (1, 2):
        for sample in ("u8", "s8", "a-law", "mu-law"):
            yield Candidate("pcm", channels, 0, parameters=frozen({"sample": sample}))
        for sample, width in (("s16", 2), ("s24", 3), ("s32", 4), ("f32", 4)):
            for order in ("little", "big"):
                for skip in range(width):
                    yield Candidate(
                        "pcm", channels, 0, skip=skip, parameters=frozen({"sample": sample, "order": order})
                    )
    for interleave in (-1, 256, 512, 1024, 2048, 4096, 8192, 16384, 32768):
        yield Candidate("pcm", 2, 0, parameters=frozen({"interleave": interleave}))


def _step_adpcm(data: bytes) -> Iterator[Candidate]:
    """One run of nibbles of the step-table family."""
    for nibbles in ("low", "high"):
        yield Candidate("step-adpcm", 1, 0, parameters=frozen({"header": "none", "nibbles": nibbles}))
        for group in (0, 1, 4):
            yield Candidate(
                "step-adpcm", 2, 0, parameters=frozen({"header": "none", "nibbles": nibbles, "group": group})
            )


def _blocks(data: bytes) -> Iterator[Candidate]:
    """Blocks whose headers stay in bounds, whatever the block's size: IMA and Microsoft ADPCM as in WAVE."""
    raw = np.frombuffer(data, np.uint8)
    for channels in (1, 2):
        for size in range(32 * channels, min(8192, len(raw) // 4) + 1, 4 * channels):
            starts = np.arange(0, len(raw) - size + 1, size)
            index = np.concatenate([raw[starts + 4 * c + 2] for c in range(channels)])
            spare = np.concatenate([raw[starts + 4 * c + 3] for c in range(channels)])
            if len(starts) >= 4 and not spare.any() and (index <= 88).all() and len(np.unique(index)) > 2:
                yield Candidate(
                    "ima-adpcm", channels, 0, size, reasons=(f"all {len(starts)} block headers are in bounds",)
                )
            predictor = np.concatenate([raw[starts + c] for c in range(channels)])
            step = raw[starts + channels + 1].astype(int) << 8 | raw[starts + channels]
            bounded = len(starts) >= 8 and (predictor < 7).all() and len(np.unique(predictor)) > 1
            if bounded and (step >= 16).all() and (step < 32768).all():
                yield Candidate(
                    "ms-adpcm", channels, 0, size, reasons=(f"all {len(starts)} block headers are in bounds",)
                )


def _frames(data: bytes) -> Iterator[Candidate]:
    """Frames of 16 bytes with a filter and a shift."""
    raw = np.frombuffer(data, np.uint8)
    first = raw[: len(raw) // 16 * 16].reshape(-1, 16)[:, 0]
    flags = raw[: len(raw) // 16 * 16].reshape(-1, 16)[:, 1]
    for word, filter, shift in (("filter-shift", first >> 4, first & 15), ("shift-filter", first & 15, first >> 4)):
        if len(first) < 8 or (filter > 4).any() or (shift > 12).any() or len(np.unique(shift)) < 2:
            continue
        reason = (f"all {len(first)} frame headers are in bounds",)
        five = [(0, 0), (60, 0), (115, -52), (98, -55), (122, -60)]
        for channels in (1, 2):
            for given in ({}, {"flags": [0, 6, 3, 7]}) if (flags < 8).all() else ({},):
                for nibbles in ("low", "high"):
                    how = frozen({"word": word, "nibbles": nibbles, "filters": five, **given})
                    yield Candidate("filter-adpcm", channels, 0, parameters=how, reasons=reason)


# What is measured -------------------------------------------------------------------------------


def _judged(trial: Candidate, data: bytes) -> Candidate | None:
    """The candidate with its score, or None where the bytes can't be read so."""
    payload = BytesSource(data[trial.skip :], "sample")
    try:
        format = trial.format(44_100, len(data))
        if format.frames < 2 * _WINDOW // trial.channels:
            return None
        pcm = to_float(codec_of(format).decode(payload, format, 0, format.frames)).astype(np.float64)
    except ZubretError:
        return None
    if not np.isfinite(pcm).all() or not 1e-5 < np.abs(pcm).max() <= 4:
        return None
    colour = float(np.mean([_colour(pcm[:, c]) for c in range(pcm.shape[1])]))
    clipped = float((np.abs(pcm) > 0.998).mean())
    power = float(np.sqrt((pcm**2).mean()))
    offset = float(np.abs(pcm.mean(axis=0)).max()) / max(power, 1e-9)
    score = colour - min(20.0, 400 * clipped) - 8 * max(0.0, offset - 0.2) + (6 if trial.reasons else 0)
    reasons = [*trial.reasons, f"neighbouring samples hang together ({colour:.0f} dB)"]
    if clipped > 0.01:
        reasons.append(f"{clipped:.0%} of the samples clip")
    if offset > 0.3:
        reasons.append("far from the zero line")
    if pcm.shape[1] == 2 and pcm.std(axis=0).min() > 0:
        like = float(np.corrcoef(pcm[:, 0], pcm[:, 1])[0, 1])
        reasons.append(f"channels {like:.0%} alike")
        score -= 1.0  # of two readings that sound alike, the simpler one
        if like < 0.3 and "interleave" in dict(trial.parameters):
            score -= 4.0  # any sound can be cut in two; that the halves belong together must show
        if _in_between(pcm):
            reasons.append("each right sample lies between two left ones: likely one channel")
            score -= 10.0
    score -= 0.5 * (trial.skip > 0)
    return Candidate(
        trial.codec, trial.channels, round(score, 1), trial.block_size, trial.skip, trial.parameters, tuple(reasons)
    )


def _in_between(pcm: NDArray[np.float64]) -> bool:
    """Whether the second channel goes on where the first one stops: one channel that was taken for two."""
    left, right = pcm[:, 0], pcm[:-1, 1]
    between = right - (left[:-1] + left[1:]) / 2
    beside = right - left[:-1]
    return float((between**2).sum()) < 0.7 * float((beside**2).sum())


def _colour(x: NDArray[np.float64]) -> float:
    """How far the spectrum of the differences is from flat, in dB: 0 for noise."""
    step = np.diff(x)
    count = len(step) // _WINDOW
    if not count or step.std() == 0:
        return 0.0
    parts = step[: count * _WINDOW].reshape(count, _WINDOW) * np.hanning(_WINDOW)
    power = (np.abs(np.fft.rfft(parts, axis=1)) ** 2).mean(axis=0)[1:] + 1e-12
    return float(-10 * np.log10(np.exp(np.log(power).mean()) / power.mean()))


def _different(found: list[Candidate]) -> list[Candidate]:
    """One candidate of each kind of reading: the best block size, the best first byte."""
    seen: set[tuple] = set()
    out = []
    for c in found:
        kind = c.codec, c.channels, tuple(p for p in c.parameters if p[0] != "interleave"), c.skip % 2 if c.skip else 0
        if kind not in seen:
            seen.add(kind)
            out.append(c)
    return out
