"""Signs of life of the workers, and waking them.

Each worker holds its queue's file for as long as it lives, so a dead worker is known at once, and a busy one, or one whose
disk is full, is never taken for dead. The file holds the worker's name, which stands in the jobs that it does, and the
port at which it is woken.
"""

from __future__ import annotations

import os
import socket
from pathlib import Path
from secrets import token_hex

from django.conf import settings

from zubret_core.lock import held_by, hold

QUEUES = ("long", "quick", "background")
ENDING = 5.0
"""Seconds that the worker before is given to end."""


def _place(queue: str) -> Path:
    return settings.DATA_DIR / f"worker-{queue}.lock"


class Sign:
    """The sign of life of this process as the worker of a queue, until it ends or `close` is called.

    name: its queue, port and process number, and a text that only it has; stands in the jobs that it does. BlockingIOError where another process is the worker of this queue.
    """

    def __init__(self, queue: str):
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self._socket.bind(("127.0.0.1", 0))
        self.name = f"{queue} {self._socket.getsockname()[1]} {os.getpid()} {token_hex(8)}"
        handle = hold(_place(queue), self.name, ENDING)
        if handle is None:
            self._socket.close()
            raise BlockingIOError(f"There is a worker for {queue} already.")
        self._handle = handle

    def wait(self, seconds: float) -> None:
        """Until somebody calls, at most so long."""
        self._socket.settimeout(seconds)
        try:
            self._socket.recv(1)
            self._socket.setblocking(False)
            while True:  # several calls are one
                self._socket.recv(1)
        except OSError:
            return

    def close(self) -> None:
        """No sign any more."""
        self._socket.close()
        os.close(self._handle)


def worker_of(queue: str) -> str | None:
    """The name of a queue's living worker."""
    return held_by(_place(queue))


def lives(worker: str) -> bool:
    """Whether the worker of this name lives."""
    return worker_of(worker.partition(" ")[0]) == worker


def wake(queue: str) -> None:
    """Have the worker of a queue look for work; nothing where there is none."""
    worker = worker_of(queue)
    if worker:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as caller:
            caller.sendto(b"\n", ("127.0.0.1", int(worker.split(" ")[1])))


def workers_alive() -> dict[str, bool]:
    """Which workers live."""
    return {queue: worker_of(queue) is not None for queue in QUEUES}
