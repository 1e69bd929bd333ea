"""A program that a job runs: it ends with the job, however that ends."""

from __future__ import annotations

import subprocess
import time

from django.conf import settings

from zubret_core.base import Progress

LOOK = 0.25
"""Seconds after which progress is told again, and a cancelled job found."""


def run_program(command: list[str], longest: float, progress: Progress, note: str) -> subprocess.CompletedProcess[str]:
    """Run it to its end, in Zubret's own folder. TimeoutExpired after `longest` seconds."""
    program = subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, cwd=settings.ROOT, text=True, encoding="utf-8"
    )
    until = time.monotonic() + longest
    try:
        while True:
            progress(0, 0, note)
            try:
                output, errors = program.communicate(timeout=LOOK)
                return subprocess.CompletedProcess(command, program.returncode, output, errors)
            except subprocess.TimeoutExpired:
                if time.monotonic() > until:
                    raise
    finally:
        if program.poll() is None:
            program.kill()
            program.communicate()


def last_words(errors: str) -> str:
    """The last line that a program said before it broke down."""
    return (errors.strip().splitlines()[-1:] or ["no message"])[0][:200]
