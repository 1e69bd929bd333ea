"""The game's music: small pieces for synthesised voices, each of which loops.

A piece is rendered as intro, body, and the first seconds of the body once more. The loop begins
a few seconds into the body and ends the same distance into the repetition, where the tails of
all notes and of the room are what they were at the start; so the seam can't be heard.
"""

from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np

OVERLAP = 4.0
"""Seconds of the body that are rendered again behind it."""


@dataclass
class Piece:
    """tempo in beats a minute; chords: one a bar of four beats, as MIDI notes; seed for its small freedoms."""

    name: str
    rate: int
    tempo: float
    chords: list
    intro_bars: int = 1
    seed: int = 1
    voices: tuple = ("pad", "pluck", "bass")
    wash: float = 0.0
    room: float = 1.8
    level: float = 0.5
    melody: list = field(default_factory=list)


def _envelope(n, rate, attack, decay, release_at):
    t = np.arange(n) / rate
    rise = np.minimum(1, t / attack) ** 1.5
    fall = np.exp(-t / decay)
    gone = np.where(t > release_at, np.exp(-(t - release_at) / 0.25), 1)
    return rise * fall * gone


@lru_cache(maxsize=512)
def _note(voice, midi, seconds, rate):
    """One mono note. Partials above 11 kHz are left out."""
    f = 440 * 2 ** ((midi - 69) / 12)
    kinds = {  # partials (ratio, level), attack s, decay s, ring s
        "pad": ([(1, 1), (1.004, 0.8), (2, 0.35), (2.996, 0.22), (4.01, 0.1)], 0.7, 9.0, 1.2),
        "pluck": ([(1, 1), (2, 0.5), (3, 0.25), (4, 0.16), (5, 0.08), (7, 0.04)], 0.004, 0.5, 0.3),
        "bass": ([(1, 1), (2, 0.4), (3, 0.12)], 0.02, 1.6, 0.3),
        "bell": ([(1, 1), (2.76, 0.5), (5.4, 0.22), (8.9, 0.1)], 0.002, 1.3, 1.5),
        "reed": ([(1, 1), (2, 0.55), (3, 0.5), (4, 0.25), (5, 0.2), (6, 0.1)], 0.06, 6.0, 0.3),
    }
    partials, attack, decay, ring = kinds[voice]
    n = int((seconds + ring) * rate)
    t = np.arange(n) / rate
    wave = sum(
        level * np.sin(2 * np.pi * f * ratio * t + ratio) * np.exp(-t * (ratio - 1) * 0.35)
        for ratio, level in partials
        if f * ratio < 11_000
    )
    return (wave * _envelope(n, rate, attack, decay, seconds)).astype(np.float32)


def _add(track, start, wave, level, pan):
    end = min(len(track), start + len(wave))
    if end > start:
        track[start:end, 0] += wave[: end - start] * level * np.cos(pan * np.pi / 2)
        track[start:end, 1] += wave[: end - start] * level * np.sin(pan * np.pi / 2)


def _reverb(track, seconds, rate, rng):
    n = int(seconds * rate)
    decay = np.exp(-4.5 * np.arange(n) / n)[:, None]
    room = rng.standard_normal((n, 2)) * decay
    room[: int(0.012 * rate)] = 0
    room = np.cumsum(room, axis=0) * 0.02 + room * 0.3  # darker than white
    room -= room.mean(axis=0)
    size = 1 << 19
    step = size - n  # all of what a transform has room for
    answer = np.fft.rfft(room.T.astype(np.float32), size)
    wet = np.zeros((len(track) + size, 2), np.float32)
    for at in range(0, len(track), step):
        wet[at : at + size] += np.fft.irfft(np.fft.rfft(track[at : at + step].T, size) * answer, size).T
    wet = wet[: len(track)]
    return track + wet * (0.22 / max(1e-9, np.sqrt((room**2).sum(axis=0)).max()))


def _wash(frames, rate, rng):
    """Noise like small waves. Its end is blended into its beginning, so that it repeats without a seam."""
    size = 1 << int(np.ceil(np.log2(frames + rate)))
    spectrum = np.fft.rfft(rng.standard_normal((2, size)).astype(np.float32))
    f = np.fft.rfftfreq(size, 1 / rate).astype(np.float32)
    noise = np.fft.irfft(spectrum / (1 + (f / 500) ** 1.6), size).T
    blend = np.linspace(0, np.pi / 2, rate)[:, None]
    out = noise[:frames]
    out[:rate] = out[:rate] * np.sin(blend) + noise[frames : frames + rate] * np.cos(blend)
    swell = 0.55 + 0.45 * np.sin(2 * np.pi * np.round(frames / rate / 7) * np.arange(frames) / frames)[:, None]
    return out / np.abs(out).max() * swell


def render(piece, block=1):
    """(int16-ready float (frames, 2), loop start, loop end); the start is a multiple of `block` frames."""
    rate = piece.rate
    rng = np.random.default_rng(piece.seed)
    beat = 60 / piece.tempo
    bars = len(piece.chords)
    washes = max(1, round(bars * 4 * beat / 16))
    body = round(bars * 4 * beat * rate / washes) * washes
    intro = round(piece.intro_bars * 4 * beat * rate)
    tail = round(OVERLAP * rate) + block
    track = np.zeros((intro + body + tail, 2), np.float32)
    # Every small freedom is drawn once a bar and kept for the repetition.
    plans = [_bar(piece, chord, rng) for chord in piece.chords]
    opening = [(voice, 0.0, 3.9, midi, 0.18, 0.5) for voice, _, _, midi, _, _ in plans[0] if voice == "pad"]
    for bar in range(-piece.intro_bars, bars + 4):
        start = intro + round(bar * body / bars)
        for voice, at, length, midi, level, pan in opening if bar < 0 else plans[bar % bars]:
            _add(track, start + round(at * beat * rate), _note(voice, midi, round(length * beat, 3), rate), level, pan)
    track = _reverb(track, piece.room, rate, rng)
    if piece.wash:
        sea = _wash(body // washes, rate, rng)
        track += piece.wash * np.resize(np.roll(sea, intro, axis=0), track.shape)
    track *= np.minimum(1, np.arange(len(track)) / (0.05 * rate))[:, None]
    start = -(-(intro + round((OVERLAP - 0.5) * rate)) // block) * block
    end = start + body
    return track[:end] / np.abs(track).max() * piece.level, start, end


def _bar(piece, chord, rng):
    """The notes of one bar: (voice, beat, length in beats, MIDI note, level, pan)."""
    notes = []
    if "pad" in piece.voices:
        notes += [("pad", 0, 3.9, m, 0.16, 0.3 + 0.4 * n / len(chord)) for n, m in enumerate(chord)]
    if "bass" in piece.voices:
        notes += [("bass", b, 1.8, chord[0] - 12, 0.34, 0.5) for b in (0, 2)]
    if "pluck" in piece.voices:
        for n in range(8):
            midi = chord[int(rng.integers(len(chord)))] + 12 * int(rng.integers(1, 3))
            notes.append(("pluck", n / 2, 0.5, midi, 0.1 + 0.08 * rng.random() + 0.06 * (n % 4 == 0), rng.random()))
    if "bell" in piece.voices and rng.random() < 0.6:
        notes.append(("bell", int(rng.integers(4)), 1.5, chord[-1] + 24, 0.1, rng.random()))
    if "reed" in piece.voices:
        at = 0.0
        while at < 4:
            length = float(rng.choice([0.5, 1, 1.5, 2]))
            midi = chord[int(rng.integers(1, len(chord)))] + 12
            notes.append(("reed", at, min(length, 4 - at) * 0.9, midi, 0.13, 0.6))
            at += length
    return notes


D_MINOR, B_FLAT, F, C = (50, 57, 62, 65), (46, 53, 58, 62), (53, 57, 60, 65), (48, 55, 60, 64)
G_MINOR, A, E_MINOR, G = (43, 50, 58, 62), (45, 52, 57, 61), (52, 55, 59, 64), (43, 50, 55, 59)
A_MINOR, D = (45, 52, 57, 60), (50, 54, 57, 62)

PIECES = [
    Piece("harbour_dawn", 48000, 72, [F, C, G_MINOR, B_FLAT, F, C, B_FLAT, C] * 2, seed=11, voices=("pad", "pluck", "bell"), wash=0.05, level=0.34),
    Piece("open_water", 48000, 84, [D_MINOR, B_FLAT, F, C, G_MINOR, B_FLAT, A, A] * 3, 2, 12, ("pad", "pluck", "bass", "reed"), 0.04, level=0.4),
    Piece("fog", 44100, 60, [E_MINOR, C, A_MINOR, E_MINOR, E_MINOR, G, A_MINOR, C], 1, 13, ("pad", "bell"), 0.12, 3.2, 0.25),
    Piece("storm", 44100, 126, [D_MINOR, D_MINOR, B_FLAT, A, D_MINOR, G_MINOR, A, A] * 2, 1, 14, ("pad", "pluck", "bass", "reed"), 0.1, 1.2, 0.6),
    Piece("last_crossing", 48000, 66, [G, D, E_MINOR, C, G, D, C, C] * 3, 1, 15, ("pad", "pluck", "bass", "bell"), 0.03, 2.6, 0.36),
]  # fmt: skip
WATCH = Piece("night_watch", 32000, 80, [A_MINOR, F, C, G] * 2, 1, 16, ("pad", "bell", "bass"), 0.06, 2.2, 0.3)
"""What the scenes play once, and no longer than it is."""
