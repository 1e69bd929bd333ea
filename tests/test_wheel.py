"""The package: built from this checkout, installed where there is nothing else, and started where there is no Node.js."""

import json
import shutil
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

from django.test import SimpleTestCase

from bench.program import free_port
from tests.support import ROOT


class Wheel(SimpleTestCase):
    def test_an_installed_package_runs_the_demo_without_node(self):
        folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        pip = [sys.executable, "-m", "pip", "--disable-pip-version-check"]
        subprocess.run([*pip, "wheel", "-q", "--no-deps", "-w", folder, ROOT], check=True)
        (wheel,) = folder.glob("zubret-*.whl")
        subprocess.run([sys.executable, "-m", "venv", "--without-pip", folder / "empty"], check=True)
        subprocess.run(
            [*pip, "--python", folder / "empty/bin/python", "install", "-q", "--no-compile", wheel], check=True
        )
        address = f"http://127.0.0.1:{free_port()}"
        env = {"HOME": str(folder), "PATH": str(folder / "empty" / "bin"), "ZUBRET_PORT": address.rpartition(":")[2]}
        self.assertIsNone(shutil.which("node", path=env["PATH"]))
        log = open(folder / "log.txt", "w+")
        self.addCleanup(log.close)
        program = subprocess.Popen(
            [folder / "empty/bin/zubret", "demo"], cwd=folder, env=env, stdout=log, stderr=log, stdin=subprocess.DEVNULL
        )
        try:
            self.assertTrue(self.until(lambda: self.get(f"{address}/api/health")["ok"], program), self.told(log))
            games = self.until(lambda: self.surveyed(address), program)
            self.assertTrue(games, self.told(log))
            compiled = folder / ".local/share/zubret/compiled"
            ready = (compiled / "zubret.stamp").stat().st_mtime
            self.assertEqual([p.name for p in compiled.rglob("*.nbc") if p.stat().st_mtime > ready], [])
            survey = self.get(f"{address}/api/games/{games[0]['id']}/survey")
            self.assertEqual((survey["archives"], survey["streams"]), (4, 48))
            with urllib.request.urlopen(f"{address}/", timeout=5) as page:
                self.assertIn(b"/assets/", page.read())
        finally:
            program.terminate()
            program.wait(30)
        self.assertNotIn("Traceback", self.told(log))

    def surveyed(self, address: str) -> list[dict]:
        """The two games of the demo, once both are surveyed."""
        games = [g for g in self.get(f"{address}/api/games") if g["surveyed"]]
        return games if len(games) == 2 else []

    @staticmethod
    def get(url: str):
        with urllib.request.urlopen(url, timeout=5) as answer:
            return json.load(answer)

    @staticmethod
    def told(log) -> str:
        log.seek(0)
        return log.read()[-3000:]

    @staticmethod
    def until(ask, program: subprocess.Popen):
        """The first answer that says something; None once the program has ended. How long it takes to make the demo and to compile is
        the machine's, beside other tests: minutes."""
        end = time.monotonic() + 1_200
        while time.monotonic() < end and program.poll() is None:
            try:
                if answer := ask():
                    return answer
            except OSError:
                pass
            time.sleep(0.5)
        return None
