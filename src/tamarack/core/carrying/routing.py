"""Routing: find the operation that a method and path ask for.

Paths are settled before (`core.http.paths`) and matched segment by segment after percent-decoding (RFC 3986, section
6.2.2), so an encoded slash never splits one. A literal segment is preferred to a parameter, a longer base path to a
shorter one. Where versions share a base path, a `VersionChoice` stands there, which finds the one that a call names.
"""

import re
from collections.abc import Mapping
from typing import Generic, TypeVar
from urllib.parse import unquote_to_bytes

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.life_cycle.version_naming import VersionNaming
from tamarack.core.text import in_words

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


_QUALITY = re.compile(rb";[ \t]*q[ \t]*=[ \t]*([01](?:\.[0-9]{0,3})?)", re.IGNORECASE)


class VersionChoice(Generic[T]):
    """The versions of an API that share a base path, each with its own operations; calls name the one they are for."""

    def __init__(self, title: str, naming: VersionNaming, routers: Mapping[str, Router[T]]) -> None:
        self._routers = {label.encode(): router for label, router in routers.items()}
        self._default = routers.get(naming.default) if naming.default else None
        self._all = tuple(routers.values())
        self._header = naming.called.encode() if naming.by == "header" else b""
        parameter = re.escape(naming.called.encode())
        self._parameter = re.compile(rb";[ \t]*" + parameter + rb"[ \t]*=[ \t]*\"?([^\",; \t]+)\"?", re.IGNORECASE)
        self._title = title
        shown = {label: ", ".join(f"{k}: {v}" for k, v in naming.fields(label).items()) for label in routers}
        self._how = f"send {next(iter(shown.values()))}" if shown else ""
        self._known = in_words(list(routers))

    def find(self, call: Call) -> T | frozenset[str] | Refusal | None:
        """The operation of the version that a call names, or that calls are for which name none."""
        named = self._named(call)
        if len(named) > 1:
            return self._refusal(f"The call names more than one version of {self._title}.")
        if not named:
            router = self._default
            if router is None:
                return self._refusal(f"The call names no version of {self._title}.")
        else:
            router = self._routers.get(named[0])
            if router is None:
                shown = named[0][:40].decode("ascii", "replace")
                return self._refusal(f"{self._title} has no version {shown!r} here.")
        return router.find(call.method, call.path)

    def anywhere(self, method: str, path: bytes) -> T | frozenset[str] | None:
        """For a preflight, which names no version: the operation of the default, else of the first that has one."""
        found: T | frozenset[str] | None = None
        for router in (*([self._default] if self._default is not None else []), *self._all):
            one = router.find(method, path)
            if one is not None and not isinstance(one, frozenset):
                return one
            found = found or one
        return found

    def version(self, label: str) -> Router[T] | None:
        """The operations of one version."""
        return self._routers.get(label.encode())

    def _named(self, call: Call) -> list[bytes]:
        """The labels that a call names: one, mostly."""
        if self._header:
            values = [value.strip() for name, value in call.headers if name == self._header]
            return list(dict.fromkeys(value for value in values if value))
        accepted = b",".join(value for name, value in call.headers if name == b"accept")
        best: dict[bytes, float] = {}
        for one in accepted.split(b","):
            found = self._parameter.search(one)
            if found is not None:
                weight = _QUALITY.search(one)
                best[found[1]] = max(best.get(found[1], 0.0), float(weight[1]) if weight else 1.0)
        if best:
            return [max(best, key=lambda label: best[label])]
        found = self._parameter.search(call.media)
        return [found[1]] if found is not None else []

    def _refusal(self, what: str) -> Refusal:
        detail = f"{what} It has {self._known}; {self._how} for one of them."
        return Refusal(REASONS["unknown-version"], detail=detail, note=what)
