"""Ways of packing of our own, against plain decoders and against other people's programs.

Sources: J. A. Storer, T. G. Szymanski, Data Compression via Textual Substitution (JACM 29, 1982); TIFF 6.0, section 9; RFC 1951,
3.2.6; Debian's mscompress (a window of 4,096 bytes of spaces, begun 16 before its end), lzop and brotli as programs.
"""

import random
import re
import subprocess
import tempfile
import zlib
from pathlib import Path

import cramjam
import lzallright
from django.test import SimpleTestCase

from tests.support import ROOT, bytes_of, problem_of, source
from zubret_core.source.coders.huffman import Huffman, canonical, code_lengths
from zubret_core.source.coders.lzss import Lzss
from zubret_core.source.coders.runs import Runs
from zubret_core.source.packing import METHODS
from zubret_core.source.steps import Chain, Coded, Packed

CLASSIC = Lzss(start=4080, initial=b" ")
TEXT = (ROOT / "docs/layout-language.md").read_bytes()
SHAPES = {
    "distances in groups of 8": Lzss(),
    "groups of 16, high first": Lzss(
        code=(("length", 5), ("offset", 11)), big=True, flags=2, high_first=True, literal=0
    ),
    "three bytes, far back": Lzss(1 << 17, 4, (("offset", 17), ("length", 7)), flags=4),
    "a stream of bits": Lzss(1024, 2, (("offset", 10), ("length", 3)), flags=0, high_first=True),
    "a stream of bits, low first": Lzss(512, 2, (("length", 4), ("offset", 9)), flags=0, literal=0),
    "a window": CLASSIC,
    "an end": Lzss(4095, 2, (("offset", 12), ("length", 4)), nearest=0, end=0),
    "an end in a stream of bits": Lzss(255, 2, (("offset", 8), ("length", 4)), flags=0, nearest=0, end=0),
}


def samples() -> dict[str, bytes]:
    chance = random.Random(4)
    return {
        "text": TEXT[:40_000],
        "zeros": bytes(70_000),
        "noise": chance.randbytes(5000),
        "few": b"ab",
        "waves": bytes(int(abs(n * n % 977)) & 0xF8 for n in range(30_000)),
        "mixed": b"".join(bytes([chance.randrange(4)]) * chance.randrange(1, 300) for _ in range(200)),
    }


def plain_lzss(how: Lzss, data: bytes, size: int) -> bytes:
    """A decoder after the paper, item by item, with nothing but a window that is written round and round."""
    bits = "".join(f"{b:08b}" if how.high_first else f"{b:08b}"[::-1] for b in data)
    window, out, at, bit = bytearray(how.window), bytearray(), 0, 0
    if how.initial:
        window = bytearray(how.initial * how.window)[: how.window]
    place, flags, order = how.start or 0, [], "big" if how.big else "little"

    def take(count: int) -> int:
        nonlocal bit
        text, bit = bits[bit : bit + count], bit + count
        return int(text if how.high_first else text[::-1], 2)

    def put(byte: int) -> None:
        nonlocal place
        window[place], place = byte, (place + 1) % how.window
        out.append(byte)

    while len(out) < size:
        if how.flags:
            if not flags:
                number = int.from_bytes(data[at : at + how.flags], order)
                text = f"{number:0{8 * how.flags}b}"
                flags, at = [int(c) for c in (text if how.high_first else text[::-1])], at + how.flags
            flag = flags.pop(0)
        else:
            flag = take(1)
        if flag == how.literal:
            if how.flags:
                put(data[at])
                at += 1
            else:
                put(take(8))
            continue
        numbers, held = {"offset": 0, "length": 0}, {"offset": 0, "length": 0}
        width = sum(n for _, n in how.code) // 8
        code, whole = int.from_bytes(data[at : at + width], order), 0
        for shift, (what, count) in zip(
            [sum(n for _, n in how.code[:k]) for k in range(len(how.code))], how.code, strict=True
        ):
            part = code >> shift & (1 << count) - 1 if how.flags else take(count)
            numbers[what] |= part << held[what]
            held[what] += count
            whole |= part << shift
        at += width
        if whole == how.end:
            break
        start = numbers["offset"] if how.start is not None else place - numbers["offset"] - how.nearest
        for n in range(numbers["length"] + how.shortest):
            put(window[(start + n) % how.window])
    return bytes(out)


def shortest_items(data: bytes, window: int, shortest: int, longest: int) -> int:
    """Bits of an optimal parse (every longest match, every length), of items of 9 and 17 bits."""
    cost = [0] * (len(data) + 1)
    for n in range(len(data) - 1, -1, -1):
        length, before = 0, data[max(0, n - window) : n + longest - 1]
        while length < longest and n + length < len(data):
            found = before[: len(before) - (longest - 1) + length].find(data[n : n + length + 1])
            if found < 0:
                break
            length += 1
        cost[n] = min([cost[n + 1] + 9, *(cost[n + k] + 17 for k in range(shortest, length + 1))])
    return cost[0]


def through(coder, data: bytes, name: str = "x") -> tuple[bytes, bytes]:
    """What is stored of some bytes, and what comes out of that again."""
    chain = Chain([Coded(coder, name)])
    stored = bytes_of(chain.packed(source(data)))
    return stored, bytes_of(chain.unpacked(source(stored), len(data)))


class Coders(SimpleTestCase):
    def test_lzss_of_any_shape_is_read_by_a_plain_decoder(self):
        for name, how in SHAPES.items():
            for kind, data in samples().items():
                with self.subTest(f"{name}: {kind}"):
                    stored, back = through(how, data)
                    self.assertEqual(back, data)
                    self.assertEqual(plain_lzss(how, stored, len(data)), data)

    def test_lzss_is_nearly_as_short_as_can_be(self):
        for data in (TEXT[:6000], samples()["waves"][:4000]):
            best = shortest_items(data, 4096, 3, 18)
            stored, _ = through(Lzss(), data)
            self.assertLess(len(stored) * 8, best * 1.05 + 16)

    def test_lzss_against_mscompress(self):
        """Its files: 14 bytes in front (mark, kind, a letter, u32 unpacked size), then the stream."""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "text.txt")
            for data in (TEXT, samples()["mixed"], samples()["noise"]):
                path.write_bytes(data)
                subprocess.run(["mscompress", "text.txt"], cwd=folder, check=True, capture_output=True)
                theirs = Path(folder, "text.txt_").read_bytes()
                head, chain = theirs[:14], Chain([Coded(CLASSIC, "lzss")])
                self.assertEqual(int.from_bytes(head[10:], "little"), len(data))
                self.assertEqual(bytes_of(chain.unpacked(source(theirs[14:]), len(data))), data)
                ours = bytes_of(chain.packed(source(data)))
                self.assertLess(len(ours), 1.05 * (len(theirs) - 14) + 2)
                path.unlink()
                Path(folder, "text.txt_").write_bytes(head + ours)
                subprocess.run(["msexpand", "text.txt_"], cwd=folder, check=True, capture_output=True)
                self.assertEqual(path.read_bytes(), data)
                for file in Path(folder).iterdir():
                    file.unlink()

    def test_runs_in_every_form(self):
        def plain(how: Runs, data: bytes) -> bytes:
            out, at = b"", 0
            while at < len(data):
                n = data[at]
                if how.form == "top-bit":
                    count, is_run = n & 127, (n > 127) == how.runs_high
                elif how.form == "signed":  # TIFF 6.0, section 9: -n as one byte
                    count, is_run = (256 - n if n > 128 else n), n > 128
                elif how.form == "escape":
                    if n != how.mark:
                        out, at = out + bytes([n]), at + 1
                        continue
                    if not how.value_first and data[at + 1] == 0:
                        out, at = out + bytes([n]), at + 2
                        continue
                    value, count = data[at + 1 : at + 3] if how.value_first else data[at + 2 : at : -1]
                    out, at = out + (bytes([n]) if not count else bytes([value]) * (count - 1 + how.run)), at + 3
                    continue
                else:
                    value, count = (data[at], data[at + 1]) if how.value_first else (data[at + 1], data[at])
                    out, at = out + bytes([value]) * (count + how.run), at + 2
                    continue
                if is_run:
                    out, at = out + data[at + 1 : at + 2] * (count + how.run), at + 2
                else:
                    out, at = out + data[at + 1 : at + 1 + count + how.plain], at + 1 + count + how.plain
            return out

        forms = [Runs(), Runs(run=3, runs_high=False), Runs("signed"), Runs("escape", 4, mark=7)]
        forms += [Runs("escape", 1, mark=0, value_first=True), Runs("pairs"), Runs("pairs", 0, value_first=True)]
        for how in forms:
            for kind, data in samples().items():
                with self.subTest(f"{how}: {kind}"):
                    stored, back = through(how, data)
                    self.assertEqual((back, plain(how, stored)), (data, data))
        for count in (3, 258, 259, 260, 519):  # 258 is the longest run
            data = b"\1" * 9 + b"\0" * count + b"\1" * 4
            self.assertEqual(through(Runs("pairs", 3), data)[1], data)
        told = problem_of(self, through, Runs("pairs", 3), b"\1" * 9 + b"\0\0")
        self.assertIn("at byte 9 a run is shorter than 3", told.what)
        example = bytes.fromhex(
            "fe aa 02 80 00 2a fd aa 03 80 00 2a 22 f7 aa"
        )  # the worked example of Technical Note TN1023
        wanted = bytes.fromhex("aaaaaa80002aaaaaaaaa80002a22aaaaaaaaaaaaaaaaaaaa")
        self.assertEqual(bytes_of(Chain([Coded(Runs("signed"), "runs")]).unpacked(source(example), 24)), wanted)
        self.assertEqual(through(Runs("signed"), wanted)[0], example)

    def test_huffman_codes_are_those_of_deflate_and_as_short_as_can_be(self):
        lengths = [8] * 144 + [9] * 112 + [7] * 24 + [8] * 8  # RFC 1951, 3.2.6
        order = sorted(range(288), key=lambda n: (lengths[n], n))
        codes = dict(zip(order, canonical([lengths[n] for n in order]), strict=True))
        data = bytes(random.Random(1).sample(range(144), 144))
        packer = zlib.compressobj(9, zlib.DEFLATED, -15, 9, zlib.Z_FIXED)
        theirs = packer.compress(data) + packer.flush()
        bits = "".join(f"{b:08b}"[::-1] for b in theirs)[3:]
        ours = "".join(f"{codes[b]:0{lengths[b]}b}" for b in data) + "0000000"
        self.assertTrue(bits.startswith(ours))
        for counts in ([1, 1, 2, 3, 5, 8, 13, 21, 34, 55, 89], [7] * 256, [0, 3, 0]):
            found = code_lengths(counts, 15)
            trees = sorted(c for c in counts if c)
            cost = 0
            while len(trees) > 1:  # Huffman 1952: the two rarest become one
                both, trees = trees[0] + trees[1], trees[2:]
                cost, trees = cost + both, sorted([*trees, both])
            self.assertEqual(sum(n * c for n, c in zip(found, counts, strict=True)), cost or 3)
            self.assertLessEqual(max(code_lengths(counts, 8)), 8)
        for how in (Huffman(), Huffman("nibbles", 12, False), Huffman("counts", 16 - 1)):
            for kind, data in samples().items():
                with self.subTest(f"{how}: {kind}"):
                    self.assertEqual(through(how, data)[1], data)
        never = (
            bytes(range(64)) * 3000 + b"\1"
        )  # codes of six bits do not fall into step with those that begin two bits later
        for data in (never, b"ab" * 90_000 + bytes(range(99)), *(b"ab" * 900 + b"a" * n for n in range(10))):
            for high_first in (False, True):
                chain = Chain([Coded(Huffman("bytes", 13, high_first), "x")])
                stored = bytes_of(chain.packed(source(data))) + bytes(16)  # an entry may be filled up
                self.assertEqual(bytes_of(chain.unpacked(source(stored), len(data))), data)
        alike = bytes(range(256)) * 9
        self.assertEqual(through(Huffman("counts"), alike)[1], alike)
        told = problem_of(self, through, Huffman("counts", 8), alike)
        self.assertIn("can say 256", told.what)

    def test_libraries_against_programs_and_each_other(self):
        blocks = 0
        for data in samples().values():
            for method in ("brotli", "snappy", "lzo"):
                chain = Chain([Packed(method)])
                stored = bytes_of(chain.packed(source(data)))
                self.assertEqual(bytes_of(chain.unpacked(source(stored), len(data))), data, method)
            self.assertEqual(lzallright.LZOCompressor.decompress(stored), data)
            self.assertEqual(
                bytes(cramjam.snappy.decompress_raw(bytes_of(Chain([Packed("snappy")]).packed(source(data))))), data
            )
            theirs = subprocess.run(["brotli", "-c", "-"], input=data, check=True, capture_output=True).stdout
            self.assertEqual(bytes_of(Chain([Packed("brotli")]).unpacked(source(theirs), len(data))), data)
            for level in ("-1", "-9"):
                made = subprocess.run(["lzop", "-c", level], input=data, check=True, capture_output=True).stdout
                size, packed = (int.from_bytes(made[at : at + 4], "big") for at in _block_of(made))
                block = made[_block_of(made)[1] + 8 :][:packed] if packed < size else b""
                if block and size == len(data):
                    blocks += 1
                    self.assertEqual(bytes_of(Chain([Packed("lzo")]).unpacked(source(block), size)), data)

        self.assertGreaterEqual(blocks, 6)

    def test_what_an_entry_is_filled_up_with_is_no_part_of_its_stream(self):
        for method in METHODS:
            for kind, data in samples().items():
                stored = bytes_of(Chain([Packed(method)]).packed(source(data)))
                more = stored if method in ("zstd", "gzip") else b""  # frames, or members, one behind the other
                for fill in (b"\0", b"\xcc"):
                    with self.subTest(f"{method}: {kind}, {fill}"):
                        found = Chain([Packed(method)]).unpacked(
                            source(stored + more + 61 * fill), len(data) * (2 if more else 1)
                        )
                        self.assertEqual(bytes_of(found), data * (2 if more else 1))
                if method in ("zstd", "lz4-block", "snappy"):
                    problem_of(self, lambda s=stored, m=method, d=data: bytes_of(
                        Chain([Packed(m)]).unpacked(source(s + b"another"), len(d))
                    ))  # fmt: skip

    def test_dictionaries(self):
        known = TEXT[:3000]
        for method in ("zstd", "lz4-block"):
            with_it, without = Chain([Packed(method, None, known)]), Chain([Packed(method)])
            data = TEXT[1000:2000]
            stored = bytes_of(with_it.packed(source(data)))
            self.assertLess(len(stored), 0.2 * len(bytes_of(without.packed(source(data)))))
            self.assertEqual(bytes_of(with_it.unpacked(source(stored), len(data))), data)
            problem_of(self, lambda s=stored, w=without: bytes_of(w.unpacked(source(s), 1000)))

    def test_damage_and_bombs_are_errors(self):
        chance = random.Random(9)
        coders = [Coded(how, "lzss") for how in SHAPES.values()]
        coders += [
            Coded(Runs(), "runs"),
            Coded(Huffman(), "huffman"),
            Packed("lzo"),
            Packed("snappy"),
            Packed("brotli"),
        ]
        data = TEXT[:3000]
        for step in coders:
            chain = Chain([step])
            stored = bytes_of(chain.packed(source(data)))
            with self.subTest(step):
                problem_of(self, lambda c=chain, s=stored: bytes_of(c.unpacked(source(s), len(data) + 9)))
                problem_of(self, lambda c=chain, s=stored: bytes_of(c.unpacked(source(s[: len(s) // 2]), len(data))))
                for _ in range(60):
                    bad = bytearray(stored)
                    bad[chance.randrange(len(bad))] ^= 1 << chance.randrange(8)
                    try:
                        out = bytes_of(chain.unpacked(source(bytes(bad)), len(data)))
                        self.assertEqual(len(out), len(data))
                    except Exception as e:
                        self.assertEqual(type(e).__name__, "ZubretError", e)
        zeros = bytes_of(Chain([Packed("lzo")]).packed(source(bytes(1 << 22))))
        self.assertIn(
            "too many", problem_of(self, lambda: bytes_of(Chain([Packed("lzo")]).unpacked(source(zeros), 1000))).what
        )


def _block_of(made: bytes) -> tuple[int, int]:
    """Where an lzop file's first block says its unpacked and its packed size: behind a header of variable length."""
    found = re.match(rb"\x89LZO\x00\r\n\x1a\n", made)
    at = found.end() + 2 + 2 + 2 + 1 + 1 + 4 + 4 + 4 + 4
    at += 1 + made[at] + 4
    return at, at + 4
