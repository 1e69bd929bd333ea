"""A worker process: python -m server.worker QUEUE."""

from __future__ import annotations

import logging
import os
import signal
import sqlite3
import sys
import tempfile

LOOK = 5.0
"""Seconds after which a worker that nobody woke looks by itself."""
NICE = 10
"""How much a worker steps back behind the web server, which somebody listens to."""


def main() -> None:
    """A worker as a process by itself."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")
    import django

    django.setup()
    from .ready import make_ready

    make_ready()
    work_on(sys.argv[1])


def work_on(queue: str) -> None:
    """Do the jobs of a queue until the launcher ends."""
    from django.conf import settings
    from django.db import OperationalError

    from .home.tidy import remove_forgotten
    from .install.installing import settle_all
    from .jobs.alive import Sign
    from .jobs.run import patiently, reap, take, tidy_up
    from .ready import end_with_launcher

    log = logging.getLogger("zubret.worker")
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    end_with_launcher()
    if hasattr(os, "nice"):
        os.nice(NICE)
    # Nameless files of any size: the system's own folder for them may lie in memory.
    tempfile.tempdir = str(settings.FILE_UPLOAD_TEMP_DIR)
    sign = Sign(queue)
    if queue == "background":
        patiently(tidy_up)
    if queue == "long":
        patiently(settle_all)
    while True:
        try:
            if queue == "background":
                _keep(log)
                remove_forgotten()
            reap()
            if take(queue, sign.name) is None:
                sign.wait(LOOK)
        except OperationalError as e:  # busy, or the disk is full: what waits goes on waiting
            log.warning("the database: %s", e)
            sign.wait(LOOK)


def _keep(log: logging.Logger) -> None:
    """Write the journal anew where it is due; where it can't be, the next time."""
    from django.db import DatabaseError

    from .home.journal import keep

    try:
        keep()
    except (OSError, sqlite3.Error, DatabaseError) as e:
        log.warning("the journal of what was made can't be written: %s", e)


if __name__ == "__main__":
    main()
