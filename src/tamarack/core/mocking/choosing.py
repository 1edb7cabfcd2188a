"""Which of an operation's answers a mock gives: the lowest success, or another by status, name and media type."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from tamarack.core.mocking.documented import DocumentedAnswer
from tamarack.core.openapi.example_bodies import media_of

_PREFER = re.compile(rb'(?:^|[,;])\s*(code|example)\s*=\s*(?:"([^"]*)"|([^",;\s]+))', re.IGNORECASE)
_RANGE = re.compile(r"\s*([^;,\s]+)\s*((?:;[^,]*)?)")
_Q = re.compile(r";\s*q\s*=\s*([01](?:\.[0-9]{0,3})?)", re.IGNORECASE)


class ReadyAnswer:
    """An answer ready to send."""

    __slots__ = ("body", "fields", "media", "name", "status")

    def __init__(self, answer: DocumentedAnswer) -> None:
        self.status = answer.status
        self.name = answer.name
        self.media = media_of(answer.media)
        self.body = answer.body.encode()
        fields = b"".join(b"%b: %b\r\n" % (n.encode("latin-1"), v.encode("latin-1")) for n, v in answer.fields)
        if answer.media:
            fields += b"content-type: %b\r\n" % answer.media.encode("latin-1", "replace")
        self.fields = fields


class Answers:
    """The answers of one operation."""

    __slots__ = ("by_status", "usual")

    def __init__(self, answers: Sequence[DocumentedAnswer]) -> None:
        self.by_status: dict[int, list[ReadyAnswer]] = {}
        for answer in answers:
            self.by_status.setdefault(answer.status, []).append(ReadyAnswer(answer))
        successes = [status for status in self.by_status if status < 300]
        self.usual = min(successes or self.by_status, default=0)
        """The lowest documented success; where there is none, the lowest status at all."""

    def choose(self, accept: str, status: int = 0, name: str = "") -> ReadyAnswer | None:
        """The answer of a status (0 for the usual one) and name, in a media type that the caller takes.

        A caller that takes none of them is given the first (RFC 9110, 12.4.1). None where there is no such answer.
        """
        if name and not status:
            status = next((s for s, all in sorted(self.by_status.items()) for one in all if one.name == name), 0)
            if not status:
                return None
        found = self.by_status.get(status or self.usual, [])
        if name:
            found = [one for one in found if one.name == name]
        if len(found) < 2 or not accept or accept == "*/*":
            return found[0] if found else None
        best = max(found, key=lambda one: quality(accept, one.media))
        return best if quality(accept, best.media) > 0 else found[0]


def quality(accept: str, media: str) -> float:
    """How much an Accept field wants a media type, from 0 to 1; the most specific range counts (RFC 9110, 12.5.1)."""
    best, found = -1, 0.0
    kind = media.partition("/")[0]
    for given in accept.split(","):
        match = _RANGE.match(given)
        if match is None:
            continue
        wanted = match[1].lower()
        rank = 2 if wanted == media else 1 if wanted == f"{kind}/*" else 0 if wanted == "*/*" else -1
        if rank > best:
            weight = _Q.search(match[2])
            best, found = rank, float(weight[1]) if weight else 1.0
    return found


def preferred(values: Iterable[bytes]) -> tuple[int, str]:
    """Status and name of the answer that a caller prefers (RFC 7240): `Prefer: code=404`, `Prefer: example=full`."""
    code, name = 0, ""
    for value in values:
        for key, quoted, plain in _PREFER.findall(value):
            said = (quoted or plain).decode("latin-1")
            if key.lower() == b"example":
                name = name or said
            elif said.isdigit() and not code:
                code = int(said[:4])
    return code, name
