"""The steps of a swap's treatment, to which it can be brought back."""

from __future__ import annotations

from zubret_core.swap import Treatment

from .models import Swap, SwapStep

MOST = 200
"""Steps that can be undone."""


REMEMBERED = ("treatment", "step", "undos", "redos")
"""What `remember` changes of a swap."""


def remember(swap: Swap, how: Treatment) -> None:
    """A new treatment becomes the last step and takes the place of those that were undone. The swap's own row is not saved."""
    before, after = Treatment.from_dict(swap.treatment).as_dict(), how.as_dict()
    swap.treatment = after
    if before == after:  # tried once more
        return
    if swap.redos:
        swap.steps.filter(number__gt=swap.step).delete()
    made = [SwapStep(swap=swap, number=swap.step + 1, treatment=after)]
    if not swap.undos:
        swap.steps.filter(number=swap.step).delete()
        made.append(SwapStep(swap=swap, number=swap.step, treatment=before))
    SwapStep.objects.bulk_create(made)
    swap.step, swap.redos = swap.step + 1, 0
    swap.undos += 1
    if swap.undos > MOST:
        swap.undos = MOST
        swap.steps.filter(number__lt=swap.step - MOST).delete()
