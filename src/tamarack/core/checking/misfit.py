"""A misfit: one thing in a request or an answer that its description does not know."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal, NamedTuple

import orjson

from tamarack.core.text import one_line

Side = Literal["request", "answer"]
MOST = 50
"""Misfits that are told of one call."""
LONGEST_NAME = 200
MISFITS = "what does not fit"
"""How the note of a call begins that did not fit."""
NO_PATH = "no operation is described at this path"
NO_METHOD = "the path is described, but not for this method"
TOO_MANY = "other misfits, of which there are too many to be counted each"


class Misfit(NamedTuple):
    """Where it is, and what is wrong, in words that never hold the value.

    `place` is `path`, `query`, `header`, `cookie`, `body`, or `status`; `name` the parameter's or field's name, the
    place within a body as a JSON Pointer (RFC 6901), or the status itself.
    """

    side: Side
    place: str
    name: str
    words: str
    undescribed: bool = False
    """The description does not name it, rather than saying otherwise."""

    def __str__(self) -> str:
        where = {"body": f"body {self.name}".rstrip(), "status": f"status {self.name}"}
        return f"{where.get(self.place, f'{self.place} {self.name}')} {self.words}"

    @property
    def field(self) -> str:
        """The place for counting: the same for all items of a list."""
        if self.place != "body":
            return self.name
        return "/".join("*" if part.isascii() and part.isdigit() else part for part in self.name.split("/"))

    def as_error(self) -> dict[str, str]:
        """As a member of a problem's `errors`; the pointer is a fragment, as in the example of RFC 9457, section 3."""
        if self.place == "body":
            return {"detail": f"{'the body ' if not self.name else ''}{self.words}", "pointer": f"#{self.name}"}
        return {"detail": self.words, "in": self.place, "parameter": self.name}


def misfit(side: Side, place: str, name: str, words: str, undescribed: bool = False) -> Misfit:
    """A misfit whose name is a caller's or a backend's text: one line of bounded length."""
    return Misfit(side, place, one_line(name)[:LONGEST_NAME], one_line(words), undescribed)


def in_one_line(misfits: Sequence[Misfit]) -> str:
    """Misfits for a note: the first few, and how many more."""
    told = "; ".join(map(str, misfits[:3]))
    more = f"; and {len(misfits) - 3} more" if len(misfits) > 3 else ""
    return f"{MISFITS}: {told}{more}"


def as_members(misfits: Sequence[Misfit]) -> bytes:
    """The member `errors` of a problem, to be put behind others."""
    told: list[Any] = [one.as_error() for one in misfits]
    return b', "errors": ' + orjson.dumps(told)
