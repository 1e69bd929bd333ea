"""Makes the committed voice files: every line, spoken by espeak-ng, as Ogg Vorbis at 24 kHz.

Run once, with Debian's espeak-ng and the pinned Python packages: python -m standin.sources.speak
"""

import subprocess
from io import BytesIO
from pathlib import Path

import numpy as np
import soundfile
import soxr

LINES = {
    "en": [
        "Cast off the stern line.",
        "Slow ahead, and mind the buoy to port.",
        "Fog coming down from the north. Sound the horn.",
        "All passengers below, please. It will be a rough night.",
        "I have crossed this water a thousand times, and it still surprises me.",
        "Light on the starboard bow!",
        "Engine room, what was that noise?",
        "There is the harbour. We made it.",
    ],
    "fr": [
        "Larguez l'amarre arrière.",
        "En avant lente, attention à la bouée à bâbord.",
        "Le brouillard descend du nord. Faites sonner la corne.",
        "Tous les passagers à l'intérieur. La nuit sera rude.",
        "J'ai traversé ces eaux mille fois, et elles me surprennent encore.",
        "Une lumière à tribord!",
        "Salle des machines, quel est ce bruit?",
        "Voilà le port. Nous y sommes.",
    ],
    "de": [
        "Achterleine los.",
        "Langsam voraus, und Vorsicht mit der Boje an Backbord.",
        "Nebel zieht von Norden auf. Gebt Signal mit dem Horn.",
        "Alle Fahrgäste bitte unter Deck. Es wird eine rauhe Nacht.",
        "Tausendmal bin ich hier übergesetzt, und doch staune ich noch.",
        "Licht an Steuerbord voraus!",
        "Maschinenraum, was war das für ein Geräusch?",
        "Da ist der Hafen. Wir haben es geschafft.",
    ],
}


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
