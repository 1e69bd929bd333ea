"""The stand-in's hold is strict: every fault that a rebuild could make is refused by name."""

import struct

from django.test import SimpleTestCase

from standin import chart
from tests.support import noise

FILES = [
    ("a.txt", b"text " * 300, chart.ZSTD),
    ("b.raw", noise(70_000).tobytes(), chart.LZ4),
    ("c", b"plain", chart.PLAIN),
]


class Refusals(SimpleTestCase):
    def read(self, index: bytes, volumes: list[bytes], build: str = "1.0") -> str:
        """Why the game refuses; empty where it does not."""

        class No(Exception):
            pass

        def need(condition, why):
            if not condition:
                raise No(why)

        try:
            found = chart.read(index, build, lambda n: volumes[n], need)
        except No as e:
            return str(e)
        self.assertEqual(found, {chart.name_hash(p): d for p, d, _ in FILES})
        return ""

    def edited(self, row: int, at: int, form: str, value: int) -> bytes:
        """The index with a number of a record changed, its sum and encryption put right."""
        import zlib

        index, _ = chart.chart("1.0", FILES)
        head = list(chart.HEAD.unpack_from(index))
        table = bytearray(chart.crypt(index[chart.HEAD.size :], chart.KEYS["1.0"], head[6]))
        struct.pack_into(form, table, row * chart.RECORD.size + at, value)
        head[5] = zlib.crc32(table)
        return chart.HEAD.pack(*head) + chart.crypt(bytes(table), chart.KEYS["1.0"], head[6])

    def test_what_is_whole_is_read_and_each_fault_refused(self):
        index, volumes = chart.chart("1.0", FILES)
        self.assertEqual(self.read(index, volumes), "")
        self.assertIn("another mark", self.read(b"X" + index[1:], volumes))
        self.assertIn("version", self.read(index[:4] + b"\x09\0" + index[6:], volumes))
        self.assertIn("another length", self.read(index[:-1], volumes))
        self.assertIn("can't be read with this game's key", self.read(index, volumes, "1.1"))
        spoilt = bytearray(index)
        spoilt[-1] ^= 1
        self.assertIn("can't be read", self.read(bytes(spoilt), volumes))
        for row, at, form, value, word in (
            (0, 8, "<B", 7, "volume 7"),
            (0, 9, "<B", 9, "no good"),
            (1, 10, "<H", 1, "no good"),
            (1, 12, "<I", 1 << 20, "leaves its volume"),
            (1, 20, "<I", 70_001, "can't be unpacked"),
            (2, 24, "<I", 1, "the sum is wrong"),
        ):
            self.assertIn(word, self.read(self.edited(row, at, form, value), volumes), word)
        broken = [bytearray(v) for v in volumes]
        broken[0][600] ^= 0xFF
        self.assertTrue(self.read(index, [bytes(v) for v in broken]))
        self.assertIn("more than", self.read(index, [volumes[0] + bytes(chart.VOLUME)]))

    def test_names_are_hashed_in_small_letters(self):
        """draft-eastlake-fnv: FNV-1a of "a", 64 bits."""
        self.assertEqual(chart.name_hash("A"), 0xAF63DC4C8601EC8C)

    def test_volumes_are_never_larger_than_their_limit(self):
        _, volumes = chart.chart("1.0", [(f"{n}", noise(100_000, seed=n).tobytes(), chart.PLAIN) for n in range(9)])
        self.assertGreater(len(volumes), 2)
        self.assertTrue(all(len(v) <= chart.VOLUME and len(v) % chart.GRID == 0 for v in volumes))
