"""Makes the committed voice files: every line, spoken by espeak-ng, as Ogg Vorbis at 24 kHz.

Run once, with Debian's espeak-ng and the pinned Python packages: python -m standin.sources.speak
"""

import subprocess
from io import BytesIO
from pathlib import Path

import numpy as np
import soundfile
import soxr

from .texts import LINES


def main():
    folder = Path(__file__).parent
    for language, lines in LINES.items():
        for n, line in enumerate(lines, 1):
            speak = ["espeak-ng", "-v", language, "-s", "150", "--stdout", line]
            pcm, rate = soundfile.read(BytesIO(subprocess.run(speak, capture_output=True, check=True).stdout))
            pcm = soxr.resample(pcm, rate, 24000)
            pcm *= 0.7 / np.abs(pcm).max()
            soundfile.write(folder / f"{language}_{n:02}.ogg", pcm, 24000, format="OGG", subtype="VORBIS")


if __name__ == "__main__":
    main()
