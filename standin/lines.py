"""What a modder brings along: new voice lines in two languages, as somebody may have recorded them, and a table of the texts."""

import csv
from pathlib import Path

import numpy as np
import soundfile
import soxr

from .make import SOURCES, TONGUES
from .sources.texts import LINES

RATE = 44_100
"""Hz of the new files, which is not the game's."""
VOICES = {"en": 0.93, "de": 1.08}
"""How high each language's new voice is."""


def new_lines(folder):
    """Write the folder: one file for each line of two languages, louder and longer than the game's; one that is for no line."""
    folder = Path(folder)
    folder.mkdir(parents=True, exist_ok=True)
    with open(folder / "spoken texts.csv", "w", encoding="utf-8", newline="") as out:
        table = csv.writer(out)
        table.writerow(("id", "language", "text"))
        for language, lines in LINES.items():
            table.writerows((1000 + n, TONGUES[language], line) for n, line in enumerate(lines, 1))
    for language, height in VOICES.items():
        (folder / language).mkdir(exist_ok=True)
        for n in range(1, len(LINES[language]) + 1):
            pcm, rate = soundfile.read(SOURCES / f"{language}_{n:02}.ogg", dtype="float32", always_2d=True)
            pcm = soxr.resample(pcm, rate * height, RATE)
            breath = np.zeros((RATE // 4, 1), np.float32)
            loud = np.tanh(np.concatenate([breath, pcm, breath]) * 2.5) * 0.95
            soundfile.write(folder / language / f"{1000 + n} take 2.wav", loud, RATE, subtype="PCM_16")
    soundfile.write(folder / "slate.wav", np.zeros((RATE, 1), np.float32), RATE, subtype="PCM_16")
