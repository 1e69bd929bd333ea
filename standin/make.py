"""Makes the game's folder."""

import zlib
from functools import cache
from pathlib import Path

import numpy as np
import soundfile

from . import adpcm, chart, told
from .formats import (
    ADPCM,
    LAMP,
    LANES,
    PCM,
    TIDE,
    TOLD,
    VOICE,
    Sound,
    as_int16,
    bell,
    crate,
    drift,
    ordinary_zip,
    page,
    seal,
    told_bell,
    towed_bell,
    wav,
)  # fmt: skip
from .music import PIECES, WATCH, render
from .sources.texts import LINES

BUILD = "1.0"
SOURCES = Path(__file__).parent / "sources"
TONGUES = {"en": "English", "fr": "French", "de": "German"}
MUSIC_IDS = {"harbour_dawn": 246, "open_water": 247, "fog": 251, "storm": 260, "last_crossing": 266}
BLOCKS = {"harbour_dawn": 2048, "open_water": 2048, "storm": 1024, "last_crossing": 2048}
SPOKEN = [(1000 + n, tongue, line) for tongue, lines in LINES.items() for n, line in enumerate(lines, 1)]
EFFECTS = {"gull": 2210, "bell_near": 2211, "bell_far": 2212, "telegraph": 2214, "rope": 2215}
SCENES = {"night_watch": (601, 310), "galley": (602, 45)}
"""Streams that scenes play once, and how many seconds a scene lasts at most."""
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


@cache
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


@cache
def _music_bank():
    sounds = []
    for piece in PIECES:
        block = BLOCKS.get(piece.name, 0)
        pcm, start, end = render(piece, adpcm.block_frames(block, 2) if block else 1)
        codec = 1 if block else PCM
        sounds.append(Sound(MUSIC_IDS[piece.name], as_int16(pcm), piece.rate, (start, end), codec, block))
    return bell("music", sounds)


@cache
def _voice_bank(language):
    sounds = []
    for n, _ in enumerate(VOICE_CUES, 1):
        pcm, rate = soundfile.read(SOURCES / f"{language}_{n:02}.ogg", dtype="int16", always_2d=True)
        codec = VOICE if language == "de" else ADPCM
        sounds.append(Sound(1000 + n, pcm, rate, codec=codec, block=512))
    return bell(f"crew_{language}", sounds, TONGUES[language])


def _deck_bank(build):
    """Short effects. Build 1.1 has lost the telegraph, sends the gull to the scenes, has softer bells, and the rope at another rate."""
    effects = _effects()
    names = [name for name in EFFECTS if build == "1.0" or name not in ("gull", "telegraph")]
    if build == "1.1":
        effects["bell_near"] = effects["bell_near"] // 2
    sounds = [
        Sound(EFFECTS[name], effects["bell_near" if name == "bell_far" else name],
              24000 if build == "1.1" and name == "rope" else 32000, codec=PCM,
              same_as=EFFECTS["bell_near"] if name == "bell_far" else None)
        for name in names
    ]  # fmt: skip
    return bell("deck", sounds)


@cache
def _radio_bank():
    """Spoken weather as Vorbis packets, whose setup header is shared, and two tunes as Opus packets."""
    sounds, setup = [], b""
    for n, line in enumerate(("en_05", "fr_05", "de_05", "en_08"), 1):
        place = SOURCES / f"{line}.ogg"
        pcm, rate = soundfile.read(place, dtype="int16", always_2d=True)
        _, _, setup, *packets = told.packets(place.read_bytes())
        sounds.append(Sound(5000 + n, pcm, rate, codec=TOLD, packets=packets))
    rate = 48000
    t = np.arange(rate * 9) / rate
    for n, notes in enumerate(((440, 554.37, 659.26), (392, 466.16, 587.33)), 1):
        tune = sum(np.sin(2 * np.pi * f * t) * (0.5 + 0.5 * np.sin(2 * np.pi * t / 3 + f)) for f in notes) / 8
        pcm = as_int16(np.stack([tune, tune * 0.8], axis=1))
        loop = (rate * 3, rate * 9) if n == 1 else None
        sounds.append(Sound(5010 + n, pcm, rate, loop, LAMP, packets=told.as_opus(pcm)))
    return told_bell("radio", sounds, setup)


def _scene_bank(build):
    gull = [Sound(EFFECTS["gull"], _effects()["gull"], 32000, codec=PCM)] if build == "1.1" else []
    return bell("scenes", _scenes() + gull)


@cache
def _scenes():
    """Music that does not loop: a scene that lasts longer goes on in silence."""
    pcm, _, _ = render(WATCH)
    fade = np.minimum(1, np.arange(len(pcm))[::-1] / (2 * WATCH.rate))[:, None]
    short = pcm[: 9 * WATCH.rate] * fade[-9 * WATCH.rate :]
    tunes = {"night_watch": pcm * fade, "galley": short}
    return [Sound(id, as_int16(tunes[name]), WATCH.rate, block=2048) for name, (id, _) in SCENES.items()]


@cache
def _drift_bank():
    """Three sounds at 22,050 Hz in a bank that no layout describes."""
    rate, rng = 22050, np.random.default_rng(8)
    t = np.arange(rate * 3) / rate
    buoy = sum(a * np.sin(2 * np.pi * 311 * r * t) for r, a in ((1, 0.5), (2.76, 0.3), (5.4, 0.1))) * np.exp(-t % 1.5)
    whale = np.sin(2 * np.pi * (180 * t + 25 * np.sin(2 * np.pi * 0.4 * t))) * np.sin(np.pi * t / 3) ** 2
    drops = np.convolve(rng.standard_normal(len(t)) * (rng.random(len(t)) < 0.002), np.hanning(60), "same")
    return drift(
        [(71 + n, as_int16(0.5 * w / np.abs(w).max())[:, None], rate) for n, w in enumerate((buoy, whale, drops))]
    )


def _cues(build):
    lines = [f"{name} music {id}" for name, id in MUSIC_IDS.items()]
    moved = {"gull": "scenes"} if build == "1.1" else {}
    effects = {name: id for name, id in EFFECTS.items() if build == "1.0" or name != "telegraph"}
    lines += [f"{name} {moved.get(name, 'deck')} {id}" for name, id in effects.items()]
    lines += [f"{name} scenes {id}" for name, (id, _) in SCENES.items()]
    lines += [f"weather_{n} radio {5000 + n}" for n in range(1, 5)]
    lines += [f"tune_{n} radio {5010 + n}" for n in range(1, 3)]
    for language in TONGUES:
        lines += [f"{cue}_{language} crew_{language} {1001 + n}" for n, cue in enumerate(VOICE_CUES)]
    return "\n".join(lines) + "\n"


@cache
def _night():
    """Ambience that is streamed from a companion, and noise."""
    rate, rng = 44100, np.random.default_rng(7)
    n = rate * 8
    t = np.arange(n) / rate
    deck = np.stack([np.sin(2 * np.pi * f * t) * (0.6 + 0.4 * np.sin(2 * np.pi * t / 4)) for f in (98, 147)], axis=1)
    spectrum = np.fft.rfft(rng.standard_normal((n, 2)), axis=0)
    wind = np.fft.irfft(spectrum / (1 + (np.fft.rfftfreq(n, 1 / rate)[:, None] / 220) ** 1.3), n, axis=0)
    deck = as_int16(0.12 * deck + 0.25 * wind / np.abs(wind).max())
    frames = adpcm.block_frames(1024, 2)
    night = [
        Sound(3001, deck, rate, (frames * 8, n), block=1024),
        Sound(3002, deck[: rate * 2, :1], rate, (0, rate * 2), codec=PCM),
        Sound(3003, deck[rate : rate + rate // 5], rate, codec=LANES),
    ]
    return *towed_bell("night", night), rng.bytes(150_000)


@cache
def _cabin_bank():
    """Speech in two-tap frames."""
    cabin = []
    for n, line in enumerate(("en_04", "fr_04"), 1):
        pcm, speech = soundfile.read(SOURCES / f"{line}.ogg", dtype="int16", always_2d=True)
        cabin.append(Sound(4000 + n, pcm, speech, codec=TIDE))
    return bell("cabin", cabin)


def _hold_files(build):
    """What the hold carries: ambience, an archive of its own, texts and pictures."""
    bank, tow, noise = _night()
    inner = crate(build, [("cabin.bell", _cabin_bank(), False), ("bunks.txt", b"Four bunks, one lamp.\n" * 9, True)])
    log = "".join(f"{hour:02}:00 wind {hour * 5 % 17} knots, build {build}\n" for hour in range(24)).encode()
    files = [
        ("ambience/night.bell", bank, chart.LZ4),
        ("ambience/night.tow", tow, chart.PLAIN),
        ("cabin/cabin.crate", inner, chart.ZSTD),
        ("log/first.txt", log * 40, chart.ZSTD),
        ("pictures/wake.raw", bytes(np.repeat(np.arange(240, dtype=np.uint8), 700)), chart.LZ4),
        ("pictures/noise.raw", noise, chart.LZ4),
    ]
    if build == "1.1":  # one moved to the front, one gone, one new, one changed by its text
        files = [files[4], *files[:4], ("log/second.txt", b"All quiet.\n" * 60, chart.LZ4)]
    return files


def make(folder, build=BUILD):
    """Write the whole game below `folder`; the same bytes every time. Build 1.1 is the game after an update. What is in both
    is made once."""
    folder = Path(folder)
    data = folder / "data"
    data.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(9)
    depth = np.cumsum(np.cumsum(rng.standard_normal((128, 128)), axis=0), axis=1).astype("<f4").tobytes()
    lines = 200 if build == "1.0" else 212
    files = [
        (
            "text/strings_en.txt",
            "\n".join(f"LINE_{n:03}=The night ferry, page {n}." for n in range(lines)).encode(),
            True,
        ),
        ("charts/inland_sea.depth", depth, False),
        ("music/music.bell", _music_bank(), False),
        ("voice/crew_en.bell", _voice_bank("en"), False),
        ("voice/crew_fr.bell", _voice_bank("fr"), True),
        ("voice/crew_de.bell", _voice_bank("de"), False),
        ("deck/deck.bell", _deck_bank(build), False),
        ("pictures/lamp.raw", bytes(np.repeat(np.arange(256, dtype=np.uint8), 96)), True),
        ("cues.txt", _cues(build).encode(), True),
        ("radio/radio.bell", _radio_bank(), False),
        ("scenes/scenes.bell", _scene_bank(build), False),
    ]
    files.append(("text/spoken.page", page(SPOKEN), True))
    if build == "1.1":
        files.insert(1, ("text/strings_news.txt", b"NEWS=The ferry calls at two more islands.\n", True))
    _write(data / "sea.crate", crate(build, files))
    _write(data / "deck.zip", ordinary_zip(_deck_files()))
    _write(
        data / "patch_01.zip",
        ordinary_zip([("ambience/horn.wav", _deck_files()[0][1]), ("readme.txt", b"Louder.\r\n")]),
    )
    _text(data / "deck.zip.seal", seal((data / "deck.zip").read_bytes()))
    _write(data / "drift.bin", _drift_bank())
    hold = _hold_files(build)
    index, volumes = chart.chart(build, hold)
    _write(data / "hold.chart", index)
    for n, volume in enumerate(volumes):
        _write(data / f"hold.cargo{n:02}", volume)
    _text(data / "hold names.txt", "".join(path + "\n" for path, _, _ in hold))
    _text(data / "order.txt", "".join(path + "\n" for path, _, _ in files))
    listed = sorted(p for p in data.iterdir() if p.suffix in (".crate", ".zip", ".chart") or ".cargo" in p.suffix)
    sums = [f"{zlib.crc32(p.read_bytes()):08x} {p.stat().st_size:010} {p.name}\n" for p in listed]
    _text(data / "sums.txt", "SUMS 1\n" + "".join(sums))
    paths = "crate=data/sea.crate\ndeck=data/deck.zip\nhold=data/hold.chart\nsums=data/sums.txt\n"
    scenes = "".join(f"{name}={seconds}\n" for name, (_, seconds) in SCENES.items())
    _text(folder / "ferry.ini", f"[ferry]\nbuild={build}\n{paths}[scenes]\n{scenes}")
    _text(folder / "read me.txt", "Saltglass Ferry. A night on the inland sea.\n")
    key = " ".join(f"0x{byte:02x}" for byte in chart.KEYS[build])
    _text(
        folder / "found on a forum.txt",
        f"somebody posted this, works for build {build} they say\n\nhold.chart:\n{key}\n",
    )


def _write(place, data):
    place.write_bytes(data)


def _text(place, text):
    place.write_text(text, "utf-8", newline="\n")
