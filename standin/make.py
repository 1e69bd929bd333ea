"""Makes the game's folder."""

from pathlib import Path

import numpy as np
import soundfile

from . import adpcm
from .formats import PCM, Sound, as_int16, bell, crate, ordinary_zip, wav
from .music import PIECES, render

BUILD = "1.0"
SOURCES = Path(__file__).parent / "sources"
TONGUES = {"en": "English", "fr": "French", "de": "German"}
MUSIC_IDS = {"harbour_dawn": 246, "open_water": 247, "fog": 251, "storm": 260, "last_crossing": 266}
BLOCKS = {"harbour_dawn": 2048, "open_water": 2048, "storm": 1024, "last_crossing": 2048}
EFFECTS = {"gull": 2210, "bell_near": 2211, "bell_far": 2212, "telegraph": 2214, "rope": 2215}
VOICE_CUES = ["cast_off", "slow_ahead", "fog_call", "below_deck", "old_water", "light_ahead", "noise", "harbour"]


def _effects():
    """Short sounds at 32 kHz mono: name -> int16 (frames, 1)."""
    rate, rng = 32000, np.random.default_rng(5)
    t = np.arange(int(1.8 * rate)) / rate

    def shaped(wave, decay, level=0.6):
        return as_int16((wave * np.exp(-t / decay) * level)[:, None])

    gull = np.sin(2 * np.pi * (1900 * t + 240 * np.sin(9 * t) * np.sin(2 * np.pi * 2.2 * t)))
    tone = sum(a * np.sin(2 * np.pi * 523 * r * t) for r, a in ((1, 0.5), (2.4, 0.3), (5.1, 0.15)))
    click = np.sign(np.sin(2 * np.pi * 6 * t)) * rng.standard_normal(len(t)) * np.exp(-((t * 6 % 1) * 20))
    rope = np.convolve(rng.standard_normal(len(t)), np.ones(40) / 8, "same") * np.abs(np.sin(2 * np.pi * 1.7 * t))
    return {
        "gull": shaped(gull, 0.5),
        "bell_near": shaped(tone, 0.6),
        "telegraph": shaped(click, 0.9, 0.25),
        "rope": shaped(rope, 1.1, 0.2),
    }


def _deck_files():
    """The loose files of the ZIP archive."""
    rate, rng = 44100, np.random.default_rng(6)
    n = rate * 6
    t = np.arange(n) / rate
    horn = sum(np.sin(2 * np.pi * f * t) / k for k, f in enumerate((110, 220, 330.5, 441), 1)) * 0.25
    horn *= np.minimum(1, t * 4) * np.minimum(1, (6 - t) * 2)
    spectrum = np.fft.rfft(rng.standard_normal((n, 2)), axis=0)
    f = np.fft.rfftfreq(n, 1 / rate)[:, None]
    water = np.fft.irfft(spectrum / (1 + (f / 300) ** 1.5), n, axis=0)
    water *= 0.3 / np.abs(water).max()
    hum = sum(np.sin(2 * np.pi * f * t) / f * 40 for f in (50, 75, 100, 150)) * 0.2
    return [
        ("ambience/horn.wav", wav(as_int16(np.stack([horn, horn], axis=1) * 0.8), rate)),
        ("ambience/water.wav", wav(as_int16(water), rate, (0, n))),
        ("ambience/engine_hum.wav", wav(as_int16(hum[:, None] * 0.5), rate, (0, n))),
        ("radio/call_01.ogg", (SOURCES / "en_07.ogg").read_bytes()),
        ("radio/call_02.ogg", (SOURCES / "en_06.ogg").read_bytes()),
        ("readme.txt", b"Sounds of the deck. They are played as they are.\r\n"),
    ]


def _music_bank():
    sounds = []
    for piece in PIECES:
        block = BLOCKS.get(piece.name, 0)
        pcm, start, end = render(piece, adpcm.block_frames(block, 2) if block else 1)
        codec = 1 if block else PCM
        sounds.append(Sound(MUSIC_IDS[piece.name], as_int16(pcm), piece.rate, (start, end), codec, block))
    return bell("music", sounds)


def _voice_bank(language):
    sounds = []
    for n, _ in enumerate(VOICE_CUES, 1):
        pcm, rate = soundfile.read(SOURCES / f"{language}_{n:02}.ogg", dtype="int16", always_2d=True)
        sounds.append(Sound(1000 + n, pcm, rate, block=512))
    return bell(f"crew_{language}", sounds, TONGUES[language])


def _deck_bank():
    effects = _effects()
    sounds = [
        Sound(id, effects["bell_near" if name == "bell_far" else name], 32000, codec=PCM,
              same_as=EFFECTS["bell_near"] if name == "bell_far" else None)
        for name, id in EFFECTS.items()
    ]  # fmt: skip
    return bell("deck", sounds)


def _cues():
    lines = [f"{name} music {id}" for name, id in MUSIC_IDS.items()]
    lines += [f"{name} deck {id}" for name, id in EFFECTS.items()]
    for language in TONGUES:
        lines += [f"{cue}_{language} crew_{language} {1001 + n}" for n, cue in enumerate(VOICE_CUES)]
    return "\n".join(lines) + "\n"


def make(folder):
    """Write the whole game below `folder`; the same bytes every time."""
    folder = Path(folder)
    data = folder / "data"
    data.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(9)
    depth = np.cumsum(np.cumsum(rng.standard_normal((128, 128)), axis=0), axis=1).astype("<f4").tobytes()
    files = [
        (
            "text/strings_en.txt",
            "\n".join(f"LINE_{n:03}=The night ferry, page {n}." for n in range(200)).encode(),
            True,
        ),
        ("charts/inland_sea.depth", depth, False),
        ("music/music.bell", _music_bank(), False),
        ("voice/crew_en.bell", _voice_bank("en"), False),
        ("voice/crew_fr.bell", _voice_bank("fr"), True),
        ("voice/crew_de.bell", _voice_bank("de"), False),
        ("deck/deck.bell", _deck_bank(), False),
        ("pictures/lamp.raw", bytes(np.repeat(np.arange(256, dtype=np.uint8), 96)), True),
        ("cues.txt", _cues().encode(), True),
    ]
    (data / "sea.crate").write_bytes(crate(BUILD, files))
    (data / "deck.zip").write_bytes(ordinary_zip(_deck_files()))
    (data / "order.txt").write_text("".join(path + "\n" for path, _, _ in files), "utf-8", newline="\n")
    (folder / "ferry.ini").write_text(f"[ferry]\nbuild={BUILD}\ncrate=data/sea.crate\ndeck=data/deck.zip\n", "utf-8")
    (folder / "read me.txt").write_text("Saltglass Ferry. A night on the inland sea.\n", "utf-8")
