"""Routing: find the operation that a method and path ask for.

Paths are settled before (`core.http.paths`) and matched segment by segment after percent-decoding (RFC 3986, section
6.2.2), so an encoded slash never splits one. A literal segment is preferred to a parameter, a longer base path to a
shorter one.
"""

from typing import Generic, TypeVar
from urllib.parse import unquote_to_bytes

T = TypeVar("T")

_METHODS_OF_ANY = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS")


class _Node(Generic[T]):
    __slots__ = ("anything", "literal", "methods", "parameter")

    def __init__(self) -> None:
        self.literal: dict[bytes, _Node[T]] = {}
        self.parameter: _Node[T] | None = None
        self.anything: dict[str, T] = {}
        self.methods: dict[str, T] = {}


class Router(Generic[T]):
    """Operations by method and path template; `find` is on a call's way."""

    def __init__(self) -> None:
        self._root: _Node[T] = _Node()
        self._exact: dict[bytes, dict[str, T]] = {}

    def add(self, method: str, path: str, value: T) -> None:
        """Offer `value` at a method (lower case, or `any`) and a whole path template."""
        methods = _METHODS_OF_ANY if method == "any" else (method.upper(),)
        node = self._root
        segments = path[1:].split("/")
        for place, segment in enumerate(segments):
            if segment == "*" and place == len(segments) - 1:
                for name in methods:
                    node.anything.setdefault(name, value)
                return
            if "{" in segment:
                if node.parameter is None:
                    node.parameter = _Node()
                node = node.parameter
            else:
                node = node.literal.setdefault(unquote_to_bytes(segment), _Node())
        for name in methods:
            node.methods.setdefault(name, value)
        if "{" not in path:
            self._exact[path.encode()] = node.methods

    def exactly(self, method: str, path: bytes) -> T | None:
        """The value offered at a path without parameters, where it is spelled as it was offered."""
        methods = self._exact.get(path)
        return methods.get(method) if methods is not None else None

    def find(self, method: str, path: bytes) -> T | frozenset[str] | None:
        """The value offered; else the methods that the path takes; else None."""
        methods = self._exact.get(path)
        if methods is not None:
            value = methods.get(method)
            if value is not None:
                return value
            if method == "HEAD" and "GET" in methods:
                return methods["GET"]
        segments = split(path)
        allowed: set[str] = set()
        value = self._walk(self._root, segments, 0, method, allowed)
        if value is None and method == "HEAD":
            value = self._walk(self._root, segments, 0, "GET", set())
        if value is not None:
            return value
        if not allowed:
            return None
        return frozenset(allowed | {"HEAD"} if "GET" in allowed else allowed)

    def _walk(self, node: _Node[T], segments: list[bytes], place: int, method: str, allowed: set[str]) -> T | None:
        if place == len(segments):
            value = node.methods.get(method)
            if value is None:
                allowed.update(node.methods)
            return value
        segment = segments[place]
        inner = node.literal.get(segment)
        if inner is not None:
            value = self._walk(inner, segments, place + 1, method, allowed)
            if value is not None:
                return value
        if node.parameter is not None and segment:
            value = self._walk(node.parameter, segments, place + 1, method, allowed)
            if value is not None:
                return value
        if node.anything:
            value = node.anything.get(method)
            if value is not None:
                return value
            allowed.update(node.anything)
        return None


def split(path: bytes) -> list[bytes]:
    """A settled path's segments, percent-decoded."""
    segments = path[1:].split(b"/")
    if b"%" not in path:
        return segments
    return [unquote_to_bytes(segment) if b"%" in segment else segment for segment in segments]
