"""The web server and the workers as children of one process that has loaded everything: what they have in common is in memory
once. A worker that dies comes back at once. Where the system can't fork, the launcher starts each by itself.
"""

from __future__ import annotations

import os
import select
import signal
import sys
import time
from importlib import import_module
from types import FrameType

from .jobs.alive import QUEUES

PATIENCE = 8.0
"""Seconds that the children are given to end by themselves."""
MOST_DEATHS, WITHIN = 5, 60.0
"""How often a worker may die within so many seconds."""
SERVER = "web server"


class _Parts:
    """The children by their names, and when they died."""

    def __init__(self) -> None:
        self.running: dict[str, int] = {}
        self.deaths: dict[str, list[float]] = {}

    def start(self, name: str) -> None:
        """Fork a child; it never comes back from here."""
        child = os.fork()
        if child:
            self.running[name] = child
            return
        code = 1
        try:
            signal.signal(signal.SIGTERM, signal.SIG_DFL)
            if name == SERVER:
                from .serve import serve

                serve()
            else:
                from .worker import work_on

                work_on(name.partition(" ")[0])
            code = 0
        except SystemExit as e:
            code = e.code if isinstance(e.code, int) else 1
            if isinstance(e.code, str):
                print(e.code, file=sys.stderr, flush=True)
        finally:
            try:  # a child that is asked to end twice must not go on as its parent
                signal.signal(signal.SIGTERM, signal.SIG_IGN)
                sys.stdout.flush()
            finally:
                os._exit(code)

    def gone(self) -> None:
        """Look for children that have ended: a worker is started again, without the server nothing goes on."""
        for name, child in list(self.running.items()):
            found, status = os.waitpid(child, os.WNOHANG)
            if not found:
                continue
            del self.running[name]
            code = os.waitstatus_to_exitcode(status)
            if name == SERVER:
                sys.exit(f"zubret: the web server ended with code {code}.")
            now = time.monotonic()
            self.deaths[name] = [t for t in self.deaths.get(name, []) if now - t < WITHIN] + [now]
            if len(self.deaths[name]) > MOST_DEATHS:
                sys.exit(f"zubret: the {name} ended six times within a minute; its messages stand above.")
            print(f"The {name} ended (code {code}); starting it again.", flush=True)
            self.start(name)

    def stop(self) -> None:
        """End all children: first asked, then made to."""
        for how, seconds in ((signal.SIGTERM, PATIENCE), (signal.SIGKILL, PATIENCE)):
            for child in self.running.values():
                os.kill(child, how)
            until = time.monotonic() + seconds
            while self.running and time.monotonic() < until:
                for name, child in list(self.running.items()):
                    if os.waitpid(child, os.WNOHANG)[0]:
                        del self.running[name]
                time.sleep(0.02)


def _prepare() -> None:
    """Bring the database up to date; where that can't be done, end with the sentence that says so."""
    from django.core.management import CommandError, call_command
    from django.db import connections

    try:
        call_command("prepare")
    except CommandError as e:
        sys.exit(f"zubret: {e}")
    connections.close_all()  # no child may go on with a connection of its parent


def main() -> None:
    """Load, fork, and watch until the launcher ends or says so."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "server.settings")
    import django

    django.setup()
    from django.conf import settings

    from .environment import prepares
    from .ready import make_ready

    if prepares():
        _prepare()

    import_module(settings.ROOT_URLCONF)
    make_ready()
    parts = _Parts()

    def ended(number: int, frame: FrameType | None) -> None:
        raise SystemExit(0)

    signal.signal(signal.SIGTERM, ended)
    try:
        for name in (SERVER, *(f"{queue} worker" for queue in QUEUES)):
            parts.start(name)
        while not select.select([sys.stdin], [], [], 0.25)[0]:  # the launcher holds its other end
            parts.gone()
    finally:
        parts.stop()


if __name__ == "__main__":
    main()
