"""What became of a stream in another build: a table worked by hand."""

from unittest import TestCase

from zubret_core.base import Format, Loop
from zubret_core.locate import Locator
from zubret_core.locate.carry import CHANGED, FORMAT, GONE, MOVED, SAME, Is, Streams, Was

PCM = Format("pcm", 32_000, 1, 1000)


def at(path: str, id: str, ordinal: int = 0, index: int = 1, archive: str = "a.crate") -> Locator:
    return Locator(archive, ((path, index),), id, ordinal)


class Carry(TestCase):
    def setUp(self):
        self.read: list[int] = []

    def build(self, *rows: tuple[Locator, str, int, Format]) -> Streams:
        """Streams by where they are, digest, size and format."""
        digests = [row[1] for row in rows]
        found = [Is(n, where, format, stored) for n, (where, _, stored, format) in enumerate(rows)]

        def digest(stream: Is) -> str:
            self.read.append(stream.number)
            return digests[stream.number]

        return Streams(found, digest)

    def test_the_table(self):
        told = self.build(
            (at("b", "1", 0, 7), "one", 10, PCM),  # 0: entries came before it
            (at("c", "2"), "two", 20, PCM),  # 1: in another bank
            (at("b", "3"), "other", 30, PCM),  # 2: another sound
            (at("b", "4"), "four", 40, PCM.with_(rate=24_000, loop=Loop(0, 9))),  # 3
            (at("b", "55"), "five", 50, PCM),  # 4: got another id
            (at("b", "6"), "six", 60, PCM.with_(loop=Loop(0, 10))),  # 5: the same payload, with a loop
            (at("b", "8", 0), "nine", 80, PCM),  # 6 and 7: two that changed places
            (at("b", "9", 1), "eight", 80, PCM),
            (at("x/d", "10"), "new", 100, PCM),  # 8, 9: an id that two banks have
            (at("x/e", "10"), "new too", 101, PCM),
            (at("p", "11", 0), "twin", 110, PCM),  # 10, 11: a payload that two streams have
            (at("p", "12", 1), "twin", 110, PCM),
        )
        for where, digest, stored, format, kind, now, detail in (
            (at("b", "1"), "one", 10, PCM, SAME, 0, ""),
            (at("b", "2"), "two", 20, PCM, MOVED, 1, "now in a.crate › c › 2"),
            (at("b", "3"), "three", 30, PCM, CHANGED, 2, ""),
            (at("b", "3"), "three", 31, PCM, CHANGED, 2, ""),
            (at("b", "4"), "was", 41, PCM, FORMAT, 3, "rate 32\u202f000 Hz to 24\u202f000 Hz, loop none to yes"),
            (at("b", "5"), "five", 50, PCM, MOVED, 4, "now in a.crate › b › 55"),
            (at("b", "6"), "six", 60, PCM, FORMAT, 5, "loop none to yes"),
            (at("b", "7"), "seven", 70, PCM, GONE, None, "no stream with its place, its id or its contents"),
            (at("b", "8", 0), "eight", 80, PCM, MOVED, 7, "now in a.crate › b › 9"),
            (at("b", "9", 1), "nine", 80, PCM, MOVED, 6, "now in a.crate › b › 8"),
            (at("q/e", "10"), "old", 99, PCM, CHANGED, 9, "now in a.crate › x/e › 10"),
            (at("q/f", "10"), "old", 99, PCM, GONE, None, "no stream with its place, its id or its contents"),
            (at("b", "13"), "twin", 110, PCM, GONE, None, "no stream with its place, its id or its contents"),
            (at("gone", "12"), "twin", 110, PCM, MOVED, 11, "now in a.crate › p › 12"),
            (at("b", "3"), "", None, None, SAME, 2, ""),  # nothing was made against it yet
            (at("b", "1"), "one", None, None, SAME, 0, ""),  # by an earlier version, which wrote down less
        ):
            with self.subTest(str(where), stored=stored):
                verdict = told.judge(Was(where, digest, format, stored))
                self.assertEqual(
                    (verdict.kind, verdict.now and verdict.now.number, verdict.detail), (kind, now, detail)
                )
        self.assertEqual(len(self.read), len(set(self.read)))  # each payload once

    def test_streams_without_ids_go_by_their_number_and_their_contents(self):
        """As in a bank from which the first stream was taken: all others have another number."""
        told = self.build((at("b", "", 0), "two", 10, PCM), (at("b", "", 1), "three", 10, PCM))
        known = [Was(at("b", "", n), digest, PCM, 10) for n, digest in enumerate(("one", "two", "three"))]
        self.assertEqual(told.judge(known[0]).kind, CHANGED)  # by itself; beside the second one it is gone
        kinds = [(v.kind, v.now and v.now.number) for v in told.judge_all(known)]
        self.assertEqual(kinds, [(GONE, None), (MOVED, 0), (MOVED, 1)])

    def test_only_payloads_of_the_same_size_are_read(self):
        told = self.build((at("b", "1"), "one", 11, PCM), *((at("c", f"{n}"), "x", n, PCM) for n in range(100, 900)))
        self.assertEqual(told.judge(Was(at("b", "1"), "was", PCM, 10)).kind, CHANGED)
        self.assertEqual(self.read, [0])  # for its digest, not to compare it
