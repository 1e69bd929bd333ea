"""Writing a stream as a sound file that other programs open."""

from __future__ import annotations

import io
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
import soundfile
import soxr
from numpy.typing import NDArray

from ..base import Format, Progress, ZubretError, silent, to_float, to_int16
from ..codec.file import VORBIS_PIECE
from ..codec.opus import RATE as OPUS_RATE
from ..codec.soundfiles import sound_written
from ..codec.speakers import as_vorbis
from ..source import Source, whole, write_file
from .comments import tag
from .files import DecodeRange
from .loudness import Loudness
from .resample import carried
from .riff import cue_chunks, info_chunk, smpl_chunk
from .stored import stored_ending, stored_file

KINDS = {"wav": "wav", "flac": "flac", "ogg": "ogg", "opus": "opus", "stored": ""}
"""What a stream can be written as, and the ending."""
TAGS = ("title", "album", "artist", "date", "track", "comment")
PIECE = 1 << 17
CEILING = -1.0
"""dBTP above which a level that is asked for is not raised."""
_WIDE = ("s24", "s32", "f32", "f64")


@dataclass(frozen=True)
class Style:
    """How streams are written.

    kind: wav, flac, ogg (Vorbis), opus, or stored (the payload as it is, in an open container). plays: 0 writes the loop
    as metadata; else it is played so many times and then faded out over `fade` seconds. loudness: in LUFS, or None to
    leave the levels as they are; it is never raised so far that a true peak would pass -1 dBTP. tags: by TAGS.
    """

    kind: str = "wav"
    plays: int = 0
    fade: float = 0.0
    loudness: float | None = None
    tags: tuple[tuple[str, str], ...] = field(default=())

    def __post_init__(self) -> None:
        wrong = (
            ("kind", self.kind not in KINDS, f"choose from {', '.join(KINDS)}"),
            ("plays", not 0 <= self.plays <= 100, "a loop is played up to 100 times"),
            ("fade", not 0 <= self.fade <= 60, "a fade lasts up to 60 s"),
            ("loudness", not (self.loudness is None or -60 <= self.loudness <= 0), "it is from -60 to 0 LUFS"),
            ("tags", any(name not in TAGS for name, _ in self.tags), f"there are {', '.join(TAGS)}"),
            ("kind", self.kind == "stored" and (self.plays or self.loudness is not None), "as stored nothing changes"),
        )
        for name, is_wrong, what in wrong:
            if is_wrong:
                raise ZubretError(f"{name} can't be {getattr(self, name)!r}: {what}.", field=name, next="Correct it.")


def written_format(format: Format, style: Style) -> Format:
    """Rate, length and loop of the file that a stream becomes."""
    if style.plays and format.loop:
        length = format.loop.start + style.plays * format.loop.length + round(style.fade * format.rate)
        format = format.with_(frames=length, loop=None)
    if style.kind == "opus" and format.rate != OPUS_RATE:
        loop = carried(format.loop, format.rate, OPUS_RATE) if format.loop else None
        frames = (format.frames * OPUS_RATE * 2 + format.rate) // (2 * format.rate)
        format = format.with_(rate=OPUS_RATE, frames=max(frames, loop.end if loop else 0), loop=loop)
    return format


def ending_of(format: Format, style: Style) -> str:
    """The ending of the file's name. What no open format holds as it is stored is written as WAV."""
    return KINDS[style.kind] or stored_ending(format) or "wav"


def write_sound(
    place: Path,
    decode: DecodeRange,
    format: Format,
    style: Style,
    tags: Mapping[str, str] | None = None,
    payload: Source | None = None,
    progress: Progress = silent,
) -> None:
    """Write a stream to a file, which is there whole or not at all. `tags` of this stream win over those of the style.
    OSError where there is no room for it."""
    texts = {**dict(style.tags), **(tags or {})}
    if style.kind == "stored" and stored_ending(format):
        assert payload is not None
        write_file(stored_file(payload, format, texts), place, progress)
        return
    if style.kind == "stored":
        style = replace(style, kind="wav")
    gain = _gain(decode, format, style, progress) if style.loudness is not None else 1.0
    out = written_format(format, style)
    pieces = _pieces(decode, format, style, gain, progress)
    if out.rate != format.rate:
        pieces = _resampled(pieces, format, out)
    try:
        with whole(place) as part:
            _write(part, pieces, out, style, _is_wide(format), texts)
    except (soundfile.LibsndfileError, ValueError) as e:
        raise ZubretError(
            f"{style.kind.upper()} can't be written at {out.rate:,} Hz with {out.channels} channels: {e}.",
            file=place.name,
            next="Take the stream out as WAV.",
        ) from e


def _is_wide(format: Format) -> bool:
    """Whether 16 bits would lose something of what is stored."""
    return (format.codec == "pcm" and dict(format.parameters).get("sample", "s16") in _WIDE) or (
        format.variant.endswith(("PCM_24", "PCM_32", "FLOAT", "DOUBLE"))
    )


def _pieces(decode: DecodeRange, format: Format, style: Style, gain: float, progress: Progress) -> Iterator[NDArray]:
    """The samples in the order in which they are written."""
    loop = format.loop if style.plays else None
    spans = [(0, format.frames)]
    fade_from, fade = 0, 0
    if loop:
        fade = round(style.fade * format.rate)
        spans = [(0, loop.end)] + [(loop.start, loop.end)] * (style.plays - 1)
        fade_from = loop.start + style.plays * loop.length
        left = fade
        while left > 0:
            spans.append((loop.start, loop.start + min(left, loop.length)))
            left -= loop.length
    total = sum(end - start for start, end in spans)
    done = 0
    for start, end in spans:
        for at in range(start, end, PIECE):
            pcm = decode(at, min(PIECE, end - at))
            if gain != 1.0:
                pcm = to_float(pcm) * np.float32(gain)
            if fade and done + len(pcm) > fade_from:
                place = np.arange(done, done + len(pcm)) - fade_from
                pcm = to_float(pcm) * np.clip(1 - place / fade, 0, 1).astype(np.float32)[:, None]
            done += len(pcm)
            yield pcm
            progress(done, total, "writing")


def _resampled(pieces: Iterator[NDArray], have: Format, want: Format) -> Iterator[NDArray]:
    stream = soxr.ResampleStream(have.rate, want.rate, have.channels, dtype="float32", quality="VHQ")
    left = want.frames
    for pcm in pieces:
        out = stream.resample_chunk(np.ascontiguousarray(to_float(pcm)))[:left]
        left -= len(out)
        yield out
    rest = stream.resample_chunk(np.zeros((0, have.channels), np.float32), last=True)[:left]
    yield rest
    if left > len(rest):
        yield np.zeros((left - len(rest), have.channels), np.float32)


def _gain(decode: DecodeRange, format: Format, style: Style, progress: Progress) -> float:
    """What brings a stream to the loudness that is asked for, without a true peak above the ceiling."""
    meter = Loudness(format.rate, format.channels)
    for at in range(0, format.frames, PIECE):
        pcm = to_float(decode(at, min(PIECE, format.frames - at)))
        meter.add(pcm, last=at + len(pcm) >= format.frames)
        progress(at, format.frames, "measuring")
    if meter.integrated is None or style.loudness is None:
        return 1.0
    wanted = style.loudness - meter.integrated
    return float(10 ** (min(wanted, max(0.0, CEILING - meter.true_peak) if wanted > 0 else wanted) / 20))


def _write(
    place: Path, pieces: Iterator[NDArray], format: Format, style: Style, wide: bool, texts: Mapping[str, str]
) -> None:
    subtype = {"ogg": "VORBIS", "opus": "OPUS"}.get(style.kind, "PCM_24" if wide else "PCM_16")
    container = {"wav": "WAV", "flac": "FLAC"}.get(style.kind, "OGG")
    if container == "WAV" and format.frames * format.channels * (3 if wide else 2) > 0xFFFF0000:
        raise ZubretError(
            "The samples do not fit into a WAV file, which ends at 4 GB.",
            file=place.name,
            next="Take the stream out as FLAC or Ogg.",
        )
    with (
        open(place, "w+b") as out,
        sound_written(out, format.rate, format.channels, f"{container}/{subtype}") as file,
    ):
        for pcm in pieces:
            for at in range(0, len(pcm), VORBIS_PIECE if container == "OGG" else PIECE):
                piece = pcm[at : at + (VORBIS_PIECE if container == "OGG" else PIECE)]
                piece = as_vorbis(piece) if container == "OGG" else piece
                # What 16 bits hold is written exactly; libsndfile's own rounding is left out of it.
                file.write(np.ascontiguousarray(to_int16(piece) if subtype == "PCM_16" else to_float(piece)))
    if container == "WAV":
        _finish_wav(place, format, texts)
    elif texts or format.loop:
        tag(place, texts, format.loop)


def _finish_wav(place: Path, format: Format, texts: Mapping[str, str]) -> None:
    """Loop, cue points and texts behind the samples."""
    chunks = info_chunk(texts)
    if format.loop:
        chunks += smpl_chunk(format) + cue_chunks([(format.loop.start, "loop start"), (format.loop.end, "loop end")])
    if not chunks:
        return
    with open(place, "r+b") as file:
        size = file.seek(0, io.SEEK_END)
        file.write(bytes(size % 2) + chunks)
        total = file.tell() - 8
        file.seek(4)
        file.write(total.to_bytes(4, "little"))
