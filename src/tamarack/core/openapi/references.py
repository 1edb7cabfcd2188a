"""References within a document (`$ref`, RFC 3986 fragments with RFC 6901 pointers, `$anchor`, `$id`).

What is a reference is told by where it stands: below `properties` a `$ref` is a property's own name, and in examples,
defaults and extensions it is a value like any other. Nothing outside the document is ever asked for.
"""

from collections.abc import Callable, Iterator
from typing import Any
from urllib.parse import quote, unquote, urldefrag

from tamarack.core.documents.bounds import Path
from tamarack.core.json_pointer import at_pointer

_NAMES = {
    *("properties", "patternProperties", "definitions", "$defs", "dependentSchemas", "schemas", "responses"),
    *("parameters", "requestBodies", "headers", "securitySchemes", "securityDefinitions", "links", "callbacks"),
    *("pathItems", "paths", "webhooks", "content", "encoding", "variables", "scopes", "mapping"),
}
"""Fields whose mapping goes from names that people choose to what is so named."""
_VALUES = {"example", "default", "const", "enum", "value"}
"""Fields that hold a value, in which nothing is a reference."""

MOST_HOPS = 20
_MISSING = object()

Said = Callable[[Path, str], None]


def pointer_of(path: Path) -> str:
    """A path as a JSON Pointer (RFC 6901)."""
    return "".join("/" + str(part).replace("~", "~0").replace("/", "~1") for part in path)


def fragment_of(path: Path) -> str:
    """A path as a reference within the document (RFC 6901, 6)."""
    return "#" + quote(pointer_of(path), safe="/~!$&'()*+,;=:@-._")


def target(document: Any, reference: str) -> Any:
    """What a reference leads to within the document; None where it leads nowhere."""
    if not reference.startswith("#"):
        return None
    return at_pointer(document, unquote(reference[1:]))


def resolve(document: dict[str, Any], value: Any) -> Any:
    """A value, or what its `$ref` leads to within the document; None where it leads nowhere or in a circle."""
    for _ in range(MOST_HOPS):
        if not isinstance(value, dict) or not isinstance(value.get("$ref"), str):
            return value
        value = target(document, value["$ref"])
    return None


def path_item(document: dict[str, Any], value: Any) -> dict[str, Any]:
    """A path item with what its `$ref` leads to; what stands beside the reference wins (OpenAPI 3.1, 4.8.9)."""
    found: dict[str, Any] = {}
    for _ in range(MOST_HOPS):
        if not isinstance(value, dict):
            break
        found = {**value, **found}
        if not isinstance(value.get("$ref"), str):
            break
        value = target(document, value["$ref"])
    found.pop("$ref", None)
    return found


def places(data: Any, dialect: str) -> Iterator[tuple[Path, dict[str, Any]]]:
    """Every mapping that may be a reference: not names, not values. With its path, outermost first."""
    waiting: list[tuple[Path, Any, bool]] = [((), data, False)]
    while waiting:
        path, value, names = waiting.pop()
        if isinstance(value, list):
            waiting += [((*path, at), item, False) for at, item in reversed(list(enumerate(value)))]
        elif isinstance(value, dict):
            if not names:
                yield path, value
            for key in reversed(list(value)):
                if names:
                    waiting.append(((*path, key), value[key], False))
                elif key == "examples":
                    # Of 3.x these are Example Objects by name; lists, and all of 2.0, are values.
                    if isinstance(value[key], dict) and dialect != "2.0":
                        waiting.append(((*path, key), value[key], True))
                elif key not in _VALUES and not key.startswith("x-"):
                    waiting.append(((*path, key), value[key], key in _NAMES and isinstance(value[key], dict)))


class Settled:
    """A document whose references all lead to something within it.

    Those by `$anchor` or `$id` become pointers. Those that lead out of the document, or nowhere, are replaced by
    nothing, and said by `said` with their paths.
    """

    def __init__(self, data: dict[str, Any], dialect: str, said: Said) -> None:
        self._data, self._dialect, self._said = data, dialect, said
        self.emptied: set[Path] = set()
        """Where a reference was replaced by nothing."""
        self._named: dict[str, Path] = {}
        if dialect == "3.1":
            for path, holder in places(data, dialect):
                for field in ("$anchor", "$dynamicAnchor", "$id"):
                    if isinstance(holder.get(field), str):
                        name = holder[field] if field == "$id" else f"#{holder[field]}"
                        self._named.setdefault(name.rstrip("#") if field == "$id" else name, path)
        self._settled: dict[Path, str | None] = {}
        for path, holder in places(data, dialect):
            if "$ref" in holder:
                self._settled[path] = self._settle(path, holder["$ref"])
        self.data = self._rebuilt(data, ())

    def _settle(self, path: Path, reference: Any) -> str | None:
        """The reference as it stays; None where it is replaced by nothing."""
        here = (*path, "$ref")
        if not isinstance(reference, str):
            self._said(here, f"{reference!r} is not a reference; it is text that leads to a place in the document")
        elif reference in ("#", "") or (reference.startswith("#/") and self._leads(reference)):
            return reference or "#"
        elif reference in self._named:
            return fragment_of(self._named[reference])
        elif reference.startswith("#"):
            self._said(here, f"{reference!r} leads to nothing in the document")
        else:
            base, fragment = urldefrag(reference)
            if base in self._named and (not fragment or fragment.startswith("/")):
                inner = fragment_of(self._named[base]) + fragment
                if self._leads(inner):
                    return inner
            self._said(here, f"{reference!r} leads out of the document; what it describes is not taken along")
        self.emptied.add(path)
        return None

    def _leads(self, reference: str) -> bool:
        return at_pointer(self._data, unquote(reference[1:]), _MISSING) is not _MISSING

    def _rebuilt(self, value: Any, path: Path) -> Any:
        """The same data with settled references; as deep as the bounds of reading allow."""
        if isinstance(value, dict):
            made = {key: self._rebuilt(inner, (*path, key)) for key, inner in value.items()}
            if path in self._settled:
                made.pop("$ref")
                if (settled := self._settled[path]) is not None:
                    made = {"$ref": settled, **made}
            return made
        if isinstance(value, list):
            listed = path[-1:] == ("parameters",)  # nothing is no parameter
            return [
                self._rebuilt(item, (*path, at))
                for at, item in enumerate(value)
                if not (listed and (*path, at) in self.emptied)
            ]
        return value
