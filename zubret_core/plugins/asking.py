"""Finding plug-ins, and asking them: in a process of its own each, which is ended when it does not answer."""

from __future__ import annotations

import contextlib
import subprocess
import sys
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from importlib.metadata import entry_points
from typing import Any

from ..base import ZubretError, tell
from .host import read_message, write_message

STEPS, CODECS = "zubret.steps", "zubret.codecs"
"""The groups of entry points in which plug-ins are looked for."""
SECONDS, SECONDS_A_MEGABYTE = 20.0, 2.0
"""How long a plug-in may take for an answer, and more for each megabyte that it is given or gives."""
LOOK = 0.1
"""Seconds between looks for an answer, in which a job may be cancelled."""


@dataclass(frozen=True)
class PlugIn:
    """An installed plug-in: its group, its name, the package that brings it, and that package's version."""

    group: str
    name: str
    package: str
    version: str


def installed() -> list[PlugIn]:
    """All plug-ins that are installed beside Zubret."""
    found = [
        PlugIn(group, e.name, e.dist.name if e.dist else "", e.dist.version if e.dist else "")
        for group in (STEPS, CODECS)
        for e in entry_points(group=group)
    ]
    return sorted(set(found), key=lambda p: (p.group, p.name))


def check(group: str, name: str) -> None:
    """A ZubretError where no such plug-in is installed."""
    names = [p.name for p in installed() if p.group == group]
    if name not in names:
        what = "step" if group == STEPS else "codec"
        there = f"There are {', '.join(names)}" if names else "There are none"
        raise ZubretError(
            f'No plug-in brings the {what} "{name}". {there}.',
            field=name,
            next="Install the Python package that brings it beside Zubret, and start Zubret again.",
        )


class _Host:
    """A plug-in's process; one question at a time."""

    def __init__(self, group: str, name: str):
        self.name, self.lock = name, threading.Lock()
        command = [sys.executable, "-m", "zubret_core.plugins.host", group, name]
        self.process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
        )

    def close(self) -> None:
        """End the process."""
        self.process.kill()
        for pipe in (self.process.stdin, self.process.stdout):
            with contextlib.suppress(OSError):
                pipe.close()  # type: ignore[union-attr]
        self.process.wait()

    def exchange(self, said: dict[str, Any], data: bytes) -> tuple[dict[str, Any], bytes] | None:
        """The answer to a question; None where the process ended."""
        assert self.process.stdin is not None and self.process.stdout is not None
        try:
            write_message(self.process.stdin, said, data)
            return read_message(self.process.stdout)
        except (OSError, ValueError):
            return None


_hosts: dict[tuple[str, str], _Host] = {}
_hosts_lock = threading.Lock()


def _host(group: str, name: str) -> _Host:
    with _hosts_lock:
        host = _hosts.get((group, name))
        if host is None or host.process.poll() is not None:
            check(group, name)
            host = _hosts[group, name] = _Host(group, name)
        return host


def close_all() -> None:
    """End the processes of all plug-ins."""
    with _hosts_lock:
        for host in _hosts.values():
            host.close()
        _hosts.clear()


def ask(
    group: str,
    name: str,
    settings: Mapping[str, Any],
    do: str,
    data: bytes = b"",
    more: Sequence[Any] = (),
    most: int = 1 << 32,
    seconds: float | None = None,
    **extra: Any,
) -> bytes:
    """What a plug-in's method gives for some bytes, at most `most` of them; a ZubretError where it fails, gives something else, or
    takes too long."""
    said = {"settings": dict(settings), "do": do, "more": list(more), "most": most, **extra}
    megabytes = (len(data) + min(most, 1 << 30)) / (1 << 20)
    limit = SECONDS + SECONDS_A_MEGABYTE * megabytes if seconds is None else seconds
    host = _host(group, name)
    with host.lock:
        answer: list[tuple[dict[str, Any], bytes] | None] = []
        work = threading.Thread(target=lambda: answer.append(host.exchange(said, data)), daemon=True)
        work.start()
        waited = 0.0
        try:
            while work.is_alive() and waited < limit:
                work.join(LOOK)
                waited += LOOK
                tell(0, len(data) or 1, f"the plug-in {name} works")
        except BaseException:
            host.close()
            raise
        if work.is_alive():
            host.close()
            raise _fault(name, f"has not answered for {limit:,.0f} seconds, so it was stopped", settings)
    if not answer or answer[0] is None:
        host.close()  # whoever asks next begins another one
        raise _fault(name, "ended without an answer", settings)
    reply, out = answer[0]
    if reply["error"]:
        raise _fault(name, f"could not do it: {reply['error']}", settings)
    return out


def _fault(name: str, what: str, settings: Mapping[str, Any]) -> ZubretError:
    return ZubretError(
        f"The plug-in {name} {what}.",
        field=name,
        next="The bytes are damaged, the layout's settings are wrong, or the plug-in is: ask whoever made it.",
    )
