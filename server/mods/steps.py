"""The steps of a swap's treatment, to which it can be brought back."""

from __future__ import annotations

from zubret_core.swap import Treatment

from .models import Swap, SwapStep

MOST = 200
"""Steps that can be undone."""


def remember(swap: Swap, how: Treatment) -> None:
    """A new treatment becomes the last step and takes the place of those that were undone. The row is not saved."""
    before, after = Treatment.from_dict(swap.treatment).as_dict(), how.as_dict()
    swap.treatment = after
    if before == after:  # tried once more
        return
    swap.steps.filter(number__gt=swap.step).delete()
    if not swap.undos:
        SwapStep.objects.update_or_create(swap=swap, number=swap.step, defaults={"treatment": before})
    swap.step, swap.redos = swap.step + 1, 0
    swap.undos = min(MOST, swap.undos + 1)
    swap.steps.filter(number__lt=swap.step - swap.undos).delete()
    SwapStep.objects.create(swap=swap, number=swap.step, treatment=after)
