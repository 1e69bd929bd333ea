"""What every test of the server stands on: a data folder, a library and a client of its own."""

import io
import json
import shutil
import tempfile
from pathlib import Path

import numpy as np
import soundfile
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client, TransactionTestCase, override_settings

from tests.support import copy_of_demo, small_crate


class ServerTest(TransactionTestCase):
    """A server with a data folder and a library root of its own; jobs run within the request."""

    def setUp(self):
        self.root = Path(tempfile.mkdtemp()).resolve()
        self.addCleanup(shutil.rmtree, self.root, ignore_errors=True)
        own = override_settings(DATA_DIR=self.root / "data", LIBRARY_ROOTS=[self.root / "library"])
        own.enable()
        self.addCleanup(own.disable)
        (self.root / "data").mkdir()
        (self.root / "library").mkdir()
        self.client = Client(HTTP_HOST="127.0.0.1")

    def get(self, path: str, status: int = 200, **headers):
        answer = self.client.get(f"/api{path}", headers=headers or None)
        self.assertEqual(answer.status_code, status, answer.content[:500] if not answer.streaming else path)
        return answer.json() if answer["Content-Type"].startswith("application/json") else answer

    def send(self, method: str, path: str, body=None, status: int = 200):
        call = getattr(self.client, method)
        answer = call(f"/api{path}", json.dumps(body or {}), content_type="application/json")
        self.assertEqual(answer.status_code, status, answer.content[:500])
        if status >= 400:
            self.assertEqual(set(answer.json()), {"what", "where", "next"})
            self.assertNotIn("Traceback", answer.content.decode())
        return answer.json() if answer.content else None

    def add_game(self, small: bool = False) -> dict:
        """The demo game, or one that is only the small archive and a text."""
        folder = self.root / "library" / "game"
        if small:
            folder.mkdir()
            (folder / "small.crate").write_bytes(small_crate())
            (folder / "notes.txt").write_text("nothing to hear")
        else:
            copy_of_demo(folder)
        return self.send("post", "/games", {"folder": str(folder)})

    def add_described(self, text: str, files: dict[str, bytes]) -> dict:
        """A game of these files, read by a layout of the user's."""
        folder = self.root / "library" / "described"
        folder.mkdir()
        for name, data in files.items():
            (folder / name).write_bytes(data)
        game = self.send("post", "/games", {"folder": str(folder)})
        made = self.send("post", "/layouts", {"name": "described", "text": text})
        self.send("post", f"/layouts/{made['id']}/versions")
        self.send("post", f"/games/{game['id']}/survey")
        return game

    def upload(self, game: dict, stream: dict, data: bytes, name: str = "tone.wav", status: int = 200):
        file = SimpleUploadedFile(name, data)
        answer = self.client.post(f"/api/mods/{game['mod_id']}/swaps", {"stream_id": stream["id"], "file": file})
        self.assertEqual(answer.status_code, status, answer.content[:500])
        return answer.json()

    def planned(self, mod: str, status: int = 200):
        """The plan of a mod, worked out first."""
        job = self.send("post", f"{mod}/plan", {}, status)
        if status != 200:
            return job
        job = self.get(f"/jobs/{job['id']}")
        return self.get(f"{mod}/plan")["rows"] if job["state"] == "done" else job["error"]

    def built(self, mod: str) -> tuple[dict, list[dict], list[dict]]:
        """The newest rebuild of a mod, its files, and all points of its proof."""
        build = self.get(f"{mod}/build")
        files = self.get(f"/builds/{build['id']}/files")["rows"]
        points = [p for f in files for p in self.get(f"/builds/{build['id']}/proof?file={f['path']}")["rows"]]
        self.assertEqual((build["files"], build["points"]), (len(files), len(points)))
        return build, files, points

    def stream(self, game: dict, q: str) -> dict:
        return self.get(f"/games/{game['id']}/streams?q={q}")["rows"][0]


def wav_bytes(pcm: np.ndarray, rate: int, subtype: str = "PCM_16") -> bytes:
    out = io.BytesIO()
    soundfile.write(out, pcm, rate, format="WAV", subtype=subtype)
    return out.getvalue()
