"""The answers that a description documents, ready to send: made when a configuration is rolled out, not per call."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any, Literal, Protocol

from tamarack.core.openapi.example_bodies import body_text, media_of
from tamarack.core.openapi.example_values import example_of, named_examples
from tamarack.core.openapi.parameter_styles import text_of
from tamarack.core.openapi.plain import dict_of
from tamarack.core.openapi.references import path_item, resolve
from tamarack.core.text import one_line
from tamarack.core.types import Frozen

MOST_ANSWERS = 60
"""Answers of one operation."""
LARGEST = 200_000
"""Characters of one answer's body; what is longer is left out."""
_STATUS = re.compile(r"[1-5](?:[0-9]{2}|XX)")
_NO_BODY = frozenset((204, 205, 304))
Origin = Literal["example", "schema", "typed"]
Document = dict[str, Any]


class DocumentedAnswer(Frozen):
    """One answer of an operation, as a mock gives it."""

    status: int
    media: str = ""
    """Empty where it has no body."""
    name: str = ""
    """The name of the example that it is; empty for the one without."""
    fields: tuple[tuple[str, str], ...] = ()
    body: str = ""
    origin: Origin = "schema"

    @property
    def key(self) -> tuple[int, str, str]:
        """What tells it from the operation's others."""
        return self.status, self.name, self.media


def documented_answers(document: Document, call: str) -> list[DocumentedAnswer]:
    """All answers of an operation (`get /sailings/{id}`) in the document's order: each status, media type and example.

    `document` is one that `core.openapi.read` brought to 3.x. Empty where it does not describe the operation.
    """
    method, _, path = call.partition(" ")
    item = path_item(document, dict_of(document.get("paths")).get(path))
    operation = dict_of(item.get(method))
    found: list[DocumentedAnswer] = []
    for status, written in dict_of(operation.get("responses")).items():
        number = status_of(str(status))
        if number:
            found += _of_status(document, number, dict_of(resolve(document, written)))
    return found[:MOST_ANSWERS]


def status_of(written: str) -> int:
    """A documented status as one that is sent: `2XX` is 200, `default` 500; 0 for what is none."""
    if written == "default":
        return 500
    if not _STATUS.fullmatch(written.upper()):
        return 0
    number = int(written.upper().replace("X", "0"))
    return number if 200 <= number <= 599 else 0


def _of_status(document: Document, status: int, answer: Document) -> Iterable[DocumentedAnswer]:
    fields = tuple(_fields(document, answer))
    content = dict_of(answer.get("content"))
    if not content or status in _NO_BODY:
        return [DocumentedAnswer(status=status, fields=fields)]
    found = []
    for media, holder in content.items():
        if "*" in media or not media_of(media):
            media = "application/json" if "json" in media or media == "*/*" else "text/plain"
        holder = dict_of(holder)
        schema, encoding = holder.get("schema", {}), holder.get("encoding")
        named: dict[str, Any] = named_examples(document, holder)
        origin: Origin = "example" if named else "schema"
        if not named:
            named = {"": example_of(document, schema)}
        for name, value in named.items():
            body = body_text(document, media, schema, value, encoding)
            if len(body) <= LARGEST:
                found.append(
                    DocumentedAnswer(
                        status=status,
                        media=one_line(media),
                        name=one_line(name),
                        fields=fields,
                        body=body,
                        origin=origin,
                    )
                )
    return found


def _fields(document: Document, answer: Document) -> Iterable[tuple[str, str]]:
    """The documented fields that a mock sends; those of the message itself are made anew."""
    for name, written in dict_of(answer.get("headers")).items():
        header = dict_of(resolve(document, written))
        if not re.fullmatch(r"[!#$%&'*+.^_`|~0-9A-Za-z-]{1,100}", name):
            continue
        if name.lower() in ("content-type", "content-length", "transfer-encoding", "connection", "date", "set-cookie"):
            continue
        schema: Any = header.get("schema")
        content = dict_of(header.get("content"))
        if schema is None and content:
            schema = dict_of(next(iter(content.values()))).get("schema", {})
        named = named_examples(document, header)
        value = next(iter(named.values())) if named else example_of(document, schema)
        if value is not None:
            text = ",".join(map(text_of, value)) if isinstance(value, list) else text_of(value)
            yield name.lower(), one_line(text)[:1_000].encode("latin-1", "replace").decode("latin-1")


class Typed(Protocol):
    """An answer that someone typed."""

    @property
    def status(self) -> int: ...
    @property
    def media(self) -> str: ...
    @property
    def name(self) -> str: ...
    @property
    def body(self) -> str: ...


def with_typed(answers: Iterable[DocumentedAnswer], typed: Iterable[Typed]) -> list[DocumentedAnswer]:
    """Documented answers, with those typed in place of the ones that they stand for, or beside them."""
    found = {answer.key: answer for answer in answers}
    for one in typed:
        key = (one.status, one.name, one.media)
        before = found.get(key)
        fields = before.fields if before is not None else ()
        found[key] = DocumentedAnswer(
            status=one.status, media=one.media, name=one.name, fields=fields, body=one.body, origin="typed"
        )
    return list(found.values())
