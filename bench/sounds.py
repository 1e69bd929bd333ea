"""Re-wrapping packets, taking sounds out, drawing, and how soon a chosen stream is heard."""

from __future__ import annotations

import io
import json
import random
import resource
import shutil
import time
from collections.abc import Iterator
from pathlib import Path

import av
import numpy as np
import soundfile
from numpy.typing import NDArray

from standin import told
from standin.formats import ADPCM, LAMP, LANES, PCM, TIDE, TOLD, VOICE, Sound, as_int16, bell, crate, told_bell
from standin.make import SOURCES
from standin.music import PIECES, render
from zubret_core.audio import Style
from zubret_core.audio.loops import find_loops
from zubret_core.audio.waveform import write_waveform
from zubret_core.bank.base import OnePayload, Stream
from zubret_core.base import Format
from zubret_core.codec import codec_of, ogg
from zubret_core.codec.vorbis import facts_of
from zubret_core.extract import SoundItem, export_sounds
from zubret_core.source import BytesSource
from zubret_core.swap import level_of

from .pairs import Row, pairs, seconds
from .ranges import get, served

STREAMS, LINES, LISTED = 1000, 2000, 5000


def rows(folder: Path) -> Iterator[Row]:
    """All of it."""
    yield _rewrapping()
    yield _lines(folder)
    yield from _drawing(folder)
    yield from _listening(folder)
    yield _loops()


def _loops() -> Row:
    """A piece of the demo's music, its loop played until it has four minutes: looking for loops against measuring the loudness
    once."""
    piece, start, end = render(PIECES[1])
    rate = PIECES[1].rate
    times = -(-240 * rate // (end - start))
    pcm = np.concatenate([piece[:start], *[piece[start:end]] * times])[: 240 * rate].astype(np.float32)
    step = 1 << 16

    def between(first: int, last: int) -> Iterator[NDArray[np.float32]]:
        return (pcm[at : min(at + step, last)] for at in range(first, last, step))

    def ours() -> None:
        found = find_loops(between, len(pcm), rate)
        assert found[0].end - found[0].start == end - start, found

    def theirs() -> None:
        level_of(between(0, len(pcm)), rate, 2)

    return pairs("looking for loops in 4 minutes", ours, "measuring their loudness once", theirs, 3.0, 5)


def _rewrapping() -> Row:
    """1,000 Vorbis streams of the spoken lines: payloads to Ogg files here, Ogg to Ogg there; nothing is decoded."""
    files = [p.read_bytes() for p in sorted(SOURCES.glob("*.ogg"))]
    streams = []
    for data in files:
        packets, last = ogg.packets_of(BytesSource(data))
        rate, channels, short, long = facts_of(packets[0])
        how = (("blocks", (short, long)),)
        format = Format("vorbis", rate, channels, last, None, 0, "", how, packets[2])
        streams.append((BytesSource(codec_of(format).from_ogg(BytesSource(data), format)), format))

    def ours() -> None:
        for n in range(STREAMS):
            payload, format = streams[n % len(streams)]
            file = codec_of(format).wrapped(payload, format)
            assert file.read(0, file.size)

    def theirs() -> None:
        for n in range(STREAMS):
            with av.open(io.BytesIO(files[n % len(files)])) as source, av.open(io.BytesIO(), "w", "ogg") as out:
                stream = out.add_stream_from_template(source.streams.audio[0])
                for packet in source.demux(audio=0):
                    if packet.dts is not None:
                        packet.stream = stream
                        out.mux(packet)

    return pairs("re-wrapping 1,000 Vorbis streams", ours, "media library (PyAV), Ogg to Ogg", theirs, 1.0, 5)


def _lines(folder: Path) -> Row:
    """2,000 lines of 2 s in IMA ADPCM as WAV files of 16 bits, against a loop over WAV files that hold the same codec."""
    pcm, rate = soundfile.read(SOURCES / "en_05.ogg", dtype="int16", always_2d=True)
    pcm = pcm[: 2 * rate]
    format = Format("ima-adpcm", rate, 1, len(pcm), None, 512)
    payload = BytesSource(codec_of(format).encode(pcm, format), "line")
    stream = Stream(0, "1", "", format, 0, payload.size, "", OnePayload(payload))
    items = [SoundItem(n, f"line {n}", format, f"{n % 20}/{n}.wav") for n in range(LINES)]
    had = folder / "had"
    had.mkdir()
    for n in range(LINES):
        soundfile.write(had / f"{n}.wav", pcm, rate, subtype="IMA_ADPCM")

    def ours() -> None:
        out = folder / "ours"
        shutil.rmtree(out, ignore_errors=True)
        assert export_sounds(items, out, lambda item: stream, Style()).files == LINES

    def theirs() -> None:
        out = folder / "theirs"
        shutil.rmtree(out, ignore_errors=True)
        out.mkdir()
        for n in range(LINES):
            samples, hz = soundfile.read(had / f"{n}.wav", dtype="int16")
            soundfile.write(out / f"{n}.wav", samples, hz, subtype="PCM_16")

    return pairs("taking out 2,000 short lines as WAV, 2 cores", ours, "bare loop of soundfile, 1 core", theirs, 1.0, 5)


def _drawing(folder: Path) -> Iterator[Row]:
    """Waveform of 10 minutes of IMA ADPCM, with its decoding, against the decoding alone; memory for an hour."""
    piece, _, _ = render(PIECES[1])
    pcm = np.resize(as_int16(piece), (48000 * 600, 2))
    format = Format("ima-adpcm", 48000, 2, len(pcm), None, 2048)
    codec = codec_of(format)
    payload = BytesSource(codec.encode(pcm, format))
    del pcm

    def decode(at: int, frames: int):
        return codec.decode(payload, format, at, frames)

    def alone() -> None:
        for at in range(0, format.frames, 1 << 18):
            decode(at, min(1 << 18, format.frames - at))

    what = "waveform of a 10-minute stream, decoding included"
    yield pairs(what, lambda: write_waveform(folder / "a.wave", decode, format), "its decoding alone", alone, 2.0)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    hours = format.with_(frames=format.frames * 6)

    def again(at: int, frames: int):
        at %= format.frames
        return decode(at, min(frames, format.frames - at)) if at + frames <= format.frames else decode(0, frames)

    write_waveform(folder / "b.wave", again, hours)
    grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    yield Row("memory that an hour takes above ten minutes", "none: MB", [grown], 16, "", "MB")


class _Same(Sound):
    """A sound whose payload is worked out once for all that are like it."""

    known: dict[int, bytes] = {}

    def payload(self) -> bytes:
        if self.codec not in self.known:
            self.known[self.codec] = super().payload()
        return self.known[self.codec]


def _listening(folder: Path) -> Iterator[Row]:
    """From the request that a key press sends to the first samples, each stream for the first time."""
    game = folder / "game"
    game.mkdir()
    pcm, rate = soundfile.read(SOURCES / "en_05.ogg", dtype="int16", always_2d=True)
    codecs = (PCM, ADPCM, VOICE, LANES, TIDE)
    sounds = [_Same(n + 1, pcm, rate, codec=codecs[n % 5], block=512) for n in range(LISTED)]
    _, _, setup, *packets = told.packets((SOURCES / "en_05.ogg").read_bytes())
    spoken = [Sound(n + 1, pcm, rate, codec=TOLD, packets=packets) for n in range(100)]
    tune = np.repeat(as_int16(0.3 * np.sin(np.arange(48000 * 4) / 20))[:, None], 2, axis=1)
    notes = told.as_opus(tune)
    tunes = [Sound(n + 101, tune, 48000, codec=LAMP, packets=notes) for n in range(100)]
    files = [("many.bell", bell("many", sounds), False), ("told.bell", told_bell("told", spoken + tunes, setup), False)]
    (game / "list.crate").write_bytes(crate("x", files))
    with served(folder, game) as connection:
        page = get(connection, "/").decode()
        static = page.split('src="')[1].split('"')[0]
        found = []
        for offset in range(0, LISTED + 200, 500):
            found += json.loads(get(connection, f"/api/games/1/streams?offset={offset}&limit=500"))["rows"]
        chance = random.Random(1)
        by_codec: dict[str, list[float]] = {}
        ratios = []
        for codec in sorted({r["codec"] for r in found}):
            for row in chance.sample([r for r in found if r["codec"] == codec], 12):
                path = f"/api/audio/{row['audio']}/pcm?start=0&frames=12000"
                took = seconds(lambda path=path: get(connection, path))
                plain = seconds(lambda: get(connection, static, "bytes=0-24000"))
                by_codec.setdefault(codec, []).append(took * 1000)
                ratios.append(took / plain)
                time.sleep(0.01)
        each = ", ".join(f"{codec} {np.median(ms):.1f}" for codec, ms in by_codec.items())
        yield Row(
            "first samples of a stream chosen in a list of 5,200",
            "a static file, same server",
            ratios,
            2.0,
            f"ms: {each}",
        )
        yield Row(
            "the same in milliseconds", "none: ms", [ms for row in by_codec.values() for ms in row], 150, "", "ms"
        )
