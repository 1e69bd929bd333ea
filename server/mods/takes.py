"""The takes of a swap: several sources may wait for one stream, and one of them is chosen."""

from __future__ import annotations

from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.db.models import Max, QuerySet
from django.utils import timezone

from zubret_core.audio.files import READABLE, file_format
from zubret_core.base import ZubretError
from zubret_core.source import Source
from zubret_core.swap import STREAM, Treatment

from ..bulk import among
from ..errors import stopped
from ..games.models import Game
from ..shelf.models import Stream, unpack_locator
from .entry_files import in_the_way
from .models import Mod, Swap
from .preparing import enqueue
from .uploads import kept_upload

FITTED = ("resample", "mix", "length", "match", "lufs", "ceiling_db", "limit", "align")
"""Steps that a new take has as the one before it had them: they say what the stream wants, and nothing of the file."""


def from_file(mod: Mod, stream: Stream, upload: UploadedFile, waits: bool = False) -> Swap:
    """Keep an uploaded file and take it for a stream; one that waits is prepared when many are (`many.prepare`)."""
    _is_free(mod, stream.locator)
    name, place, _ = kept_upload(mod, upload, _must_be_audio)
    return _taken(mod, stream, Swap(source_name=name, source_path=str(place)), waits)


def from_stream(mod: Mod, stream: Stream, other: Stream) -> Swap:
    """Take another stream of the same game for a stream."""
    _is_free(mod, stream.locator)
    if other.locator == stream.locator:
        raise stopped(422, "This is the stream itself.", "Begin with the original, or choose another stream.", "other")
    name = str(unpack_locator(other.locator))[-300:]
    return _taken(mod, stream, Swap(source=STREAM, source_name=name, source_locator=other.locator))


def _is_free(mod: Mod, locator: str) -> None:
    file = in_the_way(mod.live_files(), unpack_locator(locator))
    if file:
        raise stopped(
            409,
            f"{file.source_name} takes the place of the entry in which this stream stands.",
            "Remove that file from the mod first; it is listed in Survey.",
            file.label,
        )


def _taken(mod: Mod, stream: Stream, swap: Swap, waits: bool = False) -> Swap:
    """A new take is the chosen one; those before it wait."""
    with transaction.atomic():
        before = mod.live_swaps().filter(locator=stream.locator).first()
        steps = {name: before.treatment[name] for name in FITTED if name in before.treatment} if before else {}
        let_wait(mod, [stream.locator])
        swap.mod, swap.locator = mod, stream.locator
        swap.state = Swap.HELD if waits else Swap.READING
        swap.treatment = {**Treatment().as_dict(), **steps}
        swap.save()
        Game.has_said(mod.game_id)
    if not waits:
        enqueue(swap)
    return swap


def let_wait(mod: Mod, locators: list[str]) -> None:
    """No take of these streams is the chosen one any more."""
    mod.live_swaps().filter(locator__in=among(locators)).update(chosen=False)


def _of_stream(swap: Swap) -> QuerySet[Swap]:
    """All takes for the same stream, removed ones among them."""
    return Swap.objects.filter(mod=swap.mod_id, locator=swap.locator)


def choose(swap: Swap) -> Swap:
    """Have the mod take this one."""
    with transaction.atomic():
        swap.refresh_from_db()
        if swap.removed is not None:
            raise stopped(409, "This take was removed, perhaps in another window.", "Undo that there first.")
        _is_free(swap.mod, swap.locator)
        let_wait(swap.mod, [swap.locator])
        Swap.objects.filter(pk=swap.pk).update(chosen=True)
        Game.has_said(swap.mod.game_id)
    swap.refresh_from_db()
    return swap


def choose_newest(mod: Mod, locators: list[str]) -> None:
    """Of streams that have takes but none that is chosen, choose the newest."""
    live = mod.takes().filter(locator__in=among(locators)).exclude(locator__in=mod.live_swaps().values("locator"))
    newest = live.order_by().values("locator").annotate(newest=Max("pk")).values_list("newest", flat=True)
    Swap.objects.filter(pk__in=among(list(newest))).update(chosen=True)


def remove(swap: Swap, all_takes: bool = False) -> None:
    """Take one out of the mod, or all of the stream; `restore` brings back what went together. Of those that stay, the newest
    is chosen where the chosen one goes."""
    with transaction.atomic():
        live = _of_stream(swap).filter(removed__isnull=True)
        (live if all_takes else live.filter(pk=swap.pk)).update(removed=timezone.now())
        choose_newest(swap.mod, [swap.locator])
        Game.has_said(swap.mod.game_id)


def restore(swap: Swap) -> Swap:
    """Undo a removal; a take that was chosen before is chosen again."""
    with transaction.atomic():
        swap.refresh_from_db()
        if swap.removed is not None:
            gone = _of_stream(swap).filter(removed=swap.removed)
            if gone.filter(chosen=True).exists():
                let_wait(swap.mod, [swap.locator])
            gone.update(removed=None)
        Game.has_said(swap.mod.game_id)
    swap.refresh_from_db()
    return swap


def _must_be_audio(source: Source) -> None:
    """Refuse at once what is no audio file; the rest is found when it is decoded."""
    if source.size == 0:
        raise ZubretError("The file is empty.", file=source.name, next=f"Choose a {READABLE} file.")
    found = file_format(source)
    if found is None:
        raise ZubretError(
            "This is not an audio file that can be read.", file=source.name, next=f"Choose a {READABLE} file."
        )
    if found.frames == 0:
        raise ZubretError(
            "The audio file holds no sound: its length is 0 frames.",
            file=source.name,
            next="Choose a file with audio in it.",
        )
