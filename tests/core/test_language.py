"""The language's own page, its arithmetic, and what ships with the game."""

import re

import soundfile
from django.test import SimpleTestCase
from ruamel.yaml import YAML

from standin.make import MUSIC_IDS, TONGUES, VOICE_CUES
from standin.music import PIECES
from tests.support import ROOT, demo_game
from zubret_core.base import ZubretError
from zubret_core.container import GameFolder
from zubret_core.layout.language.expression import NotAnExpression, compiled, evaluate
from zubret_core.layout.language.schema import Layout
from zubret_core.locate import banks_of, open_archive


class Documentation(SimpleTestCase):
    def test_the_tutorials_are_parts_of_the_shipped_layouts(self):
        """They can't drift away from what ships: each line of their blocks stands in one of the layouts."""
        page = (ROOT / "docs/layout-language.md").read_text("utf-8").split("## Worked examples")[0]
        shipped = [f.read_text("utf-8") for f in (ROOT / "zubret_core/layout/shipped").glob("*.yaml")]
        lines = {line.strip() for text in shipped for line in text.splitlines()}
        blocks = re.findall(r"```yaml\n(.*?)```", page, re.S)
        self.assertGreaterEqual(len(blocks), 6)
        for block in blocks:
            YAML(typ="safe").load(block)
            for line in block.splitlines():
                self.assertIn(line.strip(), lines)

    def test_every_word_of_the_language_is_on_its_page(self):
        page = (ROOT / "docs/layout-language.md").read_text("utf-8")
        schema = Layout.model_json_schema()
        words = set(schema["properties"])
        for part in schema["$defs"].values():
            words |= set(part["properties"])
        self.assertEqual([w for w in sorted(words) if f"`{w}`" not in page and f"{w}:" not in page], [])

    def test_the_readme_s_pictures_and_links_are_there(self):
        readme = (ROOT / "README.md").read_text("utf-8")
        targets = re.findall(r"\]\(([^)#]+)\)", readme)
        self.assertGreaterEqual(len(targets), 6)
        for target in targets:
            self.assertTrue((ROOT / target).exists(), target)


class Arithmetic(SimpleTestCase):
    NAMES = {"head.count": 7, "head.at": 4096}

    def test_values(self):
        for text, value in {
            "3": 3,
            "0x10 + 1": 17,
            "head.count * (2 + 3)": 35,
            "-head.at // 1000": -5,
            "head.at % 1000": 96,
            "1 << 11 | 3 & 2": 2050,
            "head.at >> 4 - 2": 1024,
            "head.count == 7 and not head.at < 9": 1,
            "3 * (head.count >= 8 or 0)": 0,
        }.items():
            self.assertEqual(evaluate(text, self.NAMES), value, text)

    def test_what_is_no_plain_arithmetic(self):
        for text in (
            "head.count()",
            "1.5",
            "'x'",
            "head.count ** 2",
            "[1]",
            "1 if 2 else 3",
            "",
            "(" * 90,
            "x" * 300,
        ):
            with self.assertRaises(NotAnExpression, msg=text):
                compiled(text)
        self.assertEqual(compiled("head.at + own").names, ("head.at", "own"))

    def test_no_value_leaves_64_bits(self):
        for text in (
            "head.at << 63",
            "1 << 64",
            "1 // 0",
            "5 % 0",
            "head.at << -1",
            "4611686018427387904 * 2",
            "head.none",
        ):
            with self.assertRaises(ZubretError, msg=text):
                evaluate(text, self.NAMES)


class TheGame(SimpleTestCase):
    """What the stand-in game must offer."""

    def test_music_and_voices_are_there_in_kind_and_number(self):
        self.assertGreaterEqual(len(PIECES), 5)
        self.assertEqual({p.rate for p in PIECES}, {44100, 48000})
        game = GameFolder(demo_game())
        banks = {b.name: b for b in banks_of(open_archive(game.open("data/sea.crate")))}
        music = banks["music.bell"].streams
        self.assertEqual({int(s.id) for s in music}, set(MUSIC_IDS.values()))
        for s in music:
            self.assertEqual(s.format.channels, 2)
            self.assertTrue(20 <= s.format.frames / s.format.rate <= 150, s.id)
            self.assertEqual(s.format.loop.end, s.format.frames)
        self.assertEqual({s.format.codec for s in music}, {"ima-adpcm", "pcm16"})
        for code, language in TONGUES.items():
            voice = banks[f"crew_{code}.bell"]
            self.assertEqual((voice.language, len(voice.streams)), (language, len(VOICE_CUES)))
            self.assertEqual({(s.format.rate, s.format.channels) for s in voice.streams}, {(24000, 1)})
        self.assertGreaterEqual(len(VOICE_CUES), 8)

    def test_the_committed_voices_are_small_and_whole(self):
        files = sorted((ROOT / "standin/sources").glob("*.ogg"))
        self.assertEqual(len(files), 24)
        self.assertLess(sum(f.stat().st_size for f in files), 1_000_000)
        for file in files:
            info = soundfile.info(file)
            self.assertEqual((info.samplerate, info.channels), (24000, 1), file.name)
            self.assertTrue(0.5 < info.duration < 10, file.name)
