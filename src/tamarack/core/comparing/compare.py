"""Two descriptions compared, operation by operation: parameters, bodies, answers, security.

Descriptions are those that `core.openapi.read` brought to 3.x. What is meant is compared, not how it is written: order,
references, names of schemas and of path parameters, and words for people make no difference.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from tamarack.core.comparing.graphs import graph_differences
from tamarack.core.comparing.rules import Difference, Side
from tamarack.core.comparing.schemas import Found, Schemas
from tamarack.core.openapi.example_bodies import media_of
from tamarack.core.openapi.plain import dict_of, list_of
from tamarack.core.openapi.references import path_item, resolve
from tamarack.core.text import call_shape

METHODS = ("get", "put", "post", "delete", "options", "head", "patch", "trace")
MOST_DIFFERENCES = 5_000
_ORDER = {"breaking": 0, "maybe": 1, "harmless": 2}
Document = dict[str, Any]
Described = tuple[str, Document, Document]
"""An operation: its call, what describes it, and the path item that it stands in."""

_OF_REQUESTS = {
    "narrower": "request-narrower", "wider": "request-wider", "values added": "request-wider", "other": "request-other",
    "required": "property-required", "optional": "property-optional", "replaced": "request-replaced",
}  # fmt: skip
_OF_ANSWERS = {
    "narrower": "answer-narrower", "wider": "answer-wider", "values added": "answer-values-added",
    "other": "answer-other", "required": "answer-property-required", "optional": "answer-property-optional",
    "replaced": "answer-replaced",
}  # fmt: skip


def compare(before: Document, after: Document) -> list[Difference]:
    """Every difference in meaning, those that break callers first; empty where both say the same."""
    comparison = _Comparison(before, after)
    every = dict.fromkeys([*comparison.operations(), *graph_differences(before, after)])
    found = sorted(every, key=lambda one: _ORDER[one.verdict])
    return found[:MOST_DIFFERENCES]


def worst(differences: list[Difference]) -> str:
    """The gravest verdict; `none` without differences."""
    return min((one.verdict for one in differences), key=lambda verdict: _ORDER[verdict], default="none")


class _Comparison:
    def __init__(self, before: Document, after: Document) -> None:
        self.before = before
        self.after = after
        self.sent = Schemas(before, after, "readOnly")
        self.answered = Schemas(before, after, "writeOnly")

    def operations(self) -> Iterator[Difference]:
        olds, news = _operations(self.before), _operations(self.after)
        for shape in dict.fromkeys([*olds, *news]):
            old, new = olds.get(shape), news.get(shape)
            if new is None:
                assert old is not None
                yield Difference(old[0], "", "is gone", "operation-removed", "requests")
            elif old is None:
                yield Difference(new[0], "", "is new", "operation-added", "requests")
            else:
                yield from self._operation(new[0], old, new)

    def _operation(self, call: str, old: Described, new: Described) -> Iterator[Difference]:
        was, now = old[1].get("deprecated") is True, new[1].get("deprecated") is True
        if was != now:
            rule = "operation-deprecated" if now else "operation-restored"
            yield Difference(call, "", "is deprecated now" if now else "is not deprecated any more", rule, "requests")
        yield from self._parameters(call, old, new)
        yield from self._request_body(call, old[1], new[1])
        yield from self._answers(call, old[1], new[1])
        yield from self._security(call, old[1], new[1])

    # parameters

    def _parameters(self, call: str, old: Described, new: Described) -> Iterator[Difference]:
        olds, news = _parameters(self.before, *old), _parameters(self.after, *new)
        for key in dict.fromkeys([*olds, *news]):
            before, after = olds.get(key), news.get(key)
            place, name = key
            named = str((after or before or {}).get("name", name))
            where = f"parameter {named} in {place}"
            if after is None:
                yield Difference(call, where, "is gone", "parameter-removed", "requests")
                continue
            must = after.get("required") is True or place == "path"
            if before is None:
                rule = "required-parameter-added" if must else "parameter-added"
                yield Difference(call, where, f"is new{' and required' if must else ''}", rule, "requests")
                continue
            had_to = before.get("required") is True or place == "path"
            if must != had_to:
                rule = "parameter-required" if must else "parameter-optional"
                yield Difference(
                    call, where, "is required now" if must else "is not required any more", rule, "requests"
                )
            if _style(before, place) != _style(after, place):
                yield Difference(call, where, "is written in another style", "parameter-style", "requests")
            yield from self._schema(call, where, _schema(before), _schema(after), "requests")

    # what is sent

    def _request_body(self, call: str, old: Document, new: Document) -> Iterator[Difference]:
        before = dict_of(resolve(self.before, old.get("requestBody")))
        after = dict_of(resolve(self.after, new.get("requestBody")))
        where = "request body"
        if not before and not after:
            return
        must, had_to = after.get("required") is True, before.get("required") is True
        if not before:
            rule = "required-body-added" if must else "body-added"
            yield Difference(call, where, f"is new{' and required' if must else ''}", rule, "requests")
            return
        if not after:
            yield Difference(call, where, "is gone", "body-removed", "requests")
            return
        if must != had_to:
            rule = "body-required" if must else "body-optional"
            yield Difference(call, where, "is required now" if must else "is not required any more", rule, "requests")
        yield from self._media(call, where, before, after, "requests")

    def _media(self, call: str, where: str, before: Document, after: Document, side: Side) -> Iterator[Difference]:
        olds = {media_of(name): dict_of(one) for name, one in dict_of(before.get("content")).items()}
        news = {media_of(name): dict_of(one) for name, one in dict_of(after.get("content")).items()}
        kind = "request" if side == "requests" else "answer"
        for media in dict.fromkeys([*olds, *news]):
            if media not in news:
                yield Difference(call, where, f"{media} is gone", f"{kind}-media-removed", side)
            elif media not in olds:
                yield Difference(call, where, f"{media} is new", f"{kind}-media-added", side)
            else:
                place = f"{where}, {media}"
                yield from self._schema(call, place, olds[media].get("schema"), news[media].get("schema"), side)

    # what is answered

    def _answers(self, call: str, old: Document, new: Document) -> Iterator[Difference]:
        olds = {str(k).upper(): v for k, v in dict_of(old.get("responses")).items() if not str(k).startswith("x-")}
        news = {str(k).upper(): v for k, v in dict_of(new.get("responses")).items() if not str(k).startswith("x-")}
        for status in dict.fromkeys([*olds, *news]):
            success = status.startswith(("2", "3"))
            where = f"answer {status.lower()}"
            if status not in news:
                rule = "success-removed" if success else "error-removed"
                yield Difference(call, where, "is documented no more", rule, "answers")
            elif status not in olds:
                rule = "success-added" if success else "error-added"
                yield Difference(call, where, "is new", rule, "answers")
            else:
                before = dict_of(resolve(self.before, olds[status]))
                after = dict_of(resolve(self.after, news[status]))
                yield from self._media(call, where, before, after, "answers")
                yield from self._headers(call, where, before, after)

    def _headers(self, call: str, where: str, old: Document, new: Document) -> Iterator[Difference]:
        olds = {name.lower(): resolve(self.before, one) for name, one in dict_of(old.get("headers")).items()}
        news = {name.lower(): resolve(self.after, one) for name, one in dict_of(new.get("headers")).items()}
        for name in dict.fromkeys([*olds, *news]):
            here = f"{where}, header {name}"
            before, after = dict_of(olds.get(name)), dict_of(news.get(name))
            had_to, must = before.get("required") is True, after.get("required") is True
            if name not in news:
                rule = "required-header-removed" if had_to else "header-removed"
                yield Difference(call, here, "is documented no more", rule, "answers")
            elif name not in olds:
                yield Difference(call, here, "is new", "header-added", "answers")
            else:
                if must != had_to:
                    rule = "header-required" if must else "header-optional"
                    words = "is always there now" if must else "may be missing now"
                    yield Difference(call, here, words, rule, "answers")
                yield from self._schema(call, here, _schema(before), _schema(after), "answers")

    def _schema(self, call: str, where: str, before: Any, after: Any, side: Side) -> Iterator[Difference]:
        old, new = (True if one is None else one for one in (before, after))
        schemas = self.sent if side == "requests" else self.answered
        for found in schemas.compare(old, new):
            place = f"{where}, {found.place}" if found.place else where
            yield Difference(call, place, found.words, _rule(found, side), side)

    # who may call

    def _security(self, call: str, old: Document, new: Document) -> Iterator[Difference]:
        olds, news = _ways(self.before, old), _ways(self.after, new)
        if olds == news:
            return
        open_before, open_now = not olds or frozenset() in olds, not news or frozenset() in news
        if open_now:
            if not open_before:
                yield Difference(call, "security", "no credential is needed any more", "security-removed", "requests")
            return
        if open_before:
            yield Difference(call, "security", f"needs {_or(news)} now", "security-added", "requests")
            return
        for way in olds:
            if way in news:
                continue
            names = frozenset(name for name, _ in way)
            wider = next((one for one in news if frozenset(name for name, _ in one) == names), None)
            if wider is not None:
                further = sorted({scope for _, scopes in wider for scope in scopes} - {s for _, o in way for s in o})
                if further:
                    words = f"needs the scope {', '.join(further)} besides"
                    yield Difference(call, "security", words, "scopes-added", "requests")
                fewer = sorted({s for _, o in way for s in o} - {scope for _, scopes in wider for scope in scopes})
                if fewer:
                    words = f"needs the scope {', '.join(fewer)} no more"
                    yield Difference(call, "security", words, "scopes-removed", "requests")
            elif not any(frozenset(name for name, _ in one) < names for one in news):
                yield Difference(call, "security", f"{_or([way])} is not enough any more", "security-added", "requests")
        for way in news:
            names = frozenset(name for name, _ in way)
            if not any(frozenset(name for name, _ in one) == names for one in olds):
                yield Difference(call, "security", f"{_or([way])} will do too", "security-removed", "requests")


def _rule(found: Found, side: Side) -> str:
    if found.direction == "property added":
        if side == "answers":
            return "answer-property-added"
        return "required-property-added" if found.required else "request-property-added"
    if found.direction == "property removed":
        if side == "answers":
            return "answer-property-removed"
        return "closed-property-removed" if found.closed else "request-property-removed"
    return (_OF_REQUESTS if side == "requests" else _OF_ANSWERS)[found.direction]


def _operations(document: Document) -> dict[str, Described]:
    """Operations by method and path without its parameters' names: the call, the operation, its path item."""
    found: dict[str, Described] = {}
    for path, item in dict_of(document.get("paths")).items():
        if not path.startswith("/"):
            continue
        whole = path_item(document, item)
        for method in METHODS:
            if isinstance(whole.get(method), dict):
                shape = call_shape(f"{method} {path}")
                found.setdefault(shape, (f"{method} {path}", whole[method], whole))
    return found


def _parameters(document: Document, call: str, operation: Document, item: Document) -> dict[tuple[str, str], Document]:
    """Parameters by place and name; those of the path by where they stand in it."""
    order = re.findall(r"{([^{}/]+)}", call)
    found: dict[tuple[str, str], Document] = {}
    for holder in (item.get("parameters"), operation.get("parameters")):
        for written in list_of(holder):
            one = dict_of(resolve(document, written))
            place, name = str(one.get("in", "")), str(one.get("name", ""))
            if place == "path":
                key = (place, str(order.index(name)) if name in order else name)
            elif place == "header":
                if name.lower() in ("accept", "content-type", "authorization"):
                    continue  # OpenAPI 3.1, 4.8.12: these mean nothing here
                key = (place, name.lower())
            else:
                key = (place, name)
            if place in ("path", "query", "header", "cookie"):
                found[key] = one
    return found


def _schema(holder: Document) -> Any:
    """The schema of a parameter or header, also where it has a content."""
    content = dict_of(holder.get("content"))
    if "schema" not in holder and content:
        return dict_of(next(iter(content.values()))).get("schema")
    return holder.get("schema")


def _style(parameter: Document, place: str) -> tuple[Any, ...]:
    style = parameter.get("style") or ("form" if place in ("query", "cookie") else "simple")
    explode = parameter.get("explode", style == "form")
    media = tuple(media_of(name) for name in dict_of(parameter.get("content")))
    return style, explode is True, media


Way = frozenset[tuple[str, frozenset[str]]]


def _ways(document: Document, operation: Document) -> list[Way]:
    """The alternatives to show who calls: what schemes mean, not what they are called; with their scopes."""
    schemes = dict_of(dict_of(document.get("components")).get("securitySchemes"))
    said = operation.get("security", document.get("security"))
    found: list[Way] = []
    for alternative in list_of(said):
        way = frozenset(
            (_scheme(document, schemes, name), frozenset(str(scope) for scope in list_of(scopes)))
            for name, scopes in dict_of(alternative).items()
        )
        if way not in found:
            found.append(way)
    return found


def _scheme(document: Document, schemes: Document, name: str) -> str:
    """What a security scheme asks callers for."""
    scheme = dict_of(resolve(document, schemes.get(name)))
    kind = str(scheme.get("type", name)).lower()
    if kind == "apikey":
        return f"a key in the {scheme.get('in', 'header')} {str(scheme.get('name', '')).lower()}"
    if kind == "http":
        return f"{str(scheme.get('scheme', '')).lower()} authorization"
    return {"oauth2": "an OAuth 2.0 token", "openidconnect": "an OpenID Connect token"}.get(kind, name)


def _or(ways: list[Way]) -> str:
    named = sorted(" and ".join(sorted(name for name, _ in way)) for way in ways if way)
    return " or ".join(named) or "a credential"
