"""What is kept because it is asked for again."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from typing import Any, Generic, TypeVar

K = TypeVar("K")
V = TypeVar("V")


class Kept(Generic[K, V]):
    """Things by their keys, for all threads of this process, together of weight `most`; the longest unused go first. Without
    `weigh` each weighs 1. One that is heavier than all is kept as long as no other is.
    """

    def __init__(self, most: int, weigh: Callable[[V], int] = lambda thing: 1):
        self._most, self._weigh, self._weight = most, weigh, 0
        self._things: OrderedDict[K, tuple[V, int]] = OrderedDict()
        self._making: dict[K, threading.Lock] = {}
        self._lock = threading.Lock()

    def get(self, key: K) -> V | None:
        """What is kept under a key; None where nothing is."""
        with self._lock:
            if key not in self._things:
                return None
            self._things.move_to_end(key)
            return self._things[key][0]

    def put(self, key: K, thing: V) -> V:
        """Keep a thing; it is given back."""
        weight = self._weigh(thing)
        with self._lock:
            self._weight += weight - self._things.get(key, (thing, 0))[1]
            self._things[key] = thing, weight
            self._things.move_to_end(key)
            while self._weight > self._most and len(self._things) > 1:
                _, (_, gone) = self._things.popitem(last=False)
                self._weight -= gone
        return thing

    def made(self, key: K, make: Callable[[], V]) -> V:
        """What is kept, or else is made now: once, while others who want the same wait, and nobody else does."""
        if (found := self.get(key)) is not None:
            return found
        with self._lock:
            making = self._making.setdefault(key, threading.Lock())
        with making:
            try:
                found = self.get(key)
                return self.put(key, make()) if found is None else found
            finally:
                with self._lock:
                    self._making.pop(key, None)


class once(Generic[V]):
    """A property that is worked out when it is first asked for. Unlike functools.cached_property of Python 3.11, whose one
    lock serves all objects of a class, it lets other threads work out those of other objects meanwhile."""

    def __init__(self, work_out: Callable[[Any], V]):
        self._work_out, self.__doc__ = work_out, work_out.__doc__

    def __set_name__(self, owner: type, name: str) -> None:
        self._name = name

    def __get__(self, instance: Any, owner: type) -> V:
        value = instance.__dict__[self._name] = self._work_out(instance)
        return value
