"""Documents kept in memory between requests, by how much they take: the least lately used go first."""

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock
from typing import Any


class KeptTrees:
    """Trees of documents, together at most so many characters of JSON. One that is empty is not kept."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._kept: OrderedDict[Hashable, tuple[dict[str, Any], int]] = OrderedDict()
        self._size = 0
        self._lock = Lock()

    def get(self, key: Hashable, read: Callable[[], dict[str, Any]], size: Callable[[], int]) -> dict[str, Any]:
        """The tree of a key, read where it is not kept."""
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key][0]
        tree = read()
        if tree:
            with self._lock:
                if key not in self._kept:
                    self._kept[key] = tree, size()
                    self._size += self._kept[key][1]
                while self._size > self._most and len(self._kept) > 1:
                    self._size -= self._kept.popitem(last=False)[1][1]
        return tree
