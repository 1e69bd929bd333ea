"""Banks that say a language, a label, a gain and a priority of each stream: surveyed together, narrowed, listed, and kept by a swap."""

from tests.examples import bank_examples
from tests.server.support import ServerTest
from tests.support import bytes_of, source
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.base import Format
from zubret_core.layout import load_layout
from zubret_core.source import BytesSource


class Languages(ServerTest):
    def setUp(self):
        super().setUp()
        self.example = next(e for e in bank_examples() if "id: spoken" in e.layout)
        self.game = self.add_described(self.example.layout, {f"{n}.spo": self.example.files[""] for n in range(3)})
        self.streams = f"/games/{self.game['id']}/streams"

    def test_streams_are_narrowed_and_listed_by_their_own_language(self):
        rows = self.get(f"{self.streams}?sort=language")["rows"]
        self.assertEqual([(r["stream_id"], r["language"]) for r in rows], [("8", "")] * 3 + [("7", "French")] * 3)
        self.assertEqual([r["stream_id"] for r in self.get(f"{self.streams}?q=ahoy")["rows"]], ["7"] * 3)
        self.assertEqual(rows[-1]["said"], {"label": "ahoy", "gain": 1000, "priority": 5})
        self.assertEqual(rows[0]["said"], {"label": "fog", "gain": 504, "priority": -1})
        for name, id in (("French", "7"), ("none", "8")):
            found = self.get(f"{self.streams}?language={name}")
            self.assertEqual((found["total"], {r["stream_id"] for r in found["rows"]}), (3, {id}))
        self.assertEqual(self.get(f"/games/{self.game['id']}/languages"), ["French"])

    def test_what_is_said_stays_with_a_stream_that_is_replaced(self):
        bank = DescribedBank(load_layout(self.example.layout), source(self.example.files[""], "x.spo"))
        new = NewStream(BytesSource(bytes(20)), Format("pcm16", 8000, 1, 10))
        there = DescribedBank(bank.layout, source(bytes_of(bank.rebuild({0: new}).source), "x.spo"))
        self.assertEqual([(s.language, s.said) for s in there.streams], [(s.language, s.said) for s in bank.streams])
        self.assertEqual(there.streams[0].format.frames, 10)
