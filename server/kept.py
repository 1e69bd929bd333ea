"""A bounded memory of what is asked for again."""

from __future__ import annotations

import threading
from collections import OrderedDict
from typing import Generic, TypeVar

K = TypeVar("K")
V = TypeVar("V")


class Kept(Generic[K, V]):
    """At most `most` things by their keys, for all threads of this process; the longest unused go first."""

    def __init__(self, most: int):
        self._most = most
        self._things: OrderedDict[K, V] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: K) -> V | None:
        with self._lock:
            if key in self._things:
                self._things.move_to_end(key)
            return self._things.get(key)

    def put(self, key: K, thing: V) -> V:
        """Keep a thing; it is given back."""
        with self._lock:
            self._things[key] = thing
            self._things.move_to_end(key)
            while len(self._things) > self._most:
                self._things.popitem(last=False)
        return thing
