"""Plug-ins: the example of docs/plug-in, installed as a user would, and bad ones of every kind."""

import os
import shutil
import subprocess
import sys
import tempfile
import textwrap
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase

from tests.support import ROOT, bytes_of, noise, problem_of, source
from zubret_core import plugins
from zubret_core.bank.trial import check
from zubret_core.container import DescribedArchive
from zubret_core.layout import load_layout
from zubret_core.plugins import CODECS, STEPS, ask

ARCHIVE = """
zubret: 1
id: mirrored
describes: archive
recognise: [{at: 0, bytes: "4d 42"}]
methods: {plain: [], mirrored: [{by: plug-in, name: mirrored-bits, settings: {every: 2}}]}
regions:
  - name: head
    at: 0
    fields:
      - {name: mark, type: bytes, length: 2}
      - {name: count, type: u16, means: entries.count}
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: path, type: text, length: 2, means: entry.path}
      - {name: method, type: u16, means: entry.method, values: {0: plain, 1: mirrored}}
      - {name: at, type: u16, means: entry.at}
      - {name: stored, type: u16, means: entry.stored}
      - {name: size, type: u16, means: entry.size}
"""
STREAM = """
zubret: 1
id: squares
describes: stream
names: [".sq"]
codecs: {square: {codec: plug-in, plug_in: square-eight}}
given: {stream.codec: square, stream.rate: 8000}
"""
BAD = """
import os, time
class Bad:
    def __init__(self, how): self.how = how
    def unpack(self, data, size):
        if self.how == "raises": raise RuntimeError("no such thing")
        if self.how == "much": return bytes(size + 1)
        if self.how == "text": return "bytes"
        if self.how == "hangs": time.sleep(60)
        if self.how == "ends": os._exit(3)
        if self.how == "loud": print("x" * 100_000)
        return data[:size]
"""


class PlugIns(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        folder = Path(tempfile.mkdtemp())
        cls.addClassCleanup(shutil.rmtree, folder, ignore_errors=True)
        shutil.copytree(ROOT / "docs/plug-in", folder / "source")
        there = folder / "installed"
        command = [sys.executable, "-m", "pip", "install", "--quiet", "--no-deps"]
        subprocess.run([*command, "--target", str(there), str(folder / "source")], check=True, capture_output=True)
        (there / "bad.py").write_text(textwrap.dedent(BAD))
        facts = there / "bad-0.1.dist-info"
        facts.mkdir()
        (facts / "METADATA").write_text("Metadata-Version: 2.1\nName: bad\nVersion: 0.1\n")
        (facts / "entry_points.txt").write_text("[zubret.steps]\nbad = bad:Bad\n")
        before = os.environ.get("PYTHONPATH")
        os.environ["PYTHONPATH"] = os.pathsep.join(filter(None, (str(there), before)))
        sys.path.insert(0, str(there))

        def back():
            plugins.close_all()
            sys.path.remove(str(there))
            os.environ.pop("PYTHONPATH") if before is None else os.environ.update(PYTHONPATH=before)

        cls.addClassCleanup(back)

    def test_what_is_installed_is_told(self):
        found = [(p.group, p.name, p.package) for p in plugins.installed()]
        self.assertEqual(
            found,
            [
                (CODECS, "square-eight", "zubret-example"),
                (STEPS, "bad", "bad"),
                (STEPS, "mirrored-bits", "zubret-example"),
            ],
        )
        missing = problem_of(self, load_layout, ARCHIVE.replace("mirrored-bits", "torn-bits"), "mine")
        self.assertIn(
            'no installed plug-in brings the step "torn-bits"; there are bad, mirrored-bits', missing.what.lower()
        )
        self.assertEqual(missing.where, "mine, field line 6")
        missing = problem_of(self, load_layout, STREAM.replace("square-eight", "cube"), "mine")
        self.assertIn('No plug-in brings the codec "cube". There are square-eight', missing.what)

    def test_a_step_reads_and_writes(self):
        table = (
            b"MB" + bytes([2, 0]) + b"m1" + bytes([1, 0, 24, 0, 4, 0, 4, 0]) + b"m2" + bytes([0, 0, 28, 0, 1, 0, 1, 0])
        )
        file = source(table + bytes([0x86, ord("b"), 0xC6, ord("d")]) + b"x", "a.mb")
        layout = load_layout(ARCHIVE)
        archive = DescribedArchive(layout, file)
        self.assertEqual([bytes_of(archive.open(n)) for n in range(2)], [b"abcd", b"x"])
        self.assertTrue(check(layout, file).ok)

    def test_a_codec_reads_and_writes(self):
        pcm = noise(3000, 1, 30_000)
        payload = ask(CODECS, "square-eight", {}, "encode", pcm.astype("<i2").tobytes(), [{}], 1 << 20)
        result = check(load_layout(STREAM), source(payload, "a.sq"))
        self.assertTrue(result.ok and result.decoded == 3000 and result.tried > 1, result)
        back = np.frombuffer(ask(CODECS, "square-eight", {}, "decode", payload, [{"channels": 1}], 1 << 20), "<i2")
        self.assertLess(np.abs(back - pcm[:, 0].astype(int)).max(), 400)

    def test_bad_ones_are_told_and_ended(self):
        for how, words in (
            ("raises", "could not do it: RuntimeError: no such thing"),
            ("much", "gave 11 bytes, but at most 10 are wanted"),
            ("text", "gave str and no bytes"),
            ("ends", "ended without an answer"),
            ("hangs", "has not answered for 1 seconds, so it was stopped"),
        ):
            error = problem_of(
                self, ask, STEPS, "bad", {"how": how}, "unpack", b"x" * 10, [10], 10, 1.0 if how == "hangs" else 60.0
            )
            self.assertIn(words, error.what)
            self.assertTrue(error.next)
        for how in ("fine", "loud"):  # and the next question is answered as if nothing had been
            self.assertEqual(ask(STEPS, "bad", {"how": how}, "unpack", b"abc", [3], 3), b"abc")
        self.assertIn("no attribute 'pack'", problem_of(self, ask, STEPS, "bad", {"how": ""}, "pack", b"x").what)
        self.assertIn("No plug-in", problem_of(self, ask, STEPS, "none", {}, "unpack").what)
