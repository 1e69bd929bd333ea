"""Runs the tests with Django's runner and closes with one line of counts: python -m tests [LABELS].

Without labels all of them run, in three processes: those of the core, and those of the server and the package, beside those with a
browser.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")
os.environ.setdefault("ZUBRET_JOBS", "at once")

import django
from django.conf import settings
from django.test.runner import DiscoverRunner

BESIDE = (("tests.core",), ("tests.test_wheel", "tests.test_mod", "tests.server"))
"""What runs beside the others, a process for each; what waits for downloads comes first."""


class Told(unittest.TextTestResult):
    """Tells what failed when it happens, and in the end which tests took longest."""

    SLOWEST = 12

    def startTest(self, test) -> None:
        self.took = getattr(self, "took", [])
        self._began = time.monotonic()
        super().startTest(test)

    def stopTest(self, test) -> None:
        self.took.append((time.monotonic() - self._began, test.id()))
        super().stopTest(test)

    def addError(self, test, err) -> None:
        super().addError(test, err)
        self.stream.writeln(f"\nERROR {test.id()}\n{self.errors[-1][1]}")

    def addFailure(self, test, err) -> None:
        super().addFailure(test, err)
        self.stream.writeln(f"\nFAIL {test.id()}\n{self.failures[-1][1]}")

    def printErrors(self) -> None:
        for seconds, name in sorted(getattr(self, "took", []), reverse=True)[: self.SLOWEST]:
            self.stream.writeln(f"{seconds:6.1f} s {name}")
        super().printErrors()


class Runner(DiscoverRunner):
    """Django's runner; keeps the result, so that the counts can be told."""

    beside: list[Beside]

    def get_resultclass(self):
        return Told

    def build_suite(self, *args, **kwargs):
        suite = super().build_suite(*args, **kwargs)
        if self.beside:
            elsewhere = tuple(f"{label}." for labels in BESIDE for label in labels)
            suite._tests = [test for test in suite if not test.id().startswith(elsewhere)]
        return suite

    def run_suite(self, suite, **kwargs):
        self.result = super().run_suite(suite, **kwargs)
        return self.result


class Beside:
    """Some tests in a process and a data folder of their own; what they print is shown when they are done. They step back behind the
    workers whose answers the others wait for."""

    def __init__(self, labels: tuple[str, ...]) -> None:
        self.out = tempfile.TemporaryFile("w+", encoding="utf-8")
        back = ["nice", "-n", "15"] if shutil.which("nice") else []
        own = {"ZUBRET_DATA_DIR": str(settings.DATA_DIR / labels[0]), "PYTHONUNBUFFERED": "1"}
        own["ZUBRET_TEST_KEPT"] = str(settings.DATA_DIR)
        command = [*back, sys.executable, "-m", "tests", *labels]
        self.process = subprocess.Popen(command, env={**os.environ, **own}, stdout=self.out, stderr=subprocess.STDOUT)

    def counts(self) -> list[int]:
        """Passed, failed, skipped; where it broke down, one has failed."""
        broken = self.process.wait() != 0
        self.out.seek(0)
        text = self.out.read()
        print(text)
        found = re.search(r"^(\d+) passed, (\d+) failed(?:, (\d+) skipped)?$", text, re.MULTILINE)
        passed, failed, skipped = (int(number or 0) for number in found.groups()) if found else (0, 0, 0)
        return [passed, max(failed, broken), skipped]


def main() -> None:
    django.setup()
    Path(settings.FILE_UPLOAD_TEMP_DIR).mkdir(parents=True, exist_ok=True)
    runner = Runner(verbosity=1, interactive=False)
    labels = sys.argv[1:]
    runner.beside = [] if labels else [Beside(some) for some in BESIDE]
    try:
        runner.run_tests(labels or ["tests"])
    finally:
        others = [beside.counts() for beside in runner.beside]
    result = runner.result
    # A class that could not be set up has errors but no tests that ran.
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    passed = max(0, result.testsRun - failed - skipped)
    counts = [sum(column) for column in zip([passed, failed, skipped], *others, strict=True)]
    print(f"{counts[0]} passed, {counts[1]} failed" + (f", {counts[2]} skipped" if counts[2] else ""))
    sys.exit(1 if counts[1] or not result.testsRun else 0)


if __name__ == "__main__":
    main()
