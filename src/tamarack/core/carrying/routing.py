"""Routing: find the operation that a method and path ask for.

Paths are matched segment by segment after percent-decoding each segment (RFC 3986, section 6.2.2), so an
encoded slash never splits one. A literal segment is preferred to a parameter, a longer base path to a
shorter one. A path with dot segments, an encoded NUL or bytes outside printable ASCII is refused: a
backend might read it as another path than the one that was checked.
"""

import re
from typing import Generic, TypeVar
from urllib.parse import unquote_to_bytes

T = TypeVar("T")

_PLAIN = re.compile(rb"^/[!-\[\]-~]*$")
"""Printable ASCII but for the backslash, which some backends read as a slash."""

_METHODS_OF_ANY = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS")


class _Node(Generic[T]):
    __slots__ = ("anything", "literal", "methods", "parameter")

    def __init__(self) -> None:
        self.literal: dict[bytes, _Node[T]] = {}
        self.parameter: _Node[T] | None = None
        self.anything: dict[str, T] = {}
        self.methods: dict[str, T] = {}


class BadPath(ValueError):
    """The path may not be passed on; see the module's text."""


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

    def find(self, method: str, path: bytes) -> T | frozenset[str] | None:
        """The value offered; else the methods that the path takes; else None. Raises `BadPath`."""
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
    """A raw path's segments, percent-decoded. Raises `BadPath` where it may not be passed on."""
    if _PLAIN.match(path) is None:
        raise BadPath
    segments = path[1:].split(b"/")
    if b"%" not in path and b"/." not in path:
        return segments
    if b"%" in path:
        segments = [unquote_to_bytes(segment) if b"%" in segment else segment for segment in segments]
        if any(b"\0" in segment or (b"%" in segment and _half_encoded(segment)) for segment in segments):
            raise BadPath
    for segment in segments:
        if segment in (b".", b"..") or b"/../" in b"/" + segment + b"/" or b"\\..\\" in b"\\" + segment + b"\\":
            raise BadPath
    return segments


def _half_encoded(segment: bytes) -> bool:
    """Whether a decoded segment still holds dots encoded a second time (%252e)."""
    return b"%2e" in segment.lower()
