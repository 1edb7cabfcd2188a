"""Documents that were read for an API, kept by their text; and for whom nothing new is read at present."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Sequence

from tamarack.core.carrying.call import Call
from tamarack.core.graphql.closed.withheld import Withheld, without
from tamarack.core.graphql.document import MOST_TOKENS, Document, DocumentProblem, read
from tamarack.core.graphql.schema import Graph


def asker(call: Call) -> str:
    """Whose documents are read: an application's, or those of an address."""
    return call.caller.application_id if call.caller is not None else call.address


class Documents:
    """Documents that were read, by their text: those used last are kept, within bounds."""

    MOST = 2_000
    MOST_CHARACTERS = 4_000_000
    MOST_SPARED = 10_000
    SPARED_S = 1.0
    PATIENCE = 3
    """A caller that limits refused so often within that time has nothing new read for the rest of it: reading comes
    before limits are asked, which may count what a document costs, and takes its time."""

    def __init__(self, graph: Graph | None) -> None:
        self.graph = graph
        self._kept: OrderedDict[str, Document | DocumentProblem] = OrderedDict()
        self._size = 0
        self._without: OrderedDict[tuple[str, str, frozenset[str]], Withheld] = OrderedDict()
        self._without_size = 0
        self._refused: dict[str, list[float]] = {}
        """Until when refusals of each caller count, and how many there were."""

    def not_admitted(self, call: Call) -> None:
        """Note that a limit refused a caller."""
        if len(self._refused) >= self.MOST_SPARED:
            self._refused.clear()
        noted = self._refused.get(asker(call))
        if noted is None or noted[0] <= call.now:
            self._refused[asker(call)] = [call.now + self.SPARED_S, 1]
        else:
            noted[1] += 1

    def spares(self, call: Call, texts: Sequence[str]) -> bool:
        """Whether a caller has to wait for what is new to be read."""
        noted = self._refused.get(asker(call)) if self._refused else None
        if noted is None or noted[1] < self.PATIENCE or noted[0] <= call.now:
            return False
        return any(text not in self._kept for text in texts)

    def read(self, text: str) -> Document:
        """A document, read or kept; what is wrong with one is kept too. Raises `DocumentProblem`."""
        return self.each([text])[0]

    def each(self, texts: Sequence[str]) -> list[Document]:
        """The documents of one call, which together have as many tokens as one may have. Raises `DocumentProblem`."""
        found, left = [], MOST_TOKENS
        for text in texts:
            kept = self._kept.get(text)
            if kept is None:
                kept = self._keep(text, left)
                left -= kept.tokens if isinstance(kept, Document) else left
            else:
                self._kept.move_to_end(text)
            if isinstance(kept, DocumentProblem):
                raise kept
            found.append(kept)
        return found

    def _keep(self, text: str, tokens: int) -> Document | DocumentProblem:
        made: Document | DocumentProblem
        try:
            made = read(text, self.graph, max(1, tokens))
        except DocumentProblem as problem:
            made = problem
            if tokens < MOST_TOKENS:
                return made  # by itself it may be let through
        self._kept[text] = made
        self._size += len(text)
        while len(self._kept) > self.MOST or self._size > self.MOST_CHARACTERS:
            self._size -= len(self._kept.popitem(last=False)[0])
        return made

    def without(self, text: str, operation: str, hidden: frozenset[str]) -> Withheld:
        """One operation of a document without what is hidden, made or kept."""
        assert self.graph is not None
        key = (text, operation, hidden)
        found = self._without.get(key)
        if found is None:
            found = self._without[key] = without(text, operation, self.graph, hidden.__contains__)
            self._without_size += len(text)
            while len(self._without) > self.MOST or self._without_size > self.MOST_CHARACTERS:
                (text, _, _), _ = self._without.popitem(last=False)
                self._without_size -= len(text)
        else:
            self._without.move_to_end(key)
        return found
