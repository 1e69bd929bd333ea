"""What a game is read with: the user's layouts and the shipped ones, its keys, its name lists."""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Mapping
from contextlib import suppress
from functools import cache, lru_cache
from pathlib import Path

from django.db.models import Max, QuerySet

import zubret_core
from zubret_core.base import ZubretError
from zubret_core.layout import Layout, LoadRules, load, shipped_layouts, shipped_texts
from zubret_core.layout.loading.reuse import Others, others_among, uses_others
from zubret_core.locate import Kind, Known, names_by_id

from ..errors import stopped
from ..games.models import Game, KeyChoice, NameList, Pin
from .models import LayoutVersion

_lock = threading.Lock()


@lru_cache(maxsize=64)
def _loaded(pk: int, text: str, name: str, used: tuple[str, ...]) -> Layout | LoadRules:
    return load(text, name, others_among(used))


def others() -> Others:
    """The texts of the user's layouts as they were saved last, by id: for a text that uses another."""
    return others_among(_newest().values_list("text", flat=True))


def _newest() -> QuerySet[LayoutVersion]:
    newest = LayoutVersion.objects.values("layout").annotate(pk_max=Max("pk")).values("pk_max")
    return LayoutVersion.objects.filter(pk__in=newest).order_by("slug")


def user_layouts() -> list[tuple[LayoutVersion, Layout]]:
    """The newest version of each of the user's layouts."""
    return [(v, one) for v, one in newest_texts() if isinstance(one, Layout)]


def newest_texts() -> list[tuple[LayoutVersion, Layout | LoadRules]]:
    """The newest version of each of the user's texts, layouts and load rules, but for those that no longer load: a plug-in that one
    names may be gone."""
    out, all = [], list(_newest())
    texts = tuple(version.text for version in all)
    for version in all:
        with suppress(ZubretError):
            used = texts if uses_others(version.text) else ()
            out.append((version, _loaded(version.pk, version.text, version.slug, used)))
    return out


def why_not(text: str, among: Others) -> str:
    """Why a saved text no longer loads, with others among which it may use; empty where it does."""
    try:
        load(text, others=among)
    except ZubretError as e:
        return f"{e.where}: {e.what}"
    return ""


def known_for(game: Game) -> Known:
    """The layouts, keys and names with which a game is read now."""
    choices: dict[str, dict[str, bytes]] = {}
    for choice in KeyChoice.objects.filter(game=game).select_related("key"):
        choices.setdefault(choice.path, {})[choice.name] = bytes.fromhex(choice.key.secret)
    lists = {n.path: n for n in NameList.objects.filter(game=game).order_by("pk")}
    layouts = [layout for _, layout in user_layouts()]

    def keys(layout: Layout, path: str) -> Mapping[str, bytes]:
        return choices.get(path, {})

    def names(layout: Layout, path: str) -> Mapping[str, str]:
        return _names(layout.id, layout, lists[path].pk, lists[path].text) if path in lists else {}

    return Known([*layouts, *shipped_layouts()], keys, names, pins_of(game))


def pins_of(game: Game) -> dict[str, str]:
    """The layouts that were chosen for places of a game, by path."""
    return dict(Pin.objects.filter(game=game).values_list("path", "slug"))


def pin(game: Game, path: str, slug: str) -> None:
    """Choose a layout for a file, a folder (with a slash behind it) or the game (""); an empty slug takes the choice away."""
    if not slug:
        Pin.objects.filter(game=game, path=path).delete()
        return
    if known_for(game).layout_named(slug) is None:
        raise stopped(404, f'No layout is named "{slug}".', "Choose one from the list, and save it for surveys first.")
    Pin.objects.update_or_create(game=game, path=path, defaults={"slug": slug})


_names_cache: dict[tuple[str, int, int], dict[str, str]] = {}


def _names(slug: str, layout: Layout, pk: int, text: str) -> dict[str, str]:
    key = slug, pk, hash(text)
    with _lock:
        if key not in _names_cache:
            if len(_names_cache) > 16:
                _names_cache.clear()
            _names_cache[key] = names_by_id(layout, text.splitlines())
        return _names_cache[key]


class Readers:
    """What decides how the files of a game are read, looked up once."""

    def __init__(self, game: Game):
        self._layouts = user_layouts()
        self._pins = pins_of(game)
        self._keys: dict[str, list[str]] = {}
        for choice in KeyChoice.objects.filter(game=game).order_by("name"):
            self._keys.setdefault(choice.path, []).append(f"{choice.name} {choice.key_id}")
        self._names = dict(NameList.objects.filter(game=game).order_by("pk").values_list("path", "pk"))

    def of(self, path: str, kind: Kind) -> str:
        """A text that changes with the layouts, keys and names by which a file is read; "" where all is as shipped.

        Any layout of the user's may recognise an entry, so an archive is read again when one of them changes.
        """
        if not (self._layouts or self._pins or path in self._keys or path in self._names):
            return ""
        used = any(layout is kind.layout and uses_others(v.text) for v, layout in self._layouts)
        every = kind.is_archive or used
        parts = [f"layout {v.pk}" for v, layout in self._layouts if every or layout is kind.layout]
        parts += self._keys.get(path, []) + [f"pin {where} {slug}" for where, slug in sorted(self._pins.items())]
        if path in self._names:
            parts.append(f"names {self._names[path]}")
        return _digest(parts) if parts else ""

    def whole(self) -> str:
        """A text that changes with anything that decides what a survey finds in the same files: what `all` tells, keys and
        names."""
        return _digest([self.all(), *(repr(sorted(of.items())) for of in (self._keys, self._names, self._pins))])

    def all(self) -> str:
        """A text that changes with all that recognises files: the user's layouts, those that ship, the program itself."""
        return _digest([f"layout {v.pk}" for v, _ in self._layouts] + [*shipped_texts().values(), _program()])


@cache
def _program() -> str:
    """A text that changes when another version of the core is installed."""
    folder = Path(zubret_core.__file__).parent
    files = ((f.relative_to(folder).as_posix(), f.stat()) for f in sorted(folder.rglob("*.py")))
    return _digest([f"{name} {stat.st_size} {stat.st_mtime_ns}" for name, stat in files])


def _digest(parts: list[str]) -> str:
    return hashlib.blake2b("|".join(parts).encode(), digest_size=16).hexdigest()
