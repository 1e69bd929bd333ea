"""What every process does once it has loaded its programs, before it begins."""

from __future__ import annotations

import gc
import os
import signal
import sys
import threading
import time
from pathlib import Path

from django.conf import settings

from zubret_core import compiled

from .environment import launched

PATIENCE = 8.0
"""Seconds that a process is given to end by itself."""


def make_ready() -> None:
    """Make the folder for uploads, load the compiled kernels, and leave all that is loaded by now out of garbage
    collections.

    A collection that walks over libraries of this size, to find nothing, takes 90 ms; a survey of 7,000 small banks
    has one or two.
    """
    Path(settings.FILE_UPLOAD_TEMP_DIR).mkdir(parents=True, exist_ok=True)
    compiled.load()
    gc.collect()
    gc.freeze()


def end_with_launcher() -> None:
    """End this process when the launcher does, however that ends: it holds the other end of our standard input."""
    if not launched():
        return

    def wait() -> None:
        sys.stdin.buffer.read()
        os.kill(os.getpid(), signal.SIGTERM)
        time.sleep(PATIENCE)
        os._exit(1)

    threading.Thread(target=wait, daemon=True, name="launcher").start()
