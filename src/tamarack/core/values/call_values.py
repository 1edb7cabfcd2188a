"""Values of a call, as people name them: of its path, query, header fields, JSON body, token, and of what is known."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import UTC, datetime
from typing import Any, Literal
from urllib.parse import unquote_to_bytes

import orjson

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.routing import split
from tamarack.core.http.query import name_of
from tamarack.core.json_pointer import at_pointer

Place = Literal["path", "query", "header", "body"]
PLACES: tuple[Place, ...] = ("path", "query", "header", "body")
MISSING: Any = object()
LARGEST_BODY = 64_000
"""Bytes of a body that values are taken from."""


def body_of(call: Call) -> Any:
    """The JSON body of a call, `MISSING` where it has none that was read."""
    if call.body is None:
        return MISSING
    try:
        return orjson.loads(call.body)
    except ValueError:
        return MISSING


def value_at(call: Call, place: Place, name: str) -> Any:
    """One value: text, or what JSON holds; `MISSING` where there is none. Of several the first."""
    if place == "header":
        wanted = name.encode()
        found = next((value for given, value in call.headers if given == wanted), None)
        return MISSING if found is None else found.decode("latin-1")
    if place == "query":
        return _in_query(call.query, name.encode())
    if place == "path":
        return path_values(call).get(name, MISSING)
    document = body_of(call)
    return MISSING if document is MISSING else at_pointer(document, name, MISSING)


def _in_query(query: bytes, name: bytes) -> Any:
    for part in query.split(b"&"):
        if name_of(part) == name:
            return unquote_to_bytes(part.partition(b"=")[2].replace(b"+", b" ")).decode("utf-8", "replace")
    return MISSING


def path_values(call: Call) -> dict[str, str]:
    """The parameters of the call's path by name, decoded."""
    operation = call.operation
    if operation is None or not operation.parameters:
        return {}
    segments = split(call.path)
    return {
        name: segments[place].decode("utf-8", "replace")
        for name, place in operation.parameters.items()
        if place < len(segments)
    }


class CallFields(Mapping[str, str]):
    """Values by name for a template, found when they are asked for."""

    def __init__(self, call: Call, place: Place) -> None:
        self._call = call
        self._place = place

    def __getitem__(self, name: str) -> str:
        found = value_at(self._call, self._place, name.lower() if self._place == "header" else name)
        if found is MISSING:
            raise KeyError(name)
        return str(found)

    def __iter__(self) -> Any:
        return iter(())

    def __len__(self) -> int:
        return 0


def _body(call: Call) -> Any:
    document = body_of(call)
    return {} if document is MISSING else document


def _caller(call: Call) -> dict[str, str]:
    caller, grant = call.caller, call.grant
    return {
        "application": caller.application if caller is not None else "",
        "organization": caller.organization if caller is not None else "",
        "user": call.user,
        "plan": grant.plan if grant is not None else "",
    }


def _call(call: Call) -> dict[str, str]:
    return {
        "id": call.id.decode(),
        "method": call.method,
        "path": call.path.decode("latin-1"),
        "time": datetime.fromtimestamp(int(call.now), UTC).isoformat().replace("+00:00", "Z"),
    }


_FINDS: dict[str, Callable[[Call], Any]] = {
    "path": path_values,
    "query": lambda call: CallFields(call, "query"),
    "header": lambda call: CallFields(call, "header"),
    "body": _body,
    "claims": lambda call: call.claims or {},
    "caller": _caller,
    "call": _call,
}
KNOWN = tuple(_FINDS)
"""The names that a template may begin with."""


def text_of(call: Call, root: str, name: str) -> str:
    """One text of a call, as `known_of` would hold it under a root that holds texts alone; empty where it is not."""
    if root == "path":
        operation = call.operation
        place = operation.parameters.get(name) if operation is not None else None
        segments = call.path[1:].split(b"/") if place is not None else []
        if place is None or place >= len(segments):
            return ""
        segment = segments[place]
        return (unquote_to_bytes(segment) if b"%" in segment else segment).decode("utf-8", "replace")
    if root in ("query", "header"):
        found = value_at(call, root, name.lower() if root == "header" else name)  # type: ignore[arg-type]
        return "" if found is MISSING else str(found)
    if root == "call" and name == "path":
        return call.path.decode("latin-1")
    if root == "call" and name == "method":
        return call.method
    held: dict[str, str] = _FINDS[root](call)
    return held.get(name, "")


def known_of(call: Call, names: Iterable[str] = KNOWN) -> dict[str, Any]:
    """What a template may take from a call, of those names that it takes from.

    It holds no credential: those were taken off before.
    """
    return {name: _FINDS[name](call) for name in names}
