"""Paths that callers ask for and that nobody describes, told apart by their shape: an id is not a path of its own."""

from __future__ import annotations

import re
from collections.abc import Mapping

from tamarack.core.text import one_line

MOST_SEGMENTS = 12
LONGEST = 160
_PLAIN = re.compile(r"[A-Za-z][A-Za-z_.~-]{0,39}|v[0-9]{1,3}")
"""A segment that looks like a word; any other is taken for a value."""

Version = tuple[str, str]
"""An API and its version."""


def below(bases: Mapping[bytes, Version], path: bytes) -> tuple[Version, bytes] | None:
    """The version at whose base path a path lies, the longest of several, and what is left of it; None for none."""
    end = len(path)
    for _ in range(MOST_SEGMENTS):
        found = bases.get(path[:end])
        if found is not None:
            return found, path[end:] or b"/"
        end = path.rfind(b"/", 0, end)
        if end <= 0:
            return None
    return None


def shape_of(path: bytes) -> str:
    """A path as a template: what is no word becomes a parameter (`/ships/lark-2/crew` is `/ships/{id}/crew`)."""
    segments = path[1:].decode("latin-1").split("/")
    named = []
    parameters = 0
    for segment in segments[:MOST_SEGMENTS]:
        if segment == "" or _PLAIN.fullmatch(segment):
            named.append(segment)
        else:
            parameters += 1
            named.append("{id}" if parameters == 1 else f"{{id{parameters}}}")
    if len(segments) > MOST_SEGMENTS:
        named.append("*")
    return one_line("/" + "/".join(named))[:LONGEST]
