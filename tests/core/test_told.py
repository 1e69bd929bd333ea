"""Sizes that can't all be told: in sectors, up to where the next payload begins, or in whole blocks where nothing says a length. The
files are made by plain `struct`."""

import shutil
import struct
import tempfile
import zlib
from itertools import product
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase

from tests.support import bytes_of, edited, noise, peaking, problem_of, source, wav_file
from zubret_core.audio import look_through
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.bank.trial import check
from zubret_core.base import Format, Loop, ZubretError
from zubret_core.codec import codec_of
from zubret_core.container import DescribedArchive, GameFolder
from zubret_core.layout import load_layout
from zubret_core.locate import Known, Locator
from zubret_core.rebuild import EntryFile, StreamSwap, plan_rebuild, write_plan
from zubret_core.rebuild.expected import expectation
from zubret_core.rebuild.prove import prove
from zubret_core.source import FileSource
from zubret_core.swap import Treatment, fit_report, prepare

SECTOR = 64
FILL = {"archive": b"\x77", "bank": b"\0"}
LAYOUT = """
zubret: 1
id: told
describes: {kind}
recognise: [{{at: 0, bytes: "54 4f"}}]
{given}
regions:
  - name: head
    at: 0
    fields: [{{name: mark, type: bytes, length: 2}}, {{name: count, type: u16, means: {many}.count}}]
  - name: table
    after: head
    repeat: head.count
    fields:
      - {{name: id, type: u16, means: {one}.id}}
      - {{name: at, type: u16, means: {one}.at, unit: 64}}
{fields}
payload: {{align: 64, fill: "{fill}"{payload}}}
end: {{align: 64, fill: "{fill}"}}
"""
SECTORS = ("H", "{name: sectors, type: u16, means: ONE.stored, unit: 64}", "")
END = ("H", "{name: end, type: u16, means: ONE.end, unit: 64}", "")
NEXT = ("", "", ", sizes: next")
EXACT = ("H", "{name: stored, type: u16, means: ONE.stored}", "")


def described(kind: str, size: tuple, more: str, *, given: str = "", packed: str = "") -> str:
    one = {"archive": "entry", "bank": "stream"}[kind]
    many = {"archive": "entries", "bank": "streams"}[kind]
    fields = "\n".join(f"      - {text.replace('ONE', one)}" for text in (size[1], more) if text)
    return LAYOUT.format(
        kind=kind, one=one, many=many, fields=fields, given=given, payload=size[2] + packed, fill=FILL[kind].hex()
    )


def made(kind: str, size: tuple, payloads: list[bytes], exact: list[int]) -> bytes:
    """A file of such a layout. exact: what else each record says, none where it is empty."""
    data, at = b"TO" + struct.pack("<H", len(payloads)), 1
    for n, payload in enumerate(payloads):
        sectors = -(-len(payload) // SECTOR)
        told = {SECTORS: sectors, END: at + sectors, EXACT: len(payload)}.get(size)
        data += struct.pack("<HH", n, at) + (struct.pack("<H", told) if told else b"")
        data += struct.pack("<H", exact[n]) if exact else b""
        at += sectors
    filled = (p.ljust(-(-len(p) // SECTOR) * SECTOR, FILL[kind]) for p in payloads)
    return data.ljust(SECTOR, FILL[kind]) + b"".join(filled)


def places(data: bytes) -> list[int]:
    """Where the payloads of such a file begin."""
    count, first = struct.unpack_from("<H", data, 2)[0], 4
    width = (data.index(b"\x77\x77", first) - first) // count
    return [struct.unpack_from("<H", data, first + n * width + 2)[0] * SECTOR for n in range(count)]


class ToldSizes(SimpleTestCase):
    CONTENTS = [b"first " * 9, b"second" * 30 + b"!", b"last"]

    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)

    def proved(self, text: str, data: bytes, swaps: tuple = (), files: tuple = (), damage: bool = False) -> bytes:
        """A game's one file rebuilt; all of it is proved, and with damage that no changed byte stays green."""
        root, out = self.folder / "game", self.folder / "out"
        root.mkdir(exist_ok=True)
        (root / "x.bin").write_bytes(data)
        game = GameFolder(root)
        shutil.rmtree(out, ignore_errors=True)

        plans = plan_rebuild(game, list(swaps), files=list(files), known=Known([load_layout(text)]))
        write_plan(plans, out)
        expected = expectation(game, out, plans, [text], {})
        self.assertEqual([(p.label, p.found) for p in prove(expected) if not p.ok], [])
        good = (out / "x.bin").read_bytes()
        for at in range(0, len(good), 29) if damage else ():
            (out / "x.bin").write_bytes(edited(good, at, "<B", good[at] ^ 1))
            try:
                green = all(p.ok for p in prove(expected))
            except ZubretError:
                continue
            self.assertFalse(green, at)
        return good

    def test_entries_are_filled_up_and_what_is_in_them_is_what_was_given(self):
        exact = "{name: size, type: u16, means: ONE.size}"
        for size, with_size, packing in product(
            (SECTORS, END, NEXT), (False, True), ("", "zlib", "{by: xor, bytes: '05'}")
        ):
            if packing == "zlib" and not with_size:
                continue
            pack = {"": bytes, "zlib": zlib.compress}.get(packing, lambda c: bytes(b ^ 5 for b in c))
            text = described(
                "archive", size, exact if with_size else "", packed=f", packed: [{packing}]" if packing else ""
            )
            data = made(
                "archive", size, [pack(c) for c in self.CONTENTS], [len(c) for c in self.CONTENTS] if with_size else []
            )
            with self.subTest(size=size[1] or "next", with_size=with_size, packing=packing):
                self.assertTrue(check(load_layout(text), source(data)).ok)
                for n, new in ((0, b"longer than it was " * 9), (1, b"short"), (2, b"at the end" * 20)):
                    (self.folder / "new").write_bytes(new)
                    there = self.proved(text, data, files=(EntryFile("x.bin", str(n), n, self.folder / "new"),),
                                        damage=n == 0 and not packing)  # fmt: skip
                    wanted = [new if k == n else c for k, c in enumerate(self.CONTENTS)]
                    stored = [pack(c) for c in wanted]
                    self.assertEqual(
                        [there[at : at + len(c)] for at, c in zip(places(there), stored, strict=True)], stored
                    )
                    # Laid anew it is the file that those who made the first one would have made.
                    laid = DescribedArchive(load_layout(text), source(data)).rebuild({n: source(new)}, anew=True)
                    sizes = [len(c) for c in wanted] if with_size else []
                    self.assertEqual(bytes_of(laid.source), made("archive", size, stored, sizes))
                    archive = DescribedArchive(load_layout(text), source(there))
                    found = bytes_of(archive.open(n))
                    if with_size:
                        self.assertEqual(found, new)
                    else:
                        self.assertEqual((found[: len(new)], len(found)), (new, -(-len(new) // SECTOR) * SECTOR))

    def test_bodies_whose_sizes_count_words_or_bits(self):
        for tie, counts in (("unit: 4", lambda size: -(-size // 4)), ("per: 8", lambda size: size * 8)):
            text = f"""
zubret: 1
id: bodies
describes: archive
recognise: [{{at: 0, bytes: "42 4f"}}]
regions:
  - {{name: head, at: 0, fields: [{{name: mark, type: bytes, length: 2}}, {{name: count, type: u16, means: entries.count}}]}}
  - name: table
    after: head
    repeat: head.count
    fields: [{{name: id, type: u16, means: entry.id}}, {{name: size, type: u16, {tie}}}]
    body: {{size: size}}
"""

            def written(contents: list[bytes], counts=counts) -> bytes:
                rows = (
                    struct.pack("<HH", n, counts(len(c))) + c + (bytes(-len(c) % 4) if counts(1) == 1 else b"")
                    for n, c in enumerate(contents)
                )
                return b"BO" + struct.pack("<H", len(contents)) + b"".join(rows)

            data, layout = written(self.CONTENTS), load_layout(text)
            with self.subTest(tie):
                self.assertTrue(check(layout, source(data)).ok)
                changed = DescribedArchive(layout, source(data)).rebuild({1: source(b"seven b")})
                self.assertEqual(bytes_of(changed.source), written([self.CONTENTS[0], b"seven b", self.CONTENTS[2]]))
        problem = problem_of(self, DescribedArchive, layout, source(edited(data, 6, "<H", 433)))
        self.assertIn("no whole number of bytes", problem.what)

    def test_a_head_that_stands_in_the_record_is_not_counted(self):
        for more, size in (("", False), ("\n      - {name: size, type: u16, means: ONE.size}", True)):
            text = described("archive", SECTORS, "{name: head, type: bytes, length: 4, means: ONE.head}" + more)

            def written(contents: list[bytes], size=size) -> bytes:
                data, body = b"TO" + struct.pack("<H", len(contents)), b""
                for n, content in enumerate(contents):
                    rest = content[4:].ljust(-(-len(content[4:]) // SECTOR) * SECTOR, b"\x77")
                    data += struct.pack("<HHH", n, 1 + len(body) // SECTOR, len(rest) // SECTOR) + content[:4]
                    data, body = data + (struct.pack("<H", len(content)) if size else b""), body + rest
                return data.ljust(SECTOR, b"\x77") + body

            data, new = written(self.CONTENTS[:2]), b"64 bytes behind its head, so no filling: ".ljust(68, b"x")
            for content in (new, new + b"and one sector more"):
                with self.subTest(size=size, content=content):
                    self.assertTrue(check(load_layout(text), source(data)).ok)
                    (self.folder / "new").write_bytes(content)
                    there = self.proved(
                        text, data, files=(EntryFile("x.bin", "0", 0, self.folder / "new"),), damage=True
                    )
                    self.assertEqual(there, written([content, self.CONTENTS[1]]))

    def test_what_stands_last_is_filled_up_where_something_is_added_behind_it(self):
        name = "{name: path, type: text, length: 4, means: ONE.path}"
        text = described("archive", NEXT, name).replace("means: entry.id", "shown: hex").partition("end: ")[0]
        data = b"TO" + struct.pack("<H", 2) + struct.pack("<HH4s", 7, 1, b"a") + struct.pack("<HH4s", 7, 2, b"b")
        data = data.ljust(64, b"\x77") + b"first".ljust(64, b"\x77") + b"and last"
        (self.folder / "new").write_bytes(b"added")
        there = self.proved(text, data, files=(EntryFile("x.bin", "c", None, self.folder / "new"),), damage=True)
        self.assertEqual((there[128:192], there[192:]), (b"and last".ljust(64, b"\x77"), b"added"))

    def test_a_stream_is_as_long_as_its_bank_can_tell(self):
        frames = "{name: frames, type: u16, means: ONE.frames}"
        for codec, size, with_frames in product(("pcm16", "ima-adpcm"), (SECTORS, END, NEXT, EXACT), (False, True)):
            block = 12 if codec == "ima-adpcm" else 0
            form = Format(codec, 8000, 1, 1, None, block)
            made_of = {
                n: bytes(codec_of(form).encode(noise(n, 1, seed=n), form.with_(frames=n))) for n in (77, 200, 150)
            }
            given = f"given: {{stream.codec: {codec}, stream.rate: 8000" + (
                f", stream.block_size: {block}}}" if block else "}"
            )
            text = described("bank", size, frames if with_frames else "", given=given)
            data = made("bank", size, list(made_of.values()), list(made_of) if with_frames else [])
            with self.subTest(codec=codec, size=size[1] or "next", with_frames=with_frames):
                self.assertTrue(check(load_layout(text), source(data)).ok)
                stream = DescribedBank(load_layout(text), source(data)).streams[1]
                pcm = noise(333, 1, seed=3)
                file = FileSource(wav_file(self.folder / "new.wav", pcm, 8000))
                info = look_through(file)
                report = fit_report(stream, peaking(-3.0), info, Treatment())
                result = prepare(stream, file, info, Treatment(), report)
                stored = -(-333 // 17) * 12 if block else 666
                stored = stored if size == EXACT else -(-stored // SECTOR) * SECTOR
                told = 333 if with_frames else stored // 12 * 17 if block else stored // 2
                self.assertEqual(result.format.frames, told)
                length = next(p for p in report.points if p.key == "length")
                self.assertEqual("in steps only" in length.action, told > 333)
                (self.folder / "new").write_bytes(bytes_of(result.payload))
                swap = StreamSwap(
                    Locator("x.bin", (("x.bin", 0),), "", 1), self.folder / "new", result.format, result.snr_db
                )
                there = self.proved(text, data, swaps=(swap,), damage=size is NEXT)
                heard = DescribedBank(load_layout(text), source(there)).streams[1]
                self.assertEqual(heard.format.frames, told)
                if not block:
                    np.testing.assert_array_equal(heard.decode(0, told), np.pad(pcm, ((0, told - 333), (0, 0))))

    def test_a_file_that_is_one_stream_and_ends_on_a_grid(self):
        text = """
zubret: 1
id: one
describes: stream
recognise: [{at: 0, bytes: "48 4f"}]
given: {stream.codec: ima-adpcm, stream.block_size: 12}
regions:
  - {name: head, at: 0, fields: [{name: mark, type: bytes, length: 2}, {name: rate, type: u16, means: stream.rate}]}
end: {align: 32, fill: "00"}
"""
        form = Format("ima-adpcm", 8000, 1, 170, None, 12)
        payload = bytes(codec_of(form).encode(noise(170, 1), form))
        data = (b"HO" + struct.pack("<H", 8000) + payload).ljust(128, b"\0")
        self.assertTrue(check(load_layout(text), source(data)).ok)
        told = DescribedBank(load_layout(text), source(data)).streams[0].told(form.with_(frames=333))
        self.assertEqual(told.frames, (256 - 4) // 12 * 17)  # 240 bytes and four would end at 244
        (self.folder / "new").write_bytes(bytes(codec_of(told).encode(noise(told.frames, 1, seed=4), told)))
        place = Locator("x.bin", (("x.bin", 0),), "", 0)
        self.proved(text, data, swaps=(StreamSwap(place, self.folder / "new", told, 9.0),), damage=True)

    def test_loops_that_go_to_the_end(self):
        flag = "{name: on, type: i16, means: ONE.looped}"
        begins = "{name: begin, type: i16, means: ONE.loop_start}"
        start = "{name: begin, type: i16, means: ONE.loop_start, none: -1}"
        cases = {
            "flag": (flag, (0,), (1,)),
            "start": (start, (-1,), (50,)),
            "both": (flag + "\n      - " + begins, (0, 0), (1, 50)),
        }
        pcm = {n: noise(n, 1, seed=n) for n in (80, 200)}
        for name, (fields, plays, loops) in cases.items():
            first = loops[-1] if name != "flag" else 0
            text = described("bank", EXACT, fields, given="given: {stream.codec: pcm16, stream.rate: 8000}")
            data = b"TO" + struct.pack("<H", 2) + struct.pack("<3H", 0, 1, 160) + struct.pack(f"<{len(plays)}h", *plays)
            data += struct.pack("<3H", 1, 4, 400) + struct.pack(f"<{len(loops)}h", *loops)
            data = data.ljust(64, b"\0") + pcm[80].tobytes().ljust(192, b"\0") + pcm[200].tobytes().ljust(448, b"\0")
            with self.subTest(name):
                self.assertTrue(check(load_layout(text), source(data)).ok)
                streams = DescribedBank(load_layout(text), source(data)).streams
                self.assertEqual([s.format.loop for s in streams], [None, Loop(first, 200)])
                file = FileSource(wav_file(self.folder / "new.wav", noise(333, 1, seed=3), 8000))
                how = Treatment(loop="points", loop_start=first, loop_end=300)
                info = look_through(file)
                report = fit_report(streams[1], peaking(-3.0), info, how)
                self.assertIn(
                    "the 33 frames behind it are left out", next(p for p in report.points if p.key == "loop").action
                )
                result = prepare(streams[1], file, info, how, report)
                self.assertEqual((result.format.frames, result.format.loop), (300, Loop(first, 300)))
                (self.folder / "new").write_bytes(bytes_of(result.payload))
                swap = StreamSwap(
                    Locator("x.bin", (("x.bin", 0),), "", 1), self.folder / "new", result.format, result.snr_db
                )
                self.proved(text, data, swaps=(swap,), damage=True)
                elsewhere = fit_report(
                    streams[1], peaking(-3.0), info, Treatment(loop="points", loop_start=9, loop_end=300)
                )
                self.assertEqual(elsewhere.verdict == "blocks", name == "flag")
                there = result.format.with_(loop=Loop(first, 299))
                problem = problem_of(
                    self, DescribedBank(load_layout(text), source(data)).rebuild, {1: NewStream(result.payload, there)}
                )
                self.assertIn("can't be stored", problem.what)
