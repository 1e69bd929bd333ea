"""The load rules of games: which apply to one, the ways in which it takes changes, and the one that is chosen."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path

from zubret_core.container import GameFolder
from zubret_core.layout import LoadRules, shipped_rules
from zubret_core.locate import LoadOrder
from zubret_core.locate.reads import build_of, recognised

from ..errors import stopped
from ..games.folders import original_folder
from ..games.models import Game
from ..games.players import player_of
from .known import newest_texts

IN_PLACE = ""


@dataclass(frozen=True)
class Way:
    """A way in which a game takes changes. name: "" for the place of the old file; kind: in place, new archive, loose files, overlay
    folder; what: a sentence on what is done; by_hand: what only a person can do for it."""

    name: str
    title: str
    kind: str
    what: str
    by_hand: tuple[str, ...]


def all_rules() -> list[LoadRules]:
    """The user's load rules, the newest first, then those that ship."""
    own = [(version.pk, one) for version, one in newest_texts() if isinstance(one, LoadRules)]
    return [*(one for _, one in sorted(own, key=lambda pair: -pair[0])), *shipped_rules()]


def rules_of(game: Game) -> LoadRules | None:
    """The load rules that recognise a game's folder; None where none do, or it is not there."""
    return _recognising(original_folder(game)) if Path(game.folder).is_dir() else None


def _recognising(folder: GameFolder) -> LoadRules | None:
    return next((rules for rules in all_rules() if recognised(rules, folder)), None)


def order_of(game: Game) -> LoadOrder | None:
    """What a game reads from, as its files are without anything installed; None where nobody knows."""
    rules = rules_of(game)
    return LoadOrder(rules, original_folder(game)) if rules else None


def told_of(place: Path) -> tuple[str, str]:
    """The program that can play the game in a folder, and the build that its files tell; nothing where there is none."""
    rules = _recognising(GameFolder(place))
    return player_of(place), build_of(rules, GameFolder(place)) if rules else ""


def telling() -> set[str]:
    """The files that tell which game, and which build of it, a folder holds."""
    rules = all_rules()
    return {known.file for one in rules for known in one.recognise} | {one.build.file for one in rules if one.build}


def ways_of(rules: LoadRules | None) -> list[Way]:
    """Every way in which a game takes changes; of one without load rules only the place of the old file."""
    out = []
    if rules is None or rules.in_place:
        what = "each changed file takes the place of the old one, which is kept"
        out.append(Way(IN_PLACE, "in place", "in place", what, tuple(rules.by_hand if rules else ())))
    for one in rules.reads if rules else ():
        if one.new is None:
            continue
        if one.of_archives:
            kind, what = (
                "new archive",
                f"a new archive such as {(one.new.file or '').format(number=one.new.first)} holds what changes and wins over the others",
            )
        elif one.folders is not None:
            kind = "overlay folder"
            what = f"what changes lies in {one.new.folder}, which a line in {one.folders.file} names"
        else:
            kind = "loose files"
            what = f"what changes lies in {one.files or 'the game folder'}; archives that would win over it are set aside, all else "
            what += "in them is unpacked"
        by_hand = (*(rules.by_hand if rules else ()), *one.new.by_hand)
        out.append(Way(one.name, one.shown, kind, what, by_hand))
    return out


def way_of(game: Game, rules: LoadRules | None) -> Way:
    """The way that is chosen for a game; the first where that one is none of its ways any more."""
    ways = ways_of(rules)
    return next((way for way in ways if way.name == game.way), ways[0])


def mark_of(game: Game) -> dict[str, str]:
    """A text that changes with the way in which a game takes changes, as what a rebuild is made of holds it; nothing for a game
    without load rules."""
    rules = rules_of(game)
    if rules is None:
        return {}
    digest = hashlib.blake2b(rules.model_dump_json().encode(), digest_size=8).hexdigest()
    return {"way": f"{way_of(game, rules).name} of {rules.id}, {digest}"}


def choose_way(game: Game, name: str) -> None:
    """Have a game take changes this way from now on."""
    if name not in {way.name for way in ways_of(rules_of(game))}:
        raise stopped(404, f'The load rules of this game have no way "{name}".', "Choose one from the list.", "way")
    Game.objects.filter(pk=game.pk).update(way=name)


def tick(game: Game, text: str, done: bool) -> None:
    """Remember whether a person has done what only a person can do."""
    ticked = [one for one in game.ticked if one != text] + ([text] if done else [])
    Game.objects.filter(pk=game.pk).update(ticked=ticked[-100:])
