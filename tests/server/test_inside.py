"""What is in here? through the API: looked for, listed, heard, taken out, and a layout by the table of their places."""

import io
import zipfile

from tests.core.test_sift import MIDI, TEXTS, archive, tone, written
from tests.server.support import ServerTest


def hoard(parts: list[bytes]) -> bytes:
    """Sounds at multiples of 64, behind a table of ids, places and sizes."""
    base = -(-(12 + 12 * len(parts)) // 64) * 64
    records = payloads = b""
    for n, part in enumerate(parts):
        for number in (4000 + 7 * n, base + len(payloads), len(part)):
            records += number.to_bytes(4, "little")
        payloads += part + bytes(-len(part) % 64)
    return (b"HOAR" + len(parts).to_bytes(4, "little") + bytes(4) + records).ljust(base, b"\0") + payloads


def parts() -> list[bytes]:
    kinds = [("WAV", "PCM_16"), ("OGG", "VORBIS"), ("FLAC", "PCM_16"), ("MP3", "MPEG_LAYER_III")]
    return [written(*kinds[n % 4], tone(0.5 + n % 3 / 2, 200 + 40 * n)) for n in range(11)] + [MIDI]


class Inside(ServerTest):
    def setUp(self):
        super().setUp()
        self.folder = self.root / "library" / "game"
        self.folder.mkdir()
        self.parts = parts()
        (self.folder / "hoard.dat").write_bytes(hoard(self.parts))
        (self.folder / "logs.pak").write_bytes(archive(lambda t: t))
        self.game = self.send("post", "/games", {"folder": str(self.folder)})
        self.inside = f"/games/{self.game['id']}/sounds-inside"

    def bytes(self, path: str) -> bytes:
        answer = self.get(path)
        return b"".join(answer.streaming_content) if answer.streaming else answer.content

    def test_one_file(self):
        self.assertIsNone(self.get(f"{self.inside}?path=hoard.dat")["job"])
        self.send("post", f"{self.inside}/draft", {"path": "hoard.dat"}, 409)
        self.send("post", self.inside, {"path": "hoard.dat"})
        found = self.get(f"{self.inside}?path=hoard.dat&limit=5&offset=4")
        self.assertEqual((found["job"]["state"], found["total"], len(found["rows"])), ("done", 12, 5))
        rows = self.get(f"{self.inside}?path=hoard.dat")["rows"]
        self.assertEqual([r["length"] for r in rows], [len(p) for p in self.parts])
        self.assertIsNone(rows[-1]["audio"])  # notes, and no sound
        for row in rows[:-1]:
            pcm = self.bytes(f"/audio/{row['audio']}/pcm?start=0&frames=1000")
            self.assertGreater(len(pcm), 1000)
        self.assertEqual(self.bytes(f"{self.inside}/{rows[1]['id']}"), self.parts[1])
        job = self.send("post", f"{self.inside}/take-out", {"path": "hoard.dat"})
        with zipfile.ZipFile(io.BytesIO(self.bytes(f"/jobs/{job['id']}/file"))) as pack:
            self.assertEqual(sorted(pack.read(n) for n in pack.namelist()), sorted(self.parts))

        draft = self.send("post", f"{self.inside}/draft", {"path": "hoard.dat"})
        self.send("post", f"/layouts/{draft['id']}/versions")
        self.send("post", f"/games/{self.game['id']}/survey")
        self.assertEqual(self.get(f"/games/{self.game['id']}/streams?limit=100")["total"], 11)

        # Another version of the file: what was found is not there any more.
        (self.folder / "hoard.dat").write_bytes(hoard(self.parts[::-1]))
        self.get(f"{self.inside}/{rows[0]['id']}", 409)

    def test_all_that_nothing_describes_and_what_can_not_be_read(self):
        self.send("post", self.inside)
        found = self.get(self.inside)
        self.assertEqual((found["total"], found["files"]), (12, 2))
        self.assertEqual({r["path"] for r in found["rows"]}, {"hoard.dat"})
        self.assertGreater(found["seconds"], 5)
        self.send("post", self.inside, {"path": "nowhere.dat"}, 422)
        (self.folder / "hoard.dat").unlink()
        job = self.send("post", self.inside)
        told = self.get(f"/jobs/{job['id']}")["result"]
        self.assertEqual((told["found"], told["failed"]), (0, 1))
        self.assertIn("hoard.dat", told["problem"])

    def test_drafts_and_known_layouts_for_a_file(self):
        drafts = self.get(f"/games/{self.game['id']}/bench/drafts?path=logs.pak")
        self.assertEqual((drafts[0]["items"], drafts[0]["share"]), (len(TEXTS), 1.0))
        tries = self.get(f"/games/{self.game['id']}/bench/tries?path=logs.pak")
        table, payloads = archive(lambda t: t, base=0)[:816], archive(lambda t: t, base=0)[816:]
        with zipfile.ZipFile(self.folder / "both.zip", "w") as made:
            made.writestr("a/logs.idx", table)
            made.writestr("a/logs.dat", payloads)
        (self.folder / "logs.idx").write_bytes(table)
        (self.folder / "logs.dat").write_bytes(payloads)
        for folder in ("", "both.zip › a/"):
            index = self.get(f"/games/{self.game['id']}/bench/drafts?path={folder}logs.idx")[0]
            self.assertEqual((index["items"], index["beside"]), (len(TEXTS), ""))
            self.assertIn("{stem}.dat", index["text"])
            there = self.get(f"/games/{self.game['id']}/bench/drafts?path={folder}logs.dat")[0]
            self.assertEqual((there["items"], there["beside"], there["text"]), (len(TEXTS), "logs.idx", ""))
        self.assertTrue(tries and not any(t["fits"] for t in tries) and all(t["against"] for t in tries))
