"""Audio that nothing describes: which codec the bytes are likely to be in, by what is measured on them.

Every candidate is decoded for a moment and judged by its sound. The differences of neighbouring samples of music and
speech are strongly coloured, those of bytes that are read in a wrong way are nearly white; so the evidence is the
spectral flatness of the differences (Wiener entropy), with clipping and offset against a candidate and header bytes that
count or stay in bounds for it. How fast the sound runs is guessed from where its energy lies. All of this is common practice in
signal analysis, none of it proof: the ear decides.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..base import Format, ZubretError, to_float
from ..base.format import frozen
from ..codec import Framed, Packets, codec_named, codec_of
from ..codec.base import frames_held
from ..source import BytesSource, SliceSource, Source

SAMPLE = 96 << 10
"""Bytes that a candidate is judged by."""
LONGER = 1 << 20
"""Bytes from which its rate is guessed."""
BEST = 8
"""Candidates that are given."""
MOST_PACKET = 8192
"""Bytes of a packet at most, where lengths are looked for: music at 500 kbit/s has packets of 1,500."""
LEAST = 4.0
"""Decibels of evidence below which bytes that are as even as noise are not offered as sound."""
EVEN = 7.9
"""Bits a byte from which bytes are as even as noise."""
STARTS = (0, 4, 8, 12, 16, 20, 24, 28, 32, 40, 48, 64)
"""Bytes that a head may have, where packets begin behind it."""
MOST_BLOCK = 2304
"""Bytes of a block at most, where headers are looked for that come back."""
RATES = (8000, 11_025, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000)
"""Usual sample rates in Hz (common practice)."""
MOVES = {2: [-1, 2], 3: [-1, -1, 1, 2], 5: [-1] * 8 + [1, 2, 4, 6, 8, 10, 13, 16]}
"""How the index into IMA's steps changes, by a code without its sign, where codes have other bits than four (common practice)."""
BANDS = np.array([100, 125, 160, 200, 250, 315, 400, 500, 630, 800, 1000, 1250, 1600, 2000, 2500, 3150, 4000, 5000, 6300, 8000, 10_000,
                  12_500, 16_000])  # fmt: skip
"""Middles of third octaves in Hz."""
SPEECH = np.array([54.4, 57.7, 56.8, 60.2, 60.3, 59.0, 62.1, 62.1, 60.5, 56.8, 53.7, 53.0, 52.0, 48.7, 48.1, 46.8, 45.6, 44.5, 44.3, 43.7,
                   43.4, 41.3, 40.7])  # fmt: skip
"""The long-term average spectrum of speech in dB, the mean of twelve languages (Byrne and others, Journal of the Acoustical Society of
America 96, 1994, table II; from memory)."""
UNLIKE = 9.0
"""Decibels by which a spectrum may differ from that of speech where a rate is guessed from it."""
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
        elif isinstance(codec, Packets):
            format = codec.told(payload, format.with_(rate=0, frames=-1))
        return payload, format

    def format(self, rate: int, stored: int) -> Format:
        """The format of so many bytes read in this way at a rate in Hz."""
        bare = Format(self.codec, rate, self.channels, 0, None, self.block_size, "", self.parameters)
        return bare.with_(frames=frames_held(codec_of(bare), bare, stored - self.skip))


@dataclass(frozen=True)
class Ranking:
    """The likeliest candidates, the best first; note: what the bytes look like beside that; rate: the usual rate in Hz at which the best
    one is likely to run, 0 where nothing tells; why: what speaks for that."""

    candidates: list[Candidate]
    note: str
    rate: int = 0
    why: str = ""


def rank(source: Source, start: int, end: int) -> Ranking:
    """Judge the bytes [start, end) of a source, of which a part in the middle is read."""
    size = max(0, end - start)
    if size < 64:
        return Ranking([], "Too few bytes to judge.")
    head = source.read(start, min(16, size))
    for mark, what in _SIGNS.items():
        if head.startswith(mark):
            return Ranking([], f"These bytes begin as {what} does: it can be taken out as it is.")
    part = SliceSource(source, start, size)
    if framed := rank_frames(part):
        return Ranking(framed, "")
    data = source.read(start, min(size, SAMPLE))
    if data.count(0) > len(data) * 0.98:
        return Ranking([], "Nearly all of these bytes are zero.")
    packets = _packets(data, size)
    if packets and packets.opus and (heard := _opus(part, packets)):
        return Ranking([heard], "")
    found = []
    for trial in (*_samples(), *_step_adpcm(data), *_tables(), *_groups(data), *_blocks(data), *_frames(data)):
        judged = _judged(trial, data)
        if judged is not None:
            found.append(judged)
    found.sort(key=lambda c: -c.score)
    found = _different(found)[:BEST]
    if found and found[0].score >= LEAST:
        return Ranking(found, "", *_rate(found[0], source.read(start, min(size, LONGER))))
    counts = np.bincount(np.frombuffer(data, np.uint8), minlength=256)
    share = counts[counts > 0] / len(data)
    bits = float(-(share * np.log2(share)).sum())
    if packets:
        return Ranking([] if bits > EVEN else found, packets.note)
    if block := _comes_back(data):
        note = f"Each {block:,} bytes something comes back, as headers of blocks do: describe them on the bench, in blocks of that size."
        return Ranking(found, note)
    if bits > EVEN:
        why = "they look packed, encrypted or coded by a perceptual codec, so nothing is offered as sound"
        return Ranking([], f"Nothing convinces ({bits:.1f} bits a byte): {why}.")
    return Ranking(found, f"Nothing convinces ({bits:.1f} bits a byte): choose another part.")


def likely_start(source: Source) -> int:
    """Where the sound of a file without a table is likely to begin: where lengths begin that lead through it, else behind a head of 64
    bytes."""
    for start in (start for start in STARTS if start < source.size):
        data = source.read(start, min(SAMPLE, source.size - start))
        if len(data) > STARTS[-1] and _packets(data, source.size - start):
            return start
    return min(STARTS[-1], source.size // 2)


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


@dataclass(frozen=True)
class _Lengths:
    """Lengths that lead through a part: their bytes and order; opus: whether all packets begin as those of Opus do, and of how many
    channels; note: what to say of it."""

    width: int
    order: str
    opus: int
    note: str


def _packets(data: bytes, size: int) -> _Lengths | None:
    """The lengths that lead through a part of `size` bytes, of which `data` is the beginning, if any do."""
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
        return _Lengths(
            width,
            order,
            (1 + (firsts[0] >> 2 & 1)) * (len(kinds) == 1),
            (
                f"Lengths of {of} lead through this part: {len(firsts):,} packets without a container"
                f"{' have been read' if len(data) < size else ''}. "
                f"{'All begin alike, as those of Opus do' if codec == 'opus' else 'They may be Vorbis'}: "
                f"describe them on the layout bench with the codec {codec}."
            ),
        )
    return None


def _opus(part: Source, lengths: _Lengths) -> Candidate | None:
    """Packets that are heard as Opus; None where they can't be decoded."""
    how = frozen({"framing": "counted", "width": lengths.width, "order": lengths.order, "headers": "none"})
    candidate = Candidate("opus", lengths.opus, 20.0, 0, 0, how, ("all packets begin alike, and can be decoded",))
    try:
        payload, format = candidate.read(part, 0, part.size, 0)
        codec_of(format).decode(payload, format, 0, min(format.frames, 48_000))
    except ZubretError:
        return None
    return candidate if format.frames else None


# What is tried ----------------------------------------------------------------------------------


def _samples() -> Iterator[Candidate]:
    """Samples as numbers, and the two laws."""
    for channels in (1, 2):
        for sample in ("u8", "s8", "a-law", "mu-law"):
            yield Candidate("pcm", channels, 0, parameters=frozen({"sample": sample}))
        for order in ("little", "big"):
            yield Candidate("pcm", channels, 0, parameters=frozen({"sample": "f64", "order": order}))
        for sample, width in (("s16", 2), ("s24", 3), ("s32", 4), ("f32", 4)):
            for order in ("little", "big"):
                for skip in range(width):
                    yield Candidate(
                        "pcm", channels, 0, skip=skip, parameters=frozen({"sample": sample, "order": order})
                    )
        for nibbles in ("low", "high"):
            yield Candidate("packed-pcm", channels, 0, parameters=frozen({"bits": 12, "nibbles": nibbles}))
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


def _tables() -> Iterator[Candidate]:
    """Codes of other widths with the usual step table, and differences from a table."""
    for bits, moves in MOVES.items():
        for nibbles in ("low", "high"):
            yield Candidate("table-adpcm", 1, 0, parameters=frozen({"bits": bits, "nibbles": nibbles, "moves": moves}))
    yield Candidate("delta-pcm", 1, 0)


def _groups(data: bytes) -> Iterator[Candidate]:
    """Sound groups of CD-ROM XA, whose headers stand twice in each: alone, or in sectors of a disc."""
    raw = np.frombuffer(data, np.uint8)
    for sector, lead in ((0, 0), (2336, 8), (2352, 24)):
        starts = np.arange(0, len(raw) - 128, 128) if not sector else lead + np.arange(0, len(raw) - sector, sector)
        heads = raw[starts[:, None] + np.arange(16)] if len(starts) >= 4 else np.zeros((0, 16), np.uint8)
        twice = (heads[:, :4] == heads[:, 4:8]).all() and (heads[:, 8:12] == heads[:, 12:]).all()
        if len(heads) and twice and heads.any():
            for channels in (1, 2):
                reason = (f"all {len(heads)} headers stand twice",)
                yield Candidate(
                    "xa-adpcm", channels, 0, parameters=frozen({"sector": sector, "lead": lead}), reasons=reason
                )


def _comes_back(data: bytes) -> int:
    """After how many bytes something of the same kind comes back, as the headers of blocks do; 0 where nothing does."""
    raw = np.frombuffer(data, np.uint8)
    for size in range(8, MOST_BLOCK + 1, 4):
        rows = len(raw) // size
        if rows < 24:
            break
        top = raw[: rows * size].reshape(rows, size) >> 4  # headers stay in bounds, so their upper halves do
        likely = [c for c in range(min(4, size)) if len(np.unique(top[:, c])) <= 2]
        if likely and len(np.unique(raw[likely[0] : rows * size : size])) > 1:
            others = np.median([len(np.unique(top[:, c])) for c in range(4, size, max(1, size // 16))])
            if others >= 12:
                return size
    return 0


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
    turns = pcm[: len(pcm) // 2 * 2].reshape(-1, 2, pcm.shape[1]).mean(axis=0)
    uneven = float(np.abs(turns[0] - turns[1]).max()) / max(power, 1e-9)  # as where samples are cut at other bits
    score = colour - min(20.0, 400 * clipped) - 8 * max(0.0, offset - 0.2) + (6 if trial.reasons else 0)
    score -= 20 * max(0.0, uneven - 0.1)
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


def _rate(best: Candidate, data: bytes) -> tuple[int, str]:
    """At which usual rate a reading is likely to run, and why; (0, "") where nothing tells.

    Read at the right rate, its spectrum is about as speech's: right to one or two steps of the list for voices, and no help for tones.
    """
    format = best.format(44_100, len(data))
    pcm = codec_of(format).decode(BytesSource(data[best.skip :], "sample"), format, 0, format.frames)
    parts = to_float(pcm).mean(axis=1)[: len(pcm) // (2 * _WINDOW) * 2 * _WINDOW].reshape(-1, 2 * _WINDOW)
    power = np.cumsum((np.abs(np.fft.rfft(parts * np.hanning(2 * _WINDOW), axis=1)) ** 2).sum(axis=0))
    if not len(parts) or not power[-1]:
        return 0, ""
    differs = []
    for rate in RATES:
        used = rate / 2 > BANDS * 2 ** (1 / 6)
        low, high = (BANDS[used] * 2**k / rate * 2 * _WINDOW for k in (-1 / 6, 1 / 6))
        energy = np.interp(high, np.arange(len(power)), power) - np.interp(low, np.arange(len(power)), power)
        level, weight = 10 * np.log10(energy + 1e-9) - SPEECH[used], np.sqrt(np.minimum(1, high - low))
        level -= np.average(level, weights=weight)
        differs.append(float(np.sqrt(np.average(level**2, weights=weight))))
    n = int(np.argmin(differs))
    if differs[n] > UNLIKE:
        return 0, ""
    return RATES[n], f"at about {RATES[n]:,} Hz its spectrum is nearest to that of speech ({differs[n]:.0f} dB from it)"


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
