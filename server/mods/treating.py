"""The treatment of a swap: changing it, what the report proposes, and going back."""

from __future__ import annotations

from typing import Any

from django.db import transaction

from zubret_core.audio import AudioInfo
from zubret_core.bank import Stream as CoreStream
from zubret_core.swap import STORED, FitReport, Level, Treatment, fit_report, fitted

from ..errors import stopped
from ..shelf.sound import open_original
from .models import Swap
from .preparing import enqueue, measured
from .services import stream_row
from .steps import remember


def change(swap: Swap, steps: dict[str, Any], new_loop: list[int] | None = None) -> Swap:
    """Change some steps of the treatment. The old result is gone at once, the new one is prepared. new_loop: points for
    the loop, in frames of the old result."""
    with transaction.atomic():
        _refresh(swap)
        if swap.source == STORED and (steps or new_loop):
            raise stopped(
                409,
                "This stream is taken as it is stored in the mod it came from, so nothing can be done to it.",
                "Take a file of your own for it, or leave it as it is.",
            )
        if new_loop is not None:
            steps = {**steps, **_points(swap, new_loop)}
        remember(swap, Treatment.from_dict({**swap.treatment, **steps}))
        _treat(swap)
    return _prepared(swap)


def fit(swap: Swap, key: str) -> Swap:
    """Apply what the report proposes for one point, or for all: one step."""
    if swap.report is None:
        raise stopped(409, "The file is still being read.", "Wait a moment, then try again.", swap.source_name)
    return _prepared(swap) if _fit(swap, key) else swap


def _fit(swap: Swap, key: str) -> bool:
    """Do what the report proposes for a point, or for all; whether the treatment is another one. Nothing is prepared."""
    with transaction.atomic():
        _refresh(swap)
        before, report = Treatment.from_dict(swap.treatment), swap.report or {}
        proposed = report.get("fix_all", {}) if key == "all" else _fix_of(report, key)
        how = Treatment.from_dict({**before.as_dict(), **proposed})
        facts = _facts(swap)
        if key == "all" and facts:
            how = fitted(*facts, how)
        if how == before:
            return False
        remember(swap, how)
        _treat(swap)
    return True


def _fix_of(report: dict[str, Any], key: str) -> dict[str, Any]:
    return next((p["fix"] for p in report["points"] if p["key"] == key), None) or {}


def undo(swap: Swap, by: int = -1) -> Swap:
    """The treatment as it was a step before, or with 1 as it was before an undo."""
    step_back(swap, by)
    return _prepared(swap)


def step_back(swap: Swap, by: int = -1) -> None:
    """The same; nothing is prepared."""
    with transaction.atomic():
        _refresh(swap)
        step = swap.steps.filter(number=swap.step + by).first()
        if step is None:
            raise stopped(409, f"There is nothing to {'undo' if by < 0 else 'do again'}.", "Change a step first.")
        swap.step, swap.undos, swap.redos = step.number, swap.undos + by, swap.redos - by
        swap.treatment = Treatment.from_dict(step.treatment).as_dict()
        _treat(swap)


def _refresh(swap: Swap) -> None:
    swap.refresh_from_db()
    if swap.removed is not None:
        raise stopped(
            409, "This swap was removed, perhaps in another window.", "Undo that there, or swap the stream anew."
        )


def _treat(swap: Swap) -> None:
    """Its treatment is another one."""
    swap.revision += 1
    swap.prepared = swap.error = None
    swap.state = Swap.PREPARING if measured(swap) else Swap.READING
    report = None if swap.source == STORED else _report(swap, Treatment.from_dict(swap.treatment))
    if report is not None:
        swap.report = report.as_dict()
        if report.verdict != "fits":
            swap.state = Swap.OPEN
    swap.save()


def _prepared(swap: Swap) -> Swap:
    if swap.state != Swap.OPEN:
        enqueue(swap)
    return swap


def _points(swap: Swap, new_loop: list[int]) -> dict[str, Any]:
    """The step that sets a loop which is given in frames of what the swap leads to."""
    report = _report(swap, Treatment.from_dict(swap.treatment))
    if swap.info is None or report is None or report.target is None:
        raise stopped(409, "The swap leads to no stream yet.", "Give the loop in the file's own frames.", "new_loop")
    start, end = (report.target.in_file(frame, swap.info["rate"]) for frame in new_loop)
    return {"loop": "points", "loop_start": start, "loop_end": end}


def _report(swap: Swap, how: Treatment) -> FitReport | None:
    facts = _facts(swap)
    return fit_report(*facts, how) if facts else None


def _facts(swap: Swap) -> tuple[CoreStream, Level, AudioInfo] | None:
    """What a report compares, where it is known."""
    row, info = stream_row(swap), measured(swap)
    if info is None or row is None or swap.original_level is None:
        return None
    return open_original(row), Level(**swap.original_level), info
