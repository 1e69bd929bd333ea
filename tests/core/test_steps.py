"""Transform steps and sums against published vectors and Debian's own tools."""

import functools
import gzip
import itertools
import struct
import subprocess
import tempfile
import zlib
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase

from tests.support import bytes_of, noise, problem_of, source
from zubret_core.base import ZubretError
from zubret_core.source import BytesSource, DiskCache, SourceFile
from zubret_core.source.locks import Aes, Beginning, Generator, Row, Swap
from zubret_core.source.packing import METHODS
from zubret_core.source.steps import Chain, Chunked, Packed
from zubret_core.source.sums import CRCS, SUMS, Crc, Words, crc_of, sum_of, sum_over, words_of

TEXT = b"The night ferry crosses the inland sea. " * 4000 + noise(9000).tobytes()


DRAWN = Generator(1, 1103515245, 12345, shift=16, mask=0x7FFF, width=2)
"""The example of ISO C (C11, 7.22.2.2), whose first numbers are 16838, 5758, 10113, 17515 and 31051."""


def turned(step, stored: bytes, size: int | None = None) -> bytes:
    return bytes_of(Chain([step]).unpacked(source(stored), len(stored) if size is None else size))


class Ciphers(SimpleTestCase):
    def test_aes_of_fips_197(self):
        """FIPS 197, appendix C."""
        plain = bytes.fromhex("00112233445566778899aabbccddeeff")
        for size, cipher in (
            (16, "69c4e0d86a7b0430d8cdb78070b4c55a"),
            (24, "dda97ca4864cdfe06eaf70a0ec0d7191"),
            (32, "8ea2b7ca516745bfeafc49904b496089"),
        ):
            step = Aes(bytes(range(size)))
            self.assertEqual(turned(step, bytes.fromhex(cipher)), plain)
            self.assertEqual(bytes_of(step.packed(source(plain))).hex(), cipher)
            self.assertNotIn("000102", repr(step))

    def test_modes_of_sp_800_38a(self):
        """SP 800-38A, F.1.1, F.2.1 and F.5.1: the first two blocks; any span of them read by itself."""
        key = bytes.fromhex("2b7e151628aed2a6abf7158809cf4f3c")
        plain = bytes.fromhex("6bc1bee22e409f96e93d7e117393172aae2d8a571e03ac9c9eb76fac45af8e51")
        for mode, iv, cipher in (
            ("ecb", "00" * 16, "3ad77bb40d7a3660a89ecaf32466ef97f5d3d58503b9699de785895a96fdbaaf"),
            ("cbc", "000102030405060708090a0b0c0d0e0f",
             "7649abac8119b246cee98e9b12e9197d5086cb9b507219ee95db113a917678b2"),
            ("ctr", "f0f1f2f3f4f5f6f7f8f9fafbfcfdfeff",
             "874d6191b620e3261bef6864990db6ce9806f66b7970fdff8617187bb9fffdff"),
        ):  # fmt: skip
            step = Aes(key, mode, bytes.fromhex(iv))
            stored = source(bytes.fromhex(cipher))
            view = Chain([step]).unpacked(stored, 32)
            for at in range(32):
                self.assertEqual(view.read(at, 32 - at), plain[at:], mode)
            self.assertEqual(bytes_of(step.packed(source(plain))).hex(), cipher)
            long = TEXT[: 3 * (1 << 20) // 2 + 5]  # over several pieces, and no whole number of blocks
            self.assertEqual(turned(step, bytes_of(step.packed(source(long)))), long)

    def test_rows_and_order(self):
        self.assertEqual(turned(Row(b"\x0f\xf0"), b"\x00\x00\xff"), b"\x0f\xf0\xf0")
        self.assertEqual(turned(Row(b"\x01\x02", "add"), b"\x00\x00\x05"), b"\xff\xfe\x04")
        self.assertEqual(turned(Row(b"\x03", "rotate"), b"\x0c\x80"), b"\x81\x10")
        numbers = b"".join(n.to_bytes(2, "little") for n in (16838, 5758, 10113, 17515, 31051))
        self.assertEqual(turned(DRAWN, bytes(10)), numbers)
        seeded = Generator(0xC1, 5, 3, 8, does="add", first=True)
        self.assertEqual(turned(seeded, bytes([0xC1, 0xC8 + 1])), b"\0\1")
        self.assertEqual(turned(Beginning(DRAWN, 3), bytes(5)), numbers[:3] + b"\0\0")
        self.assertEqual(turned(Swap(4), b"abcdefg"), b"dcbaefg")
        for step in (Row(b"key"), Row(b"key", "add"), Row(b"key", "rotate"), Swap(8), DRAWN, Beginning(DRAWN, 7)):
            view = Chain([step]).unpacked(step.packed(source(TEXT)), len(TEXT))
            self.assertEqual(view.read(12_345, 99), TEXT[12_345:12_444])


class Packing(SimpleTestCase):
    TOOLS = {"gzip": "gzip", "bzip2": "bzip2", "xz": "xz", "zstd": "zstd", "lz4": "lz4"}

    def run_tool(self, tool: str, *args: str, data: bytes) -> bytes:
        return subprocess.run([tool, *args], input=data, capture_output=True, check=True).stdout

    def test_what_debian_s_tools_pack_we_unpack_and_the_other_way(self):
        for method, tool in self.TOOLS.items():
            theirs = self.run_tool(tool, "-c", data=TEXT)
            self.assertEqual(turned(Packed(method), theirs, len(TEXT)), TEXT, method)
            ours = bytes_of(Packed(method).packed(source(TEXT)))
            self.assertEqual(self.run_tool(tool, "-dc", data=ours), TEXT, method)
        lzma = self.run_tool("xz", "--format=lzma", "-c", data=TEXT)
        self.assertEqual(turned(Packed("lzma"), lzma, len(TEXT)), TEXT)
        self.assertEqual(turned(Packed("gzip"), self.run_tool("gzip", "-c", data=b"one") * 2, 6), b"oneone")

    def test_a_gzip_stream_that_is_packed_again_keeps_its_header(self):
        """RFC 1952, section 2.3.1, with a name and a time by Debian's gzip, and with every optional field."""
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "a file.txt"
            place.write_bytes(TEXT)
            theirs = subprocess.run(["gzip", "-c", place], capture_output=True, check=True).stdout
        full = b"\x1f\x8b\x08\x1e\1\2\3\4\2\7" + b"\3\0xyz" + b"name\0" + b"comment\0"
        full += struct.pack("<H", zlib.crc32(full) & 0xFFFF)
        for old, head in ((theirs, theirs[: theirs.index(b".txt\0") + 5]), (full + gzip.compress(b"")[10:], full)):
            again = bytes_of(Packed("gzip").packed(source(b"new " + TEXT), source(old)))
            self.assertTrue(again.startswith(head))
            self.assertEqual(self.run_tool("gzip", "-dc", data=again), b"new " + TEXT)

    def test_what_takes_long_to_pack_is_packed_once_and_kept_by_its_content(self):
        plain, chain = noise(3 << 20).tobytes(), Chain([Packed("zlib", 1)])
        with tempfile.TemporaryDirectory() as folder:
            cache = DiskCache(Path(folder), 1 << 30)
            first = bytes_of(chain.packed(source(plain), None, cache))
            place = next(Path(folder).iterdir())
            place.write_bytes(first[::-1])  # what is kept is what comes, as long as the content is the same
            self.assertEqual(bytes_of(chain.packed(source(plain), None, cache)), first[::-1])
            other = bytes_of(chain.packed(source(plain[:-1] + b"!"), None, cache))
        self.assertEqual((zlib.decompress(first), zlib.decompress(other)), (plain, plain[:-1] + b"!"))

    def test_each_method_there_and_back_and_never_more_than_declared(self):
        for method in METHODS:
            for data in (b"", b"x", TEXT):
                stored = bytes_of(Packed(method).packed(source(data)))
                self.assertEqual(turned(Packed(method), stored, len(data)), data, method)
            for size in (len(TEXT) - 1, len(TEXT) + 1):
                problem_of(self, turned, Packed(method), stored, size)
            problem_of(self, turned, Packed(method), stored[:-9], len(TEXT))
            self.assertEqual(Chain([Packed(method)]).head(source(stored), len(TEXT), 64), TEXT[:64], method)

    def test_a_bomb_gives_no_more_than_its_table_says(self):
        """1 GB of zeros in about a megabyte: only 1,000 bytes come out before it is refused."""
        with tempfile.TemporaryFile() as file:
            subprocess.run("head -c 1000000000 /dev/zero | gzip -1", shell=True, stdout=file, check=True)
            file.seek(0)
            error = problem_of(self, turned, Packed("gzip"), file.read(), 1000)
        self.assertIn("more than the 1,000 bytes", error.what)
        problem_of(self, turned, Packed("lz4-block"), b"\x1f" + b"\xff" * 50, 1 << 32)

    def test_chunks_in_every_form_are_read_from_the_middle(self):
        inside, size, count = Chain([Packed("lz4-block")]), 1 << 12, len(TEXT) // (1 << 12) + 1
        ways = [(says, behind) for says in ("begins", "bounds", "ends") for behind in (False, True)]
        for plain in ("top", "equal", "never"):
            plainly = Chunked(size, inside, 3, "big", "table", plain)
            sizes = np.array([length for _, length, _ in plainly.spans(plainly.packed(source(TEXT)), len(TEXT))])
            for place, says, behind in [
                ("inline", "sizes", False),
                ("table", "sizes", False),
                *(("table", *w) for w in ways),
            ]:
                for align in (4, 1)[says in ("begins", "bounds") :]:
                    step = Chunked(size, inside, 3, "big", place, plain, align, says, behind)
                    stored = bytes_of(step.packed(source(TEXT)))
                    view = Chain([step]).unpacked(source(stored), len(TEXT))
                    self.assertEqual(bytes_of(view), TEXT, f"{step}")
                    self.assertEqual(view.read(170_000, 5000), TEXT[170_000:175_000])
                    if place == "table" and align == 1:  # the numbers, added up by NumPy
                        ends = np.cumsum(sizes)
                        wanted = {"sizes": sizes, "ends": ends, "begins": ends - sizes, "bounds": np.append(0, ends)}[
                            says
                        ]
                        length = 3 * len(wanted)
                        wanted = wanted + (0 if behind or says == "sizes" else length)
                        table = np.frombuffer(stored[:length], np.uint8).reshape(-1, 3) @ (1 << np.array([16, 8, 0]))
                        np.testing.assert_array_equal(table % (1 << 23), wanted)
                        self.assertEqual(len(stored), length + ends[-1])
                    for at in range(0, 3 * count, 50) if place == "table" else ():
                        lie = stored[:at] + bytes([stored[at] ^ 3]) + stored[at + 1 :]
                        try:
                            self.assertNotEqual(turned(step, lie, len(TEXT)), TEXT)
                        except ZubretError:
                            pass
        lies = (2).to_bytes(3, "big") * count + b"xx"
        self.assertIn("does not fit", problem_of(self, turned, Chunked(size, inside, 3, "big"), lies, len(TEXT)).what)
        problem_of(self, turned, Chunked(16, inside), b"1234", 1 << 30)
        for says in ("sizes", "ends"):
            short = Chunked(1 << 15, Chain([Packed("lz4-block")]), 2, "little", "table", "top", says=says)
            self.assertIn("can say here", problem_of(self, short.packed, source(noise(1 << 15).tobytes())).what)

    def test_chains_undo_each_other_in_order(self):
        chain = Chain([Aes(bytes(32), "ctr"), Packed("zstd"), Row(b"k"), Packed("zlib")])
        stored = bytes_of(chain.packed(source(TEXT)))
        self.assertEqual(bytes_of(chain.unpacked(source(stored), len(TEXT))), TEXT)

    def test_a_tool_reads_what_stands_in_a_file_of_ours(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "x.zst"
            place.write_bytes(bytes_of(Packed("zstd", 19).packed(source(TEXT))))
            self.assertEqual(self.run_tool("zstd", "-t", str(place), data=b""), b"")
            with BytesSource(place.read_bytes()) as ours:
                self.assertEqual(SourceFile(ours).read(4), bytes.fromhex("28b52ffd"))  # RFC 8878, 3.1.1


class Sums(SimpleTestCase):
    def test_published_values(self):
        nine = [b"1234", b"56789"]
        # The CRC RevEng catalogue's check values.
        for name, value in {
            "crc32": 0xCBF43926, "crc32c": 0xE3069283, "crc32-bzip2": 0xFC891918, "crc16": 0xBB3D,
            "crc16-ccitt": 0x29B1, "crc64-xz": 0x995DC9BBDF1939FA,
        }.items():  # fmt: skip
            self.assertEqual(SUMS[name](iter(nine)), value, name)
            self.assertEqual(crc_of(nine, CRCS[name]), value, name)
        self.assertEqual(crc_of(nine, Crc(8, 0x07)), 0xF4)  # CRC-8/SMBUS
        self.assertEqual(crc_of(nine, Crc(24, 0x864CFB, 0xB704CE)), 0x21CF02)  # CRC-24/OPENPGP, RFC 9580
        # RFC 1321 A.5, FIPS 180-4's examples, the xxHash specification's empty inputs; Adler-32 from memory.
        for name, data, value in (
            ("md5", b"abc", "900150983cd24fb0d6963f7d28e17f72"),
            ("sha1", b"abc", "a9993e364706816aba3e25717850c26c9cd0d89d"),
            ("sha256", b"abc", "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"),
        ):
            self.assertEqual(sum_of(name, source(data)).hex(), value)
        for name, data, value in (
            ("xxh32", b"", 0x02CC5D05),
            ("xxh64", b"", 0xEF46DB3751D8E999),
            ("xxh3-64", b"", 0x2D06800538D394C2),
            ("adler32", b"Wikipedia", 0x11E60398),
            ("added", b"\xff\x01", 256),
        ):
            self.assertEqual(sum_of(name, source(data)), value, name)

    def test_sums_of_whole_numbers(self):
        """Against plain sums of what struct unpacks, in pieces that end anywhere; OpenType 1.9.1 takes the sums of its tables so."""
        data = np.random.default_rng(6).bytes(1003)
        for (letter, width), order in itertools.product({"B": 1, "H": 2, "I": 4, "Q": 8}.items(), "<>"):
            numbers = struct.unpack(f"{order}{-(-1003 // width)}{letter}", data.ljust(1003 + -1003 % width, b"\0"))
            most = (1 << 8 * width) - 1
            pieces = [data[:7], data[7:8], b"", data[8:700], memoryview(data)[700:]]
            for does, wanted in (
                ("added", 5 + sum(numbers)), ("subtracted", 5 - sum(numbers)), ("xored", functools.reduce(int.__xor__, numbers, 5))
            ):  # fmt: skip
                how = Words(width, order == ">", does, 5, 0x33)
                self.assertEqual(words_of(pieces, how), (wanted ^ 0x33) & most, how)

    def test_hashes_of_names(self):
        """draft-eastlake-fnv, test vectors for "a" and "foobar"; djb2 by its definition."""
        for name, text, value in (
            ("fnv1a-32", b"a", 0xE40C292C),
            ("fnv1a-32", b"foobar", 0xBF9CF968),
            ("fnv1a-64", b"a", 0xAF63DC4C8601EC8C),
            ("fnv1a-64", b"foobar", 0x85944171F73967E8),
            ("djb2", b"a", 5381 * 33 + 97),
        ):
            self.assertEqual(sum_over(name, [text]), value, name)
