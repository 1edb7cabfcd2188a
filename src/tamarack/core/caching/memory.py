"""Kept answers in memory: bounded in bytes, those not used for the longest go first."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, NamedTuple

from tamarack.core.caching.kept import Kept

if TYPE_CHECKING:
    from tamarack.core.language_models.near_equal.index import Meanings
    from tamarack.core.language_models.near_equal.question import Question

MOST_KEPT = 1_000_000
"""Entries, whatever their size."""


class Listed(NamedTuple):
    """A kept answer as it is listed for people."""

    policy: str
    key: str
    status: int
    size: int
    age: int
    left: int
    """Seconds for which it is fresh; below 0 where it is over."""
    hits: int


class MemoryCache:
    """A table of kept answers. `most_bytes` bounds what they take together, keys and all."""

    def __init__(self, most_bytes: int) -> None:
        self.most_bytes = most_bytes
        self.size = 0
        self.evicted = 0
        self._kept: OrderedDict[bytes, Kept] = OrderedDict()
        self._by_path: dict[bytes, set[bytes]] = {}
        self._meanings: Meanings | None = None
        """The questions that answers are found for by their meaning."""

    def __len__(self) -> int:
        return len(self._kept)

    def get(self, key: bytes) -> Kept | None:
        """The answer kept under a key, which is now the one used last."""
        kept = self._kept.get(key)
        if kept is not None:
            self._kept.move_to_end(key)
        return kept

    def nearest(
        self, question: Question, least: float, fits: Callable[[Kept, float], bool]
    ) -> tuple[Kept, float] | None:
        """The answer kept for the question nearest by its meaning that fits, and how near that is."""
        meaning = question.meaning if self._meanings is not None and len(self._meanings) else None
        if meaning is None or self._meanings is None:
            return None
        found = self._meanings.nearest(question.group, meaning, least, lambda key, alike: fits(self._kept[key], alike))
        if found is None:
            return None
        self._kept.move_to_end(found[0])
        return self._kept[found[0]], found[1]

    def keep(self, kept: Kept) -> bool:
        """Keep an answer in place of what was kept under its key. False where it is larger than all may be."""
        key, question = kept.key, kept.question
        self.drop(key)
        if kept.size > self.most_bytes:
            return False
        self._kept[key] = kept
        self.size += kept.size
        self._by_path.setdefault(path_of(key), set()).add(key)
        if question is not None and question.meaning is not None:
            self._known_meanings().put(question.group, key, question.meaning)
            question.forget()
        while self.size > self.most_bytes or len(self._kept) > MOST_KEPT:
            self.drop(next(iter(self._kept)))
            self.evicted += 1
        return True

    def _known_meanings(self) -> Meanings:
        if self._meanings is None:
            # Here, for the library of numbers is read only where prompts are compared by their meaning.
            from tamarack.core.language_models.near_equal.index import Meanings

            self._meanings = Meanings()
        return self._meanings

    def drop(self, key: bytes) -> bool:
        """Forget what is kept under a key."""
        kept = self._kept.pop(key, None)
        if kept is None:
            return False
        self.size -= kept.size
        if self._meanings is not None:
            self._meanings.take_out(key)
        path = path_of(key)
        keys = self._by_path.get(path)
        if keys is not None:
            keys.discard(key)
            if not keys:
                del self._by_path[path]
        return True

    def invalidate(self, path: bytes) -> int:
        """Forget all that is kept of a path, whatever its query (RFC 9111, 4.4). Returns how many."""
        return sum(self.drop(key) for key in list(self._by_path.get(path, ())))

    def purge(self, policy: str, prefix: str = "", exact: bool = False, before: float = float("inf")) -> int:
        """Forget what a policy kept before a moment: all, or the keys that begin with `prefix`, or that are it."""
        found = [key for key, kept in self._kept.items() if kept.policy == policy and kept.kept_at <= before]
        return sum(self.drop(key) for key in found if meant(shown_key(key), prefix, exact))

    def listed(self, policy: str, search: str, now: float, most: int) -> list[Listed]:
        """What a policy keeps, by hits."""
        return sorted(self._of(policy, search, now), key=lambda one: -one.hits)[:most]

    def _of(self, policy: str, search: str, now: float) -> Iterator[Listed]:
        for key, kept in list(self._kept.items()):
            if kept.policy == policy and search in (shown := shown_key(key)):
                yield listed(kept, shown, now)

    def totals(self, policy: str) -> tuple[int, int]:
        """How many answers a policy keeps, and their bytes."""
        sizes = [kept.size for kept in self._kept.values() if kept.policy == policy]
        return len(sizes), sum(sizes)


def meant(shown: str, prefix: str, exact: bool) -> bool:
    """Whether a purge of a prefix, or of one key exactly, means a key."""
    return shown == prefix if exact else shown.startswith(prefix)


def listed(kept: Kept, shown: str, now: float) -> Listed:
    """A kept answer as it is listed."""
    return Listed(kept.policy, shown, kept.status, kept.size, kept.age(now), int(kept.fresh_until - now), kept.hits)


SPACE = 8
"""Bytes at the start of each key: a digest of its policy and of the backend, so that another one begins anew."""


def path_of(key: bytes) -> bytes:
    """The path that a key is of: what stands behind its host, up to the query."""
    address = key[SPACE:].partition(b"\n")[0].partition(b"://")[2]
    start = address.find(b"/")
    return address[start:].partition(b"?")[0] if start >= 0 else b"/"


def shown_key(key: bytes) -> str:
    """A key as people read it: the method and address, then one line for each thing that it depends on."""
    return key[SPACE:].decode("latin-1").replace("\n", "  ·  ")
