"""Documents that were read for an API, kept by their text; and for whom nothing new is read at present."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Sequence

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.refusals import Refusal
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
    """For how long nothing new is read for a caller that is over a limit: reading comes before limits are asked, which
    may count what a document costs, and takes its time."""

    def __init__(self, graph: Graph | None) -> None:
        self.graph = graph
        self._kept: OrderedDict[str, Document | DocumentProblem] = OrderedDict()
        self._size = 0
        self._without: OrderedDict[tuple[str, str, frozenset[str]], Withheld] = OrderedDict()
        self._without_size = 0
        self._spared: dict[str, tuple[Refusal, float]] = {}

    def spare(self, asker: str, refusal: Refusal, now: float) -> None:
        """Read nothing new for someone for a moment, who is refused so instead."""
        if len(self._spared) >= self.MOST_SPARED:
            self._spared.clear()
        self._spared[asker] = refusal, now + self.SPARED_S

    def spared(self, call: Call, texts: Sequence[str]) -> Refusal | None:
        """Why nothing new is read for a caller at present; None where it is, or where all is known already."""
        found = self._spared.get(asker(call)) if self._spared else None
        if found is None or all(text in self._kept for text in texts):
            return None
        refusal, until = found
        if call.now < until:
            return refusal
        del self._spared[asker(call)]
        return None

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
