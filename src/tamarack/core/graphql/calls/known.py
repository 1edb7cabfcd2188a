"""Documents that are known by an id: those that a policy holds, and those that callers registered where they may."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Mapping
from hashlib import sha256

LONGEST = 20_000
"""Characters of a document that a caller registers."""
MOST = 1_000
MOST_CHARACTERS = 2_000_000
"""Of those that callers registered; the ones asked for last are kept."""


def id_of(document: str) -> str:
    """The id of a document: a digest of its text (GraphQL over HTTP, persisted documents)."""
    return f"sha256:{sha256(document.strip().encode()).hexdigest()}"


class KnownDocuments:
    """Documents by their ids."""

    def __init__(self, by_id: Mapping[str, str], registers: bool = False) -> None:
        self._by_id = by_id
        self._texts = frozenset(by_id.values())
        self._registers = registers
        self._registered: OrderedDict[str, str] = OrderedDict()
        self._size = 0

    def __bool__(self) -> bool:
        return bool(self._by_id) or self._registers

    def find(self, id: str) -> str | None:
        """The document of an id; None where it is not known."""
        found = self._by_id.get(id) or self._registered.get(id)
        if found is not None and id in self._registered:
            self._registered.move_to_end(id)
        return found

    def register(self, id: str, document: str) -> bool:
        """Make a document known that came with its id; False where that is not for callers, it is too long, or
        that is not its id."""
        if not self._registers or len(document) > LONGEST or id != id_of(document):
            return False
        if id not in self._registered:
            self._registered[id] = document
            self._size += len(document)
            while len(self._registered) > MOST or self._size > MOST_CHARACTERS:
                self._size -= len(self._registered.popitem(last=False)[1])
        return True

    def holds(self, document: str) -> bool:
        """Whether a policy holds a document."""
        return document.strip() in self._texts


NONE = KnownDocuments({})
