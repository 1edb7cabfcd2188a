"""Requests checked against what is said of their operation: parameters, header fields and the body."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from tamarack.core.carrying.call import Call
from tamarack.core.checking.bodies import body_for, in_json, in_schema, is_json, media_of, undescribed
from tamarack.core.checking.described import DescribedMessages, DescribedParameter
from tamarack.core.checking.misfit import MOST, Misfit, misfit
from tamarack.core.checking.parameter_values import ABSENT, cookie_pairs, in_pairs, in_text, names_in, pairs_of
from tamarack.core.checking.schemas import Schemas
from tamarack.core.values.call_values import path_values


class RequestChecker:
    """Checks requests of one operation. With `unknown`, query parameters and bodies that are not described misfit."""

    def __init__(
        self, said: DescribedMessages, schemas: Schemas, *, parameters: bool, body: bool, unknown: bool
    ) -> None:
        self._said = said
        self._schemas = schemas
        self._checks_body = body
        self._unknown = unknown and parameters
        self._unknown_body = unknown
        by_place: dict[str, list[DescribedParameter]] = {}
        for one in said.parameters if parameters else ():
            by_place.setdefault(one.place, []).append(one)
        self._path = by_place.get("path", ())
        self._query = by_place.get("query", ())
        self._headers = [(one.name.encode(), one) for one in by_place.get("header", ())]
        self._cookies = by_place.get("cookie", ())

    def misfits(self, call: Call) -> list[Misfit]:
        """Everything that does not fit, at most `MOST`; empty where all does."""
        found = [*self._in_path(call)] if self._path else []
        if self._query or (self._unknown and call.query):
            found += self._in_query(call)
        if self._headers:
            found += self._in_headers(call)
        if self._cookies:
            found += self._in_cookies(call)
        if self._checks_body:
            found += self._in_body(call)
        return found[:MOST] if found else found

    def unread(self, call: Call) -> bool:
        """Whether a body that is to be checked is too large to be here whole."""
        if not self._checks_body or call.body is not None or not call.length:
            return False
        media = media_of(call.media)
        return is_json(media) and body_for(self._said.bodies, media) is not None

    def _in_path(self, call: Call) -> Iterator[Misfit]:
        values = path_values(call)
        for one in self._path:
            text = values.get(one.name)
            if text is not None and one.schema_key:
                yield from self._value(one, in_text(one, text))

    def _in_query(self, call: Call) -> Iterator[Misfit]:
        pairs = pairs_of(call.query) if call.query else []
        for one in self._query:
            value = in_pairs(one, pairs)
            if value is not ABSENT:
                yield from self._value(one, value)
            elif one.required and not _credential(call, f"?{one.name}"):
                yield misfit("request", "query", one.name, "is required, and missing")
        if self._unknown and pairs:
            known = {name for one in self._said.parameters if one.place == "query" for name in names_in(one, pairs)}
            for name in dict.fromkeys(given for given, _ in pairs if given not in known):
                yield misfit("request", "query", name, "is not described", True)

    def _in_headers(self, call: Call) -> Iterator[Misfit]:
        for name, one in self._headers:
            texts = [value for given, value in call.headers if given == name]
            if texts:
                yield from self._value(one, in_text(one, b",".join(texts).decode("latin-1")))
            elif one.required and not _credential(call, one.name):
                yield misfit("request", "header", one.name, "is required, and missing")

    def _in_cookies(self, call: Call) -> Iterator[Misfit]:
        pairs = [pair for name, value in call.headers if name == b"cookie" for pair in
                 cookie_pairs(value.decode("latin-1"))]  # fmt: skip
        for one in self._cookies:
            value = in_pairs(one, pairs)
            if value is not ABSENT:
                yield from self._value(one, value)
            elif one.required:
                yield misfit("request", "cookie", one.name, "is required, and missing")

    def _value(self, one: DescribedParameter, value: Any) -> Iterator[Misfit]:
        return in_schema(self._schemas, one.schema_key, value, "request", one.place, one.name)

    def _in_body(self, call: Call) -> Iterator[Misfit]:
        said = self._said
        body = call.body
        if not call.length or body == b"":
            if said.body_required:
                yield misfit("request", "body", "", "is required, and missing")
            return
        if not said.bodies:
            if self._unknown_body:
                yield misfit("request", "body", "", "is not described", True)
            return
        media = media_of(call.media)
        one = body_for(said.bodies, media)
        if one is None:
            if self._unknown_body:
                yield undescribed("request", media, said.bodies)
        elif body is not None and is_json(media):
            if any(name == b"content-encoding" for name, _ in call.headers):
                yield misfit("request", "body", "", "is compressed, and cannot be checked")
            else:
                yield from in_json(self._schemas, one, body, "request")


def _credential(call: Call, name: str) -> bool:
    """Whether a parameter carries the caller's credential, which was taken off before."""
    operation = call.operation
    return operation is not None and (name in operation.secret or name.lstrip("?") in operation.secret)
