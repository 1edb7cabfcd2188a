"""JSON Pointer (RFC 6901): the value that a pointer leads to, and what holds it."""

from collections.abc import Mapping
from functools import lru_cache
from typing import Any


@lru_cache(maxsize=4096)
def _parts(pointer: str) -> tuple[str, ...]:
    return tuple(part.replace("~1", "/").replace("~0", "~") for part in pointer.split("/")[1:])


def at_pointer(document: Any, pointer: str, missing: Any = None) -> Any:
    """The value a pointer leads to (RFC 6901, section 4); `missing` where there is none."""
    for name in _parts(pointer):
        if (type(document) is dict or isinstance(document, Mapping)) and name in document:
            document = document[name]
        elif isinstance(document, list) and name.isascii() and name.isdigit() and int(name[:9]) < len(document):
            document = document[int(name[:9])]
        else:
            return missing
    return document


def holder_of(document: Any, pointer: str) -> tuple[dict[str, Any], str] | None:
    """The object that holds the value a pointer leads to, and its name there; None where it is no object's member."""
    outer, _, _ = pointer.rpartition("/")
    holder = at_pointer(document, outer)
    name = _parts(pointer)[-1] if pointer else ""
    return (holder, name) if isinstance(holder, dict) and name in holder else None
