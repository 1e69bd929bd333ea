"""The key ring of a game, and trying its keys on locked archives."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from zubret_core.base import Progress, ZubretError
from zubret_core.locate import key_bytes, kind_of, try_keys

from ..errors import stopped
from ..games.folders import original_folder
from ..games.models import Game, Key, SurveyFile
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from ..layouts.known import known_for
from ..surveys.surveying import choose_keys, start_survey

LENGTHS = range(1, 4097)
"""Bytes that a key may have."""


def add_key(game: Game, label: str, builds: str, text: str) -> Key:
    """A key in any usual spelling; one that the ring has already is an error."""
    secret = key_bytes(text)
    if len(secret) not in LENGTHS:
        raise ZubretError(f"A key of {len(secret):,} bytes is too long.", field="key", next="Copy only the key itself.")
    known = game.keys.filter(secret=secret.hex()).first()
    if known:
        raise stopped(409, f'The ring has this key already, as "{known.label}".', "Try the keys.")
    return Key.objects.create(game=game, label=label.strip()[:100] or "key", builds=builds.strip(), secret=secret.hex())


def key_out(key: Key) -> dict[str, Any]:
    """A key as the API gives it: masked, with what it opens."""
    return {
        "id": key.pk,
        "label": key.label,
        "builds": key.builds,
        "masked": f"{key.secret[:2]}{'•' * 6}{key.secret[-2:]}" if len(key.secret) > 8 else "•" * 6,
        "bytes": len(key.secret) // 2,
        "opens": sorted({choice.path for choice in key.choices.all()}),
    }


def start_trying(game: Game) -> Job:
    """Try all keys on all locked archives, as a job."""
    if not game.keys.exists():
        raise stopped(409, "The key ring is empty.", "Add a key first.")
    return start(TryKeys(), f"Trying keys on {game.name}", game)


@dataclass(frozen=True)
class TryKeys(Order):
    """Try the key ring of the job's game."""

    kind: ClassVar[str] = "keys"


@dataclass(frozen=True)
class Tried:
    """What trying all keys on an archive gave: the labels of those that open it, the evidence, or why not."""

    path: str
    opens: bool
    key: str
    evidence: str
    why: str


@dataclass(frozen=True)
class KeysTried:
    """Every archive whose layout wants keys."""

    archives: list[Tried]


@work("quick")
def try_all(job: Job, order: TryKeys, progress: Progress) -> KeysTried:
    """Every key on every archive whose layout wants one; what opens anew is surveyed."""
    game = job.game
    assert game is not None
    survey = game.current_survey()
    ring = list(game.keys.order_by("pk"))
    known, folder = known_for(game), original_folder(game)
    files = (
        survey.seen.filter(inside=False, archive__isnull=False).order_by("path")
        if survey
        else SurveyFile.objects.none()
    )
    out, opened_anew = [], False
    for n, file in enumerate(files):
        progress(n, len(files), f"trying {file.path}")
        try:
            with folder.open(file.path) as source:
                kind = kind_of(source, known)
                if kind is None or kind.layout is None or not kind.layout.keys:
                    continue
                trial = try_keys(kind.layout, source, folder.beside(file.path), [bytes.fromhex(k.secret) for k in ring])
        except ZubretError as e:
            out.append(Tried(file.path, False, "", "", str(e)))
            continue
        chosen = {name: ring[i] for name, i in trial.chosen.items()}
        if trial.opens:
            choose_keys(game, file.path, chosen)
            opened_anew |= file.what == SurveyFile.LOCKED
        labels = ", ".join(dict.fromkeys(k.label for k in chosen.values()))
        why = trial.why and f"{trial.why} A key of another build of the game would do so, too."
        out.append(Tried(file.path, trial.opens, labels, trial.evidence, why))
    if opened_anew:
        start_survey(game, changed=True)
    return KeysTried(out)
