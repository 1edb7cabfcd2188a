"""What a document says of operations' messages, made ready to be checked when a configuration is rolled out."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from tamarack.core.checking.described import (
    DescribedAnswer,
    DescribedBody,
    DescribedMessages,
    DescribedParameter,
    Kind,
    Place,
    SchemaSets,
)
from tamarack.core.checking.schemas import SchemaWriter, settled
from tamarack.core.openapi.example_bodies import media_of
from tamarack.core.openapi.plain import dict_of, list_of, text_of
from tamarack.core.openapi.references import path_item, resolve

Document = dict[str, Any]
_PLACES: tuple[Place, ...] = ("path", "query", "header", "cookie")
_STYLES = {"path": "simple", "query": "form", "header": "simple", "cookie": "form"}
_NAMED: dict[str, Kind] = {"string": "text", "integer": "integer", "number": "number", "boolean": "boolean",
                           "null": "null", "array": "array", "object": "object"}  # fmt: skip
_OF_HTTP = frozenset(("accept", "content-type", "authorization"))
"""Header parameters that a description cannot speak of (OpenAPI 3.1, 4.8.12)."""
_DEEPEST = 20


class Describer:
    """Takes in operations of one document; what their schemas share stands once."""

    def __init__(self, document: Document) -> None:
        self._document = document
        self._requests = SchemaWriter(document, "request")
        self._answers = SchemaWriter(document, "answer")

    def messages(self, call: str) -> DescribedMessages | None:
        """What is said of an operation (`get /sailings/{id}`); None where the document does not describe it."""
        method, _, path = call.partition(" ")
        document = self._document
        item = path_item(document, dict_of(document.get("paths")).get(path))
        operation = item.get(method)
        if not isinstance(operation, dict):
            return None
        body = dict_of(resolve(document, operation.get("requestBody")))
        return DescribedMessages(
            parameters=tuple(self._parameters(item, operation)),
            bodies=tuple(_bodies(body, self._requests)),
            body_required=body.get("required") is True,
            answers=tuple(
                self._answer(str(status), dict_of(resolve(document, answer)))
                for status, answer in dict_of(operation.get("responses")).items()
            ),
        )

    def schemas(self) -> SchemaSets:
        """The schemas of all that was taken in."""
        requests, left = settled(self._requests.whole())
        answers, more = settled(self._answers.whole())
        said = (*self._requests.unusable, *self._answers.unusable, *left, *more)
        return SchemaSets(requests=requests, answers=answers, unusable=tuple(dict.fromkeys(said)))

    def _parameters(self, item: Document, operation: Document) -> Iterable[DescribedParameter]:
        """Those of the operation, and those of its path that it does not describe anew."""
        found: dict[tuple[Place, str], DescribedParameter] = {}
        for written in (*list_of(item.get("parameters")), *list_of(operation.get("parameters"))):
            parameter = dict_of(resolve(self._document, written))
            name = text_of(parameter.get("name"))
            place = next((one for one in _PLACES if one == parameter.get("in")), None)
            if place is None or not name or (place == "header" and name.lower() in _OF_HTTP):
                continue
            name = name.lower() if place == "header" else name
            found[place, name] = self._parameter(name, place, parameter, self._requests)
        return found.values()

    def _parameter(self, name: str, place: Place, said: Document, writer: SchemaWriter) -> DescribedParameter:
        content = dict_of(said.get("content"))
        media, holder = next(iter(content.items()), ("", {}))
        schema = dict_of(holder).get("schema") if content else said.get("schema")
        style = text_of(said.get("style")) or _STYLES[place]
        explode = said.get("explode")
        kinds = self._kinds(schema)
        inner = dict_of(dict_of(resolve(self._document, schema)).get("properties"))
        return DescribedParameter(
            name=name,
            place=place,
            required=said.get("required") is True or place == "path",
            style=style,
            explode=explode if isinstance(explode, bool) else style == "form",
            as_json=media_of(media).endswith(("/json", "+json")),
            kinds=kinds,
            items=self._kinds(dict_of(resolve(self._document, schema)).get("items")),
            inner=tuple((key, self._kinds(one)) for key, one in inner.items()),
            schema_key=writer.add(schema),
        )

    def _answer(self, status: str, answer: Document) -> DescribedAnswer:
        fields = []
        for name, written in dict_of(answer.get("headers")).items():
            said = dict_of(resolve(self._document, written))
            if name.lower() != "content-type":
                fields.append(self._parameter(name.lower(), "header", said, self._answers))
        written = status.upper() if status != "default" else status
        return DescribedAnswer(status=written, bodies=tuple(_bodies(answer, self._answers)), fields=tuple(fields))

    def _kinds(self, schema: Any, depth: int = 0) -> tuple[Kind, ...]:
        """Of which kinds values may be, so that a text is read as what it is meant to be."""
        said = dict_of(resolve(self._document, schema))
        if depth > _DEEPEST or not said:
            return ("any",)
        types = said.get("type")
        named = [types] if isinstance(types, str) else list_of(types)
        found: list[Kind] = [_NAMED[name] for name in named if isinstance(name, str) and name in _NAMED]
        if said.get("nullable") is True and found:
            found.append("null")
        if not found:
            for word in ("allOf", "anyOf", "oneOf"):
                for one in list_of(said.get(word)):
                    found += [kind for kind in self._kinds(one, depth + 1) if kind != "any"]
        if not found and isinstance(said.get("properties"), dict):
            found.append("object")
        return tuple(dict.fromkeys(found)) or ("any",)


def _bodies(holder: Document, writer: SchemaWriter) -> Iterable[DescribedBody]:
    """The media types of a body, each with what of it can be checked: JSON by its schema."""
    for media, inner in dict_of(holder.get("content")).items():
        plain = media_of(str(media))
        if not plain:
            continue
        checkable = plain.endswith(("/json", "+json")) or plain in ("*/*", "application/*")
        yield DescribedBody(media=plain, schema_key=writer.add(dict_of(inner).get("schema")) if checkable else "")
