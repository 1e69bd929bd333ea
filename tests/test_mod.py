"""A package on the command line, as a script would have it: checked, built, installed, played from the game's folder, taken back."""

import hashlib
import json
import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
from contextlib import closing
from pathlib import Path

import numpy as np
import soundfile
from django.test import SimpleTestCase

from tests.program import empty_database
from tests.server.test_install import tree
from tests.support import ROOT, copy_of_demo, tone, wav_file

HORN = {"archive": "data/sea.crate", "entries": ["deck/deck.bell"], "id": "2210"}


class OnTheCommandLine(SimpleTestCase):
    def setUp(self):
        self.root = Path(tempfile.mkdtemp()).resolve()
        self.addCleanup(shutil.rmtree, self.root, ignore_errors=True)
        self.game = copy_of_demo(self.root / "Saltglass Ferry")
        (self.root / "home" / "run").mkdir(parents=True)
        shutil.copy(empty_database(), self.root / "home" / "run")
        self.package = self.root / "night crossing"  # in a repository: a folder, written by hand
        (self.package / "new").mkdir(parents=True)
        fog = wav_file(self.root / "fog.wav", tone(3, 44_100, 441, 2), 44_100)
        value = hashlib.sha256(fog.read_bytes()).hexdigest()
        fog.rename(self.package / "new" / f"{value}.wav")
        file = {"member": f"new/{value}.wav", "name": "fog.wav", "sha256": value}
        music = {"archive": "data/sea.crate", "entries": ["music/music.bell"], "id": "0251"}
        self.write(
            {"stream": music, "begins": "file", "file": file, "treatment": {"loop": "whole"}},
            {"stream": HORN, "begins": "original", "treatment": {"gain_db": -6}},
        )

    def write(self, *swaps: dict) -> None:
        about = {"zubret_mod": 1, "name": "Night crossing", "game": {"name": "Saltglass Ferry"}, "swaps": swaps}
        (self.package / "mod.json").write_text(json.dumps(about))

    def mod(self, *words, code: int = 0) -> str:
        own = {"ZUBRET_DATA_DIR": str(self.root / "home"), "ZUBRET_LIBRARY_ROOTS": str(self.root)}
        env = {k: v for k, v in os.environ.items() if k != "DJANGO_SETTINGS_MODULE"} | own
        command = [sys.executable, "zubret.py", "mod", *map(str, words)]
        done = subprocess.run(command, cwd=ROOT, env=env, capture_output=True, text=True)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        self.assertNotIn("Traceback", done.stderr)
        return done.stdout + done.stderr

    def test_the_whole_of_it(self):
        before = tree(self.game)
        self.assertIn("wants a package", self.mod("check", "--game", self.game, code=1))
        self.assertIn("There is no folder", self.mod("check", self.package, "--game", self.root / "no", code=1))
        told = self.mod("check", self.package, "--game", self.game)
        self.assertEqual(told.count("same  "), 2)
        inside = self.mod("build", self.package, "--game", self.game, "--out", self.game / "out", code=1)
        self.assertIn("changed by install only", inside)
        out = self.root / "out"
        told = self.mod("build", self.package, "--game", self.game, "--out", out)
        sums = "".join(f"{line}\n" for line in told.splitlines() if line[64:66] == "  ")
        self.assertIn("data/sea.crate", sums)
        subprocess.run(["sha256sum", "-c", "--quiet"], input=sums, text=True, cwd=out, check=True)  # GNU coreutils
        self.assertEqual(tree(self.game), before)

        self.mod("install", self.package, "--game", self.game)
        with closing(sqlite3.connect(self.root / "home/run/zubret.sqlite3")) as base:
            current = base.execute("SELECT name FROM mods_mod WHERE current AND removed IS NULL").fetchall()
        self.assertEqual(current, [("First mod",)])  # a script does not change what its user works on
        self.assertEqual((self.game / "data/sea.crate").read_bytes(), (out / "data/sea.crate").read_bytes())
        wav = self.root / "fog.wav"
        play = [sys.executable, "-m", "standin", "play", str(self.game), "fog", "--loops", "1", "--wav", str(wav)]
        subprocess.run(play, cwd=ROOT, capture_output=True, check=True)
        pcm, rate = soundfile.read(wav, frames=44_100)
        self.assertAlmostEqual(float(np.argmax(np.abs(np.fft.rfft(pcm[:, 0]))) * rate / len(pcm)), 441, delta=2)
        self.mod("restore", self.package, "--game", self.game)
        self.assertEqual(tree(self.game), before)

    def test_another_build(self):
        """What is gone stops it, unless that is to be left out; nothing is written before."""
        newer = self.root / "Newer"
        copy_of_demo(newer, "1.1")
        before = tree(newer)
        self.write(
            {"stream": HORN, "begins": "original", "treatment": {"gain_db": -6}},
            {"stream": {**HORN, "id": "2214"}, "begins": "silence"},
        )
        told = self.mod("install", self.package, "--game", newer, code=1)
        self.assertIn("moved ", told)
        self.assertIn("gone ", told)
        self.assertIn("--also-changed", told)
        self.assertEqual(tree(newer), before)
        self.assertIn(
            "no way nowhere. It has in-place, ", self.mod("restore", "--game", newer, "--way", "nowhere", code=1)
        )
        self.mod("install", self.package, "--game", newer, "--also-changed", "--way", "tides")
        self.assertEqual(tree(newer).keys() - before.keys(), {"data/tide_01.crate", "data/tide_01.pass"})
        self.mod("restore", "--game", newer)
        self.assertEqual(tree(newer), before)
