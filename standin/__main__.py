"""python -m standin make FOLDER [--build N] [--update FOLDER] | lines FOLDER | play FOLDER CUE [--loops N] [--over FOLDER [--without PATH ...]]
[--wav FILE]

`play` prints one JSON object: {"played": true, "rate": ..., "frames": ..., "channels": ..., "log": [...]}
or {"played": false, "why": ..., "log": [...]}. Cues of the deck's files are written deck/PATH.
"""

import argparse
import json
import wave

from .lines import new_lines
from .make import make
from .player import Ferry, Refused, cue_at


def main():
    parser = argparse.ArgumentParser(prog="standin", description="Saltglass Ferry, the stand-in game.")
    commands = parser.add_subparsers(dest="command", required=True)
    maker = commands.add_parser("make", help="make the game's folder")
    maker.add_argument("folder")
    maker.add_argument("--build", choices=("1.0", "1.1"), default="1.0")
    maker.add_argument("--update", help="a folder for build 1.1, too, which takes little longer than one")
    spoken = commands.add_parser("lines", help="make a folder of new voice lines, and a table of what is spoken")
    spoken.add_argument("folder")
    player = commands.add_parser("play", help="load the game and play a cue")
    player.add_argument("folder")
    player.add_argument(
        "cue",
        help="a cue, bank:ID for a stream of a bank, hold/PATH:ID for one of a bank in the hold, deck/PATH, or where a stream "
        'stands, as JSON: {"file": ..., "inside": [names on the way], "id": ...}',
    )
    player.add_argument("--loops", type=int, default=2)
    player.add_argument("--over", help="a folder whose files win over the game's")
    player.add_argument("--without", nargs="*", default=[], help="files of the game that are taken to be gone")
    player.add_argument("--wav", help="write what was played to this file")
    args = parser.parse_args()
    if args.command == "make":
        make(args.folder, args.build)
        if args.update:
            make(args.update, "1.1")
        return
    if args.command == "lines":
        new_lines(args.folder)
        return
    game = None
    try:
        game = Ferry(args.folder, args.over, args.without)
        cue = cue_at(**json.loads(args.cue)) if args.cue.startswith("{") else args.cue
        pcm, rate, log = game.play(cue, args.loops)
    except Refused as e:
        print(json.dumps({"played": False, "why": str(e), "log": game.log if game else []}))
        return
    if args.wav:
        with wave.open(args.wav, "wb") as out:
            out.setnchannels(pcm.shape[1])
            out.setsampwidth(2)
            out.setframerate(rate)
            out.writeframes(pcm.astype("<i2").tobytes())
    print(json.dumps({"played": True, "rate": rate, "frames": len(pcm), "channels": pcm.shape[1], "log": log}))


if __name__ == "__main__":
    main()
