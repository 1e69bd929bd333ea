"""Signs of life of the workers."""

from __future__ import annotations

import threading
import time

from django.conf import settings

QUEUES = ("long", "quick", "background")
EVERY = 1.0
"""Seconds between two signs."""
DEAD_AFTER = 5.0
"""Seconds without a sign after which a worker, and the job it held, counts as dead."""


def show_signs(queue: str) -> None:
    """Show a sign of life for this worker as long as the process lives."""
    place = settings.DATA_DIR / f"worker-{queue}.beat"

    def loop() -> None:
        while True:
            place.touch()
            time.sleep(EVERY)

    place.touch()
    threading.Thread(target=loop, daemon=True, name="heartbeat").start()


def workers_alive() -> dict[str, bool]:
    """Which workers have shown a sign of life lately."""
    now = time.time()
    out = {}
    for queue in QUEUES:
        place = settings.DATA_DIR / f"worker-{queue}.beat"
        out[queue] = place.exists() and now - place.stat().st_mtime < DEAD_AFTER
    return out
