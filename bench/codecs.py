"""Every codec against a general-purpose library, on 3 minutes of 48 kHz stereo; and the page that says so."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import av
import numpy as np
import soundfile
from numpy.typing import NDArray

from standin.formats import as_int16
from standin.music import PIECES, render
from zubret_core.base import Format
from zubret_core.base.format import frozen
from zubret_core.base.pcm import snr_db
from zubret_core.codec import codec_of, parameters_of
from zubret_core.codec.filter_adpcm import XA_FILTERS
from zubret_core.source import BytesSource

from .pairs import Row, pairs, seconds

RATE, SECONDS = 48000, 180
PAGE = Path(__file__).resolve().parent.parent / "docs/codecs.md"
RECORD = {"frame": 8, "unit": 2048, "grows": True, "nibbles": "high", "rounding": "floor", "interleave": -1, "order": "big",
          "record": ["filters", "head", "history"], "pairs": 8}  # fmt: skip
"""Two-tap frames of 8 bytes with filters of each stream's own."""
SCALED = {
    "scale": [230, 230, 230, 230, 307, 409, 512, 614],
    "least": 127,
    "most": 24_576,
    "begin": 127,
    "rule": "product",
}
"""Steps that are multiplied, as in the ADPCM of sound chips."""
DECODE_LIMIT, ENCODE_LIMIT = 0.6, 2.0


@dataclass
class Case:
    """A codec, and how the reference reads and writes the same bytes.

    reads: the samples of a payload; writes: a payload of samples, None where the reference can't; wrapped: a payload
    as the reference wants it. ours: whether the kernel is our own, so that limits hold.
    """

    format: Format
    reference: str
    reads: Callable[[bytes], NDArray] | None
    writes: Callable[[NDArray], bytes] | None
    wrapped: Callable[[bytes], bytes] = bytes
    unwrapped: Callable[[bytes], bytes] = bytes
    limits: tuple[float | None, float | None] = (None, None)
    found: dict[str, str] = field(default_factory=dict)

    @property
    def label(self) -> str:
        """What people call the codec."""
        return codec_of(self.format).label


def _raw(subtype: str) -> tuple[Callable[[bytes], NDArray], Callable[[NDArray], bytes]]:
    def read(data: bytes) -> NDArray:
        return soundfile.read(
            io.BytesIO(data), dtype="int16", format="RAW", subtype=subtype, samplerate=RATE, channels=2
        )[0]

    def write(pcm: NDArray) -> bytes:
        out = io.BytesIO()
        soundfile.write(out, pcm, RATE, format="RAW", subtype=subtype)
        return out.getvalue()

    return read, write


def _wav(subtype: str) -> tuple[Callable[[bytes], NDArray], Callable[[NDArray], bytes]]:
    def read(data: bytes) -> NDArray:
        return soundfile.read(io.BytesIO(data), dtype="int16")[0]

    def write(pcm: NDArray) -> bytes:
        out = io.BytesIO()
        soundfile.write(out, pcm, RATE, format="WAV", subtype=subtype)
        return out.getvalue()

    return read, write


def _blocks(data: bytes) -> bytes:
    at = data.index(b"data") + 8
    return data[at : at + int.from_bytes(data[at - 4 : at], "little")]


def _by_media_library(decoder: str, step: int) -> Callable[[bytes], NDArray]:
    """`step`: bytes of a packet; the library takes many frames in one."""

    def read(data: bytes) -> NDArray:
        reader = av.CodecContext.create(decoder, "r")
        reader.sample_rate, reader.layout = RATE, "stereo"
        packets = (av.Packet(data[at : at + step]) for at in range(0, len(data), step))
        return _rows_of([f for p in packets for f in reader.decode(p)])

    return read


def _rows_of(frames: list) -> NDArray:
    """(frames, 2), of planes or of samples in turn."""
    pcm = np.concatenate([f.to_ndarray() for f in frames], axis=1)
    return pcm.T if len(pcm) == 2 else pcm.reshape(-1, 2)


def cases(frames: int) -> list[Case]:
    """All that a reference can be named for."""
    five = frozen({"filters": [*XA_FILTERS, (122, -60)], "flags": [0, 6, 3, 1], "rounding": "truncate"})
    block = 2048
    limits = DECODE_LIMIT, ENCODE_LIMIT
    out = [
        Case(Format("pcm16", RATE, 2, frames), "libsndfile", *_raw("PCM_16")),
        Case(
            Format("pcm", RATE, 2, frames, parameters=frozen({"sample": "s24"})),
            "libsndfile",
            *_raw("PCM_24"),
            limits=(0.8, ENCODE_LIMIT),
        ),
        Case(Format("g711-a", RATE, 2, frames), "libsndfile", *_raw("ALAW")),
        Case(Format("g711-mu", RATE, 2, frames), "libsndfile", *_raw("ULAW")),
    ]
    for name, subtype in (("ima-adpcm", "IMA_ADPCM"), ("ms-adpcm", "MS_ADPCM")):
        read, write = _wav(subtype)
        format = Format(name, RATE, 2, frames, None, block)
        out.append(Case(format, "libsndfile", read, write, unwrapped=_blocks, limits=limits))
    out.append(Case(Format("dvi4", RATE, 2, frames, None, 2 * 484), "RFC 3551, by a plain decoder", None, None))
    format = Format("filter-adpcm", RATE, 2, frames, parameters=five)
    read = _by_media_library("adpcm_psx", 32 * 400)
    out.append(Case(format, "media library (PyAV)", read, None, limits=limits))
    read = _by_media_library("adpcm_xa", 128 * 100)
    out.append(Case(Format("xa-adpcm", RATE, 2, frames), "media library (PyAV)", read, None, limits=limits))
    own = Case(
        Format("filter-adpcm", RATE, 2, frames, parameters=frozen(RECORD)),
        "media library (PyAV)",
        None,
        None,
        limits=limits,
    )
    own.reads = lambda data: _with_filters(data, own.format.setup)
    out.append(own)
    read = _by_media_library("adpcm_yamaha", frames)
    format = Format("table-adpcm", RATE, 2, frames, parameters=frozen(SCALED))
    out.append(Case(format, "media library (PyAV)", read, None, limits=limits))
    out.append(Case(Format("delta-pcm", RATE, 2, frames), "sums by hand, in the tests", None, None))
    out.append(Case(Format("packed-pcm", RATE, 2, frames), "numpy's packbits, in the tests", None, None))
    for name, variant, container in (("mpeg", "3 128", "mp3"), ("adts", "4 128", "aac")):
        format = Format(name, RATE, 2, frames, variant=variant)
        out.append(Case(format, "media library on the frames as a file", _frames(container), None))
    for name, reference in (("vorbis", "libsndfile on the Ogg file"), ("opus", "libsndfile on the Ogg file")):
        format = Format(name, RATE, 2, frames, parameters=frozen({"headers": "stream"}))
        out.append(Case(format, reference, _ogg, None, wrapped=_wrapping(format)))
    return out


def _with_filters(data: bytes, record: bytes) -> NDArray:
    """Two-tap frames by a decoder that is given each channel's filters."""
    reader = av.CodecContext.create("adpcm_thp", "r")
    reader.sample_rate, reader.layout = RATE, "stereo"
    half = len(record) // 2
    reader.extradata = b"".join(record[c * half : c * half + 32] for c in range(2))
    return _rows_of(reader.decode(av.Packet(data)))


def _frames(container: str) -> Callable[[bytes], NDArray]:
    def read(data: bytes) -> NDArray:
        with av.open(io.BytesIO(data), format=container) as file:
            pcm = _rows_of(list(file.decode(audio=0)))
        return np.clip(np.rint(pcm * 32768), -32768, 32767).astype(np.int16)

    return read


def _ogg(data: bytes) -> NDArray:
    return soundfile.read(io.BytesIO(data), dtype="int16")[0]


def _wrapping(format: Format) -> Callable[[bytes], bytes]:
    """Packets as an Ogg file, which the reference reads."""

    def wrap(payload: bytes) -> bytes:
        file = codec_of(format).wrapped(BytesSource(payload), format)  # type: ignore[attr-defined]
        return file.read(0, file.size)

    return wrap


def rows(folder: Path) -> Iterator[Row]:
    """Decode and encode of each; agreement and the encoders' SNR stand in the notes."""
    for case, made in _measured():
        yield from made
        del case


def page(folder: Path) -> Iterator[Row]:
    """The same, and docs/codecs.md written from it."""
    done = []
    for case, made in _measured():
        yield from made
        done.append(case)
    lines = [
        "# Codecs",
        "",
        "Written by `python zubret.py bench page`. Figures are of 3 minutes of 48 kHz stereo music; a ratio is our time",
        "divided by the reference's, median of interleaved pairs. Agreement is measured in the same run; the tests compare",
        "more kinds, block sizes and signals. `file` (WAV, AIFF, FLAC, Ogg, MP3) and `library` are the libraries' own",
        "decoders: nothing of them is measured here.",
        "",
        "| codec | parameters | decode | encode | reference | agreement | decode time | encode time |",
        "| --- | --- | --- | --- | --- | --- | --- | --- |",
    ]
    for case in done:
        name = f"`{case.format.codec}`: {case.label}"
        given = ", ".join(f"`{n}` {_text(v)}" for n, v in case.format.parameters)
        known = given or ", ".join(f"`{n}`" for n in parameters_of(case.format.codec)) or "none"
        cells = [name, known, "yes", "no" if codec_of(case.format).obstacle(case.format) else "yes", case.reference]
        lines.append("| " + " | ".join([*cells, *(case.found[k] for k in ("agreement", "decode", "encode"))]) + " |")
    PAGE.write_text("\n".join(lines) + "\n", "utf-8")


def _text(value: object) -> str:
    text = str(value).replace("(", "[").replace(")", "]").replace("'", "")
    return text.lower() if isinstance(value, bool) else text


def _measured() -> Iterator[tuple[Case, list[Row]]]:
    piece, _, _ = render(PIECES[1])
    pcm = np.resize(as_int16(piece), (RATE * SECONDS, 2))
    for case in cases(len(pcm)):
        yield case, list(_rows(case, pcm))


def _rows(case: Case, pcm: NDArray) -> Iterator[Row]:
    codec = codec_of(case.format)
    case.format = format = codec.fitted(pcm, case.format)
    mine = codec.encode(pcm, format)
    case.format = format = codec.told(BytesSource(mine), format)
    heard = codec.decode(BytesSource(mine), format, 0, min(len(pcm), format.frames))
    late = codec.late(format)
    snr = f"SNR {snr_db(pcm[: len(heard) - late], heard[late:]):.2f} dB"
    title = f"{case.label}, 3 min 48 kHz stereo"
    if case.reads is None:
        took = [seconds(lambda: codec.decode(BytesSource(mine), format, 0, len(pcm))) for _ in range(5)]
        case.found = {"agreement": f"by the tests; {snr}", "decode": f"{min(took):.2f} s", "encode": "no reference"}
        yield Row(f"decode {title}", "none: seconds", took, None, snr, "s")
        return
    file = case.writes(pcm) if case.writes else case.wrapped(mine)
    payload = BytesSource(case.unwrapped(file) if case.writes else mine)
    theirs = case.reads(file)[: len(pcm)]
    count = min(len(theirs), len(pcm))
    ours = codec.decode(payload, format.with_(frames=count), 0, count)
    whole = ours if ours.dtype == np.int16 else np.clip(np.rint(ours * 32768), -32768, 32767)
    difference = np.abs(whole.astype(int) - theirs).max()
    same = "bit-exact" if difference == 0 else f"within {difference} of 32,768"
    row = pairs(
        f"decode {title}",
        lambda: codec.decode(payload, format.with_(frames=count), 0, count),
        case.reference,
        lambda: case.reads(file),  # type: ignore[misc]
        case.limits[0],
    )
    row.note += f"; {same}"
    case.found = {"agreement": f"{same}; {snr}", "decode": f"{row.median:.2f} ×", "encode": "no reference"}
    yield row
    if case.writes is None:
        return
    row = pairs(
        f"encode {title}", lambda: codec.encode(pcm, format), case.reference, lambda: case.writes(pcm), case.limits[1]
    )
    row.note += f"; {snr} against {snr_db(pcm[:count], theirs):.2f} dB"
    case.found["agreement"] += f" against {snr_db(pcm[:count], theirs):.2f} dB"
    case.found["encode"] = f"{row.median:.2f} ×"
    yield row
