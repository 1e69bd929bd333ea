"""Twelve open formats described in our language, from their published documents: read, changed, rebuilt, and read by others.

AIFF (1989), .au, CAF, Wave64, RF64 (EBU Tech 3306): against libsndfile. Standard MIDI Files 1.0: by its own numbers.
cpio's new ASCII form and ar: against Debian's cpio and binutils. ISO 9660 (ECMA-119): against pycdlib. PNG (W3C 2025): against the media
library and zlib. SoundFont 2.04: against sf2utils. Chunks of a FORM, and TAR, stand in test_examples.
"""

import io
import struct
import subprocess
import tempfile
import zlib
from pathlib import Path

import av
import numpy as np
import pycdlib
import soundfile
from django.test import SimpleTestCase
from sf2utils.sf2parse import Sf2File

from tests.support import ROOT, bytes_of, edited, noise, problem_of, source
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.codec import codec_of
from zubret_core.container import DescribedArchive, NewEntry
from zubret_core.layout import load_layout

FORMATS = ROOT / "tests/formats"
FILES = {f"a{n}.txt": b"The tide rises at pier %d. " % n * (n * 3 + 1) for n in range(5)}


def layout(name: str):
    return load_layout((FORMATS / f"{name}.yaml").read_text("utf-8"), name)


class Sounds(SimpleTestCase):
    KINDS = (
        ("aiff", "AIFF", "PCM_16"), ("au", "AU", "PCM_16"), ("au", "AU", "ULAW"), ("au", "AU", "FLOAT"), ("caf", "CAF", "PCM_16"),
        ("w64", "W64", "PCM_16"), ("rf64", "RF64", "PCM_16"),
    )  # fmt: skip

    def made(self, kind: str, subtype: str, pcm: np.ndarray, rate: int = 22_050) -> bytes:
        out = io.BytesIO()
        endian = "BIG" if kind == "CAF" else None
        soundfile.write(out, _like(pcm, subtype), rate, format=kind, subtype=subtype, endian=endian)
        return out.getvalue()

    def heard(self, data: bytes) -> np.ndarray:
        return soundfile.read(io.BytesIO(data), always_2d=True)[0]

    def test_sounds_are_read_and_replaced_as_libsndfile_has_them(self):
        for name, kind, subtype in self.KINDS:
            for channels in (1, 2):
                data = self.made(kind, subtype, noise(1001, channels, 5))
                with self.subTest(name, subtype=subtype, channels=channels):
                    bank = DescribedBank(layout(name), source(data, f"x.{name}"))
                    stream = bank.streams[0]
                    self.assertEqual(
                        (stream.format.rate, stream.format.channels, stream.format.frames), (22_050, channels, 1001)
                    )
                    most = 0.04 if subtype == "ULAW" else 1 / 32768  # a sample on a decision value may go either way
                    self.assertLessEqual(np.abs(self.heard(data) - _float(stream.decode(0, 1001))).max(), most)
                    self.assertEqual(bytes_of(bank.rebuild({}, anew=True).source), data)
                    for frames in (1500, 400, 401):
                        fresh = noise(frames, channels, frames)
                        format = stream.format.with_(frames=frames)
                        payload = source(codec_of(format).encode(_like(fresh, subtype), format))
                        new = bytes_of(bank.rebuild({0: NewStream(payload, format)}).source)
                        wanted = self.heard(self.made(kind, subtype, fresh))
                        self.assertLessEqual(np.abs(self.heard(new) - wanted).max(), most)
                        again = DescribedBank(layout(name), source(new, f"x.{name}"))
                        self.assertEqual(again.streams[0].format.frames, frames)
                        if frames == 1500:
                            back = again.rebuild({0: NewStream(stream.payload, stream.format)}, anew=True)
                            self.assertEqual(bytes_of(back.source), data)

    def test_chunks_in_another_order_and_missing_ones(self):
        """AIFF says nothing of the order: the sound may come first, and others between."""
        data = self.made("AIFF", "PCM_16", noise(500, 1))
        common, sound = data[12:38], data[38:]
        self.assertEqual((common[:4], sound[:4]), (b"COMM", b"SSND"))
        note = b"ANNO" + struct.pack(">I", 5) + b"ahoy!\0"
        for chunks in (sound + common, note + sound + note + common, common + note + sound + note):
            turned = b"FORM" + struct.pack(">I", 4 + len(chunks)) + b"AIFF" + chunks
            bank = DescribedBank(layout("aiff"), source(turned))
            self.assertTrue((bank.streams[0].decode(0, 500) == 32768 * self.heard(data)).all())
            format = bank.streams[0].format.with_(frames=777)
            fresh = noise(777, 1, 9)
            new = bytes_of(bank.rebuild({0: NewStream(source(fresh.astype(">i2").tobytes()), format)}).source)
            self.assertTrue((32768 * self.heard(new) == fresh).all())
            self.assertEqual(new.count(b"ahoy!"), chunks.count(b"ahoy!"))
        only = b"FORM" + struct.pack(">I", 4 + len(sound)) + b"AIFF" + sound
        self.assertTrue(problem_of(self, DescribedBank, layout("aiff"), source(only)).what)


class Instruments(SimpleTestCase):
    def made(self, lengths: tuple[int, ...], space: int) -> bytes:
        """Instruments without presets: the samples behind one another, `space` frames of silence behind each."""

        def chunk(name: str, *parts: bytes) -> bytes:
            body = b"".join(parts)
            return name.encode() + struct.pack("<I", len(body)) + body + bytes(len(body) % 2)

        pool, records = b"", b""
        for n, length in enumerate((*lengths, 0)):
            at, end = (len(pool) // 2, len(pool) // 2 + length) if length else (0, 0)
            loop = (at + 100, end - 50) if length else (0, 0)
            name = f"tone {n}" if length else "EOS"
            records += struct.pack(
                "<20s5IBbHH", name.encode(), at, end, *loop, 22_050 + n if length else 0, 60, 0, 0, 1
            )
            pool += noise(length, seed=n).tobytes() + bytes(2 * space) if length else b""
        sizes = {"phdr": 76, "pbag": 8, "pmod": 10, "pgen": 8, "inst": 44, "ibag": 8, "imod": 10, "igen": 8}
        tables = b"".join(chunk(name, bytes(size)) for name, size in sizes.items())
        info = chunk("LIST", b"INFO", chunk("ifil", struct.pack("<HH", 2, 4)), chunk("INAM", b"odd\0"))
        sound = chunk("LIST", b"sdta", chunk("smpl", pool))
        return chunk("RIFF", b"sfbk", info, sound, chunk("LIST", b"pdta", tables, chunk("shdr", records)))

    def test_samples_of_a_pool_are_read_and_replaced_as_sf2utils_has_them(self):
        def seen(data: bytes) -> list[tuple]:
            samples = Sf2File(io.BytesIO(data)).samples
            return [
                (s.name, s.sample_rate, s.start_loop, s.end_loop, s.raw_sample_data) for s in samples if s.name != "EOS"
            ]

        for space in (46, 32):  # files have less than the document asks for, too: what stands behind is not pushed away
            data = self.made((1000, 501, 2000), space)
            bank = DescribedBank(layout("sf2"), source(data))
            wanted = seen(data)
            self.assertEqual(
                [
                    (s.id, s.format.rate, s.format.loop.start, s.format.loop.end, bytes_of(s.payload))
                    for s in bank.streams
                ],
                wanted,
            )
            self.assertEqual(bytes_of(bank.rebuild({}, anew=True).source), data)
            text = (FORMATS / "sf2.yaml").read_text("utf-8")
            counted = load_layout(
                text.replace("until: end\n    sentinel", "repeat: region.room // 46\n    sentinel"), "x"
            )
            self.assertEqual(len(DescribedBank(counted, source(data)).streams), 3)
            fresh = noise(1777, 1, 9).tobytes()
            new = bytes_of(
                bank.rebuild({1: NewStream(source(fresh), bank.streams[1].format.with_(frames=1777))}).source
            )
            self.assertEqual(len(new), len(data) + 2 * (1777 - 501))
            wanted[1] = (*wanted[1][:4], fresh)
            self.assertEqual(seen(new), wanted)


class Archives(SimpleTestCase):
    def opened(self, name: str, data: bytes) -> DescribedArchive:
        archive = DescribedArchive(layout(name), source(data, f"x.{name}"))
        self.assertEqual(bytes_of(archive.rebuild({}, anew=True).source), data)
        return archive

    def contents(self, archive: DescribedArchive) -> dict[str, bytes]:
        return {e.path.rstrip("/ "): bytes_of(archive.open(n)) for n, e in enumerate(archive.entries)}

    def test_png(self):
        """The browser's own pictures of our screens, whose pixels a new text does not touch; a sum that is wrong is told."""

        def seen(data: bytes) -> np.ndarray:
            with av.open(io.BytesIO(data)) as file:
                return next(file.decode(video=0)).to_ndarray(format="rgb24")

        data = (ROOT / "docs/screenshots/loops.png").read_bytes()
        archive = self.opened("png", data)
        text = b"Title\0" + "Zubret".encode("latin-1")
        at, chunks = 8, []
        while at < len(data):
            (size,) = struct.unpack_from(">I", data, at)
            chunks.append((data[at + 4 : at + 8], data[at + 8 : at + 8 + size]))
            at += 12 + size
        self.assertEqual(list(self.contents(archive).values()), [content for _, content in chunks])
        chunk = struct.pack(">I", len(text)) + b"tEXt" + text + struct.pack(">I", zlib.crc32(b"tEXt" + text))
        made = data[:33] + chunk + data[33:]
        self.assertTrue((seen(made) == seen(data)).all())
        archive = self.opened("png", made)
        new = bytes_of(archive.rebuild({1: source(text + b" and more")}).source)
        self.assertTrue((seen(new) == seen(data)).all())
        self.assertEqual(new[41 + len(text) + 9 :][:4], struct.pack(">I", zlib.crc32(b"tEXt" + text + b" and more")))
        self.assertEqual(bytes_of(self.opened("png", new).rebuild({1: source(text)}, anew=True).source), made)
        spoilt = DescribedArchive(layout("png"), source(edited(made, len(made) - 1, "<B", made[-1] ^ 1)))
        self.assertIn("of what stands in front of it", problem_of(self, spoilt.verify).what)

    def test_cpio(self):
        with tempfile.TemporaryDirectory() as folder:
            for name, data in FILES.items():
                Path(folder, name).write_bytes(data)
            names = "\n".join(FILES).encode()
            make = ["cpio", "-o", "-H", "newc", "--quiet"]
            data = subprocess.run(make, input=names, cwd=folder, check=True, capture_output=True).stdout
            archive = self.opened("cpio", data)
            self.assertEqual(self.contents(archive), FILES)
            added = [NewEntry("more/b.txt", source(b"behind the others"))]
            new = bytes_of(archive.rebuild({1: source(b"short"), 2: source(b"long " * 99)}, added=added).source)
            with tempfile.TemporaryDirectory() as out:
                subprocess.run(["cpio", "-idm", "--quiet"], input=new, cwd=out, check=True, capture_output=True)
                there = {str(p.relative_to(out)): p.read_bytes() for p in Path(out).rglob("*") if p.is_file()}
            self.assertEqual(
                there, FILES | {"a1.txt": b"short", "a2.txt": b"long " * 99, "more/b.txt": b"behind the others"}
            )

    def test_ar(self):
        with tempfile.TemporaryDirectory() as folder:
            for name, data in FILES.items():
                Path(folder, name).write_bytes(data)
            subprocess.run(["ar", "rc", "x.a", *FILES], cwd=folder, check=True)
            archive = self.opened("ar", Path(folder, "x.a").read_bytes())
            self.assertEqual(self.contents(archive), FILES)
            new = archive.rebuild({1: source(b"odd"), 3: source(b"long " * 99)})
            Path(folder, "y.a").write_bytes(bytes_of(new.source))
            for name, data in (FILES | {"a1.txt": b"odd", "a3.txt": b"long " * 99}).items():
                told = subprocess.run(["ar", "p", "y.a", name], cwd=folder, check=True, capture_output=True).stdout
                self.assertEqual(told, data)

    def test_iso_9660_directories(self):
        image = pycdlib.PyCdlib()
        image.new()
        image.add_directory("/DECK")
        for n, data in enumerate(FILES.values()):
            image.add_fp(io.BytesIO(data), len(data), f"{'/DECK' if n % 2 else ''}/A{n}.TXT;1")
        out = io.BytesIO()
        image.write_fp(out)
        image.close()
        archive = self.opened("iso", out.getvalue())
        found = {e.path: bytes_of(archive.open(n)) for n, e in enumerate(archive.entries) if e.stored}
        self.assertEqual(found, {f"A{n}.TXT;1": data for n, data in enumerate(FILES.values())})
        third = next(n for n, e in enumerate(archive.entries) if e.path == "A3.TXT;1")
        fresh = bytes(reversed(FILES["a3.txt"]))
        changed = io.BytesIO(bytes_of(archive.rebuild({third: source(fresh)}).source))
        image = pycdlib.PyCdlib()
        image.open_fp(changed)
        got = io.BytesIO()
        image.get_file_from_iso_fp(got, iso_path="/DECK/A3.TXT;1")
        self.assertEqual(got.getvalue(), fresh)
        wrong = problem_of(self, archive.rebuild, {third: source(fresh + b"!")})
        self.assertIn("follows from other fields", wrong.what)

    def test_midi_tracks(self):
        tracks = [b"\0\x90\x40\x40" * n + b"\0\xff\x2f\0" for n in range(1, 5)]
        data = b"MThd" + struct.pack(">IHHH", 6, 1, len(tracks), 96)
        data += b"".join(b"MTrk" + struct.pack(">I", len(t)) + t for t in tracks)
        archive = self.opened("midi", data)
        self.assertEqual(list(self.contents(archive).values()), tracks)
        new = bytes_of(archive.rebuild({1: source(tracks[3])}).source)
        self.assertEqual(list(self.contents(self.opened("midi", new)).values()), [tracks[0], tracks[3], *tracks[2:]])


def _float(pcm: np.ndarray) -> np.ndarray:
    return pcm if pcm.dtype.kind == "f" else pcm / 32768


def _like(pcm: np.ndarray, subtype: str) -> np.ndarray:
    return (pcm / 32768).astype(np.float32) if subtype == "FLOAT" else pcm
