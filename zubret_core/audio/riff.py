"""The chunks of a RIFF/WAVE file besides its samples: loops, cue points with labels, texts.

Sources: "Multimedia Programming Interface and Data Specifications 1.0" (1991), chapter 3 (RIFF, WAVE, `fmt `, `data`,
`cue `, `LIST` of `adtl` and `INFO`), and Microsoft's "New Multimedia Data Types" (1994), Sample Chunk: `smpl` holds 9
words, then 6 words a loop; dwStart and dwEnd count frames, and dwEnd is the last frame played, so that the half-open end
is dwEnd + 1.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field

from ..base import Format, Loop, ZubretError
from ..source import Source

LARGEST = 0xFFFFFFFF
LONGEST = 1 << 20
"""Bytes of a chunk at most that are looked into."""
MOST = 256
"""Loops, cue points and texts that are read at most."""
DIRECTIONS = ("forward", "forward and back", "backward")
"""Of a loop, by its dwType."""
INFO = {"title": "INAM", "artist": "IART", "album": "IPRD", "date": "ICRD", "track": "ITRK", "comment": "ICMT"}
"""Texts by the chunk that holds them. ITRK is common practice; the others are registered."""


@dataclass
class Notes:
    """What a WAV file says besides its samples. loops: the loop and its direction; cues: frame and label."""

    loops: list[tuple[Loop, str]] = field(default_factory=list)
    cues: list[tuple[int, str]] = field(default_factory=list)
    info: dict[str, str] = field(default_factory=dict)

    @property
    def loop(self) -> Loop | None:
        """The first forward loop."""
        return next(iter(self._forward()), None)

    def within(self, frames: int) -> tuple[Loop | None, tuple[Loop, ...]]:
        """The first forward loop and those after it, as far as they lie inside so many frames; none where the first does not."""
        loops = self._forward()
        if not loops or not loops[0].start < loops[0].end <= frames:
            return None, ()
        return loops[0], tuple(loop for loop in loops[1:] if loop.start < loop.end <= frames)

    def _forward(self) -> list[Loop]:
        return [loop for loop, way in self.loops if way == DIRECTIONS[0]]


def wav_header(format: Format, info: Mapping[str, str] | None = None) -> bytes:
    """The bytes before the samples of a 16-bit WAV file with this format, its loop and its texts.

    All chunks stand before `data`, so that a reader may begin at any frame with header and data only.
    """
    width = format.channels * 2
    words = struct.pack("<HHIIHH", 1, format.channels, format.rate, format.rate * width, width, 16)
    return wav_head(words, format, format.frames * width, info)


def wav_head(words: bytes, format: Format, size: int, info: Mapping[str, str] | None = None, fact: int = 0) -> bytes:
    """The bytes before `size` bytes of samples in a WAV file with these words in `fmt `.

    fact: frames, for the `fact` chunk that every coding but PCM has.
    """
    chunks = _chunk(b"fmt ", words)
    if fact:
        chunks += _chunk(b"fact", struct.pack("<I", fact))
    if format.loop:
        chunks += smpl_chunk(format) + cue_chunks([(format.loop.start, "loop start"), (format.loop.end, "loop end")])
    if info:
        chunks += info_chunk(info)
    total = 4 + len(chunks) + 8 + size + size % 2
    if total > LARGEST:
        raise ZubretError(
            f"{size:,} bytes of samples do not fit into a WAV file, which ends at 4 GB.",
            next="Take the stream out as FLAC or Ogg.",
        )
    return b"RIFF" + struct.pack("<I", total) + b"WAVE" + chunks + b"data" + struct.pack("<I", size)


def _chunk(name: bytes, body: bytes) -> bytes:
    return name + struct.pack("<I", len(body)) + body + bytes(len(body) % 2)


def smpl_chunk(format: Format) -> bytes:
    """The sample chunk with endless forward loops."""
    assert format.loop
    loops = (format.loop, *format.more)
    # manufacturer, product, sample period in ns, unity note (60: middle C), fraction, SMPTE
    # format and offset, number of loops, sampler data; then of each id, type (0: forward), start, last
    # frame, fraction, play count (0: without end).
    words = [0, 0, round(1e9 / format.rate), 60, 0, 0, 0, len(loops), 0]
    for number, loop in enumerate(loops):
        words += [number, 0, loop.start, loop.end - 1, 0, 0]
    return _chunk(b"smpl", struct.pack(f"<{len(words)}I", *words))


def cue_chunks(cues: list[tuple[int, str]]) -> bytes:
    """`cue ` with one point for each (frame, label), and the list of labels."""
    points, labels = struct.pack("<I", len(cues)), b"adtl"
    for number, (frame, label) in enumerate(cues, 1):
        points += struct.pack("<II4sIII", number, frame, b"data", 0, 0, frame)
        labels += _chunk(b"labl", struct.pack("<I", number) + label.encode("latin-1", "replace") + b"\0")
    return _chunk(b"cue ", points) + _chunk(b"LIST", labels)


def info_chunk(info: Mapping[str, str]) -> bytes:
    """`LIST` of `INFO` with the texts that are not empty, by the names in INFO; others are left out."""
    texts = b"".join(
        _chunk(INFO[name].encode(), text.encode("utf-8") + b"\0")
        for name, text in info.items()
        if text and name in INFO
    )
    return _chunk(b"LIST", b"INFO" + texts) if texts else b""


_PLAIN = {
    (1, 8): "PCM_U8",
    (1, 16): "PCM_16",
    (1, 24): "PCM_24",
    (1, 32): "PCM_32",
    (3, 32): "FLOAT",
    (3, 64): "DOUBLE",
}
"""libsndfile's names of what is not packed, by the tag and the bits of `fmt `."""


_BEGINNING = struct.Struct("<4sI8sIHHIIHH")
_CHUNK = struct.Struct("<4sI")


def plain_format(first: bytes, size: int, source: Callable[[], Source]) -> Format | None:
    """The format of a WAV file in which nothing is packed and nothing odd: its chunks end where the file does, and `fmt `
    agrees with itself. None for any other, which libsndfile has to judge. first, size: its first bytes, and of how many;
    source: gives the file, where more has to be read.

    A tenth of what libsndfile takes, for the tens of thousands of small files that a game may have.
    """
    if len(first) < 36:
        return None
    riff, total, wave, length, tag, channels, rate, speed, block, bits = _BEGINNING.unpack_from(first)
    if riff != b"RIFF" or wave != b"WAVEfmt " or total + 8 != size or length not in (16, 18):
        return None
    coding = _PLAIN.get((tag, bits))
    fits = block == channels * bits // 8 and speed == rate * block and 1 <= channels <= 64 and 1 <= rate <= 768_000
    if coding is None or not fits:
        return None
    at, data, looped = 20 + length, -1, False
    while at < size:
        if at + 8 > size:
            return None
        head = first[at : at + 8] if at + 8 <= len(first) else source().read(at, 8)
        name, length = _CHUNK.unpack(head)
        if name == b"data" and data < 0 and length % block == 0:
            data = length
        elif name == b"smpl":
            looped = True
        elif name not in _PASSED_OVER:
            return None
        at += 8 + length + (length & 1)
    if at != size or data < 0:
        return None
    frames = data // block
    loop, more = notes_of(source()).within(frames) if looped else (None, ())
    return Format("file", rate, channels, frames, loop, 0, f"WAV/{coding}", more=more)


_PASSED_OVER = (b"LIST", b"cue ", b"fact", b"JUNK", b"junk", b"PAD ", b"bext", b"inst", b"PEAK")


def chunks_of(source: Source) -> Iterator[tuple[bytes, int, int]]:
    """Id, place and length of the body of every chunk; an odd one is followed by a byte of fill."""
    at = 12
    while at + 8 <= source.size:
        name, size = struct.unpack("<4sI", source.read(at, 8))
        yield name, at + 8, min(size, source.size - at - 8)
        at += 8 + size + (size & 1)


def notes_of(source: Source) -> Notes:
    """The loops, cue points and texts of a RIFF/WAVE file; what is damaged is passed over."""
    notes, places, labels = Notes(), {}, {}
    for name, at, size in chunks_of(source):
        if name not in (b"smpl", b"cue ", b"LIST") or size > LONGEST:
            continue
        body = source.read(at, size)
        if name == b"smpl" and size >= 36:
            (count,) = struct.unpack_from("<I", body, 28)
            for n in range(min(count, (size - 36) // 24, MOST)):
                way, start, last = struct.unpack_from("<III", body, 36 + 24 * n + 4)
                notes.loops.append((Loop(start, last + 1), DIRECTIONS[way] if way < 3 else f"type {way}"))
        elif name == b"cue " and size >= 4:
            (count,) = struct.unpack_from("<I", body)
            for n in range(min(count, (size - 4) // 24, MOST)):
                number, _, _, _, _, frame = struct.unpack_from("<II4sIII", body, 4 + 24 * n)
                places[number] = frame
        elif body[:4] == b"adtl":
            for kind, text in _texts(body):
                if kind == "labl" and len(text) >= 4:
                    labels[int.from_bytes(text[:4], "little")] = _text(text[4:])
        elif body[:4] == b"INFO":
            known = {chunk: name for name, chunk in INFO.items()}
            notes.info |= {known[kind]: _text(text) for kind, text in _texts(body) if kind in known}
    notes.cues = sorted((frame, labels.get(number, "")) for number, frame in places.items())
    return notes


def _texts(body: bytes) -> Iterator[tuple[str, bytes]]:
    at = 4
    for _ in range(MOST):
        if at + 8 > len(body):
            return
        name, size = struct.unpack_from("<4sI", body, at)
        yield name.decode("latin-1"), body[at + 8 : at + 8 + size]
        at += 8 + size + (size & 1)


def _text(data: bytes) -> str:
    data = data.split(b"\0")[0]
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("latin-1")
