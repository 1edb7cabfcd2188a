"""Answers checked against what is said of their operation: status, header fields and the body."""

from __future__ import annotations

from collections.abc import Iterator

from tamarack.core.checking.bodies import body_for, in_json, in_schema, is_json, media_of, undescribed
from tamarack.core.checking.described import DescribedAnswer, DescribedMessages
from tamarack.core.checking.misfit import MOST, Misfit, misfit
from tamarack.core.checking.parameter_values import in_text
from tamarack.core.checking.schemas import Schemas
from tamarack.core.http.heads import Answered

_WITHOUT_BODY = frozenset((204, 205, 304))


class AnswerChecker:
    """Checks answers of one operation. With `unknown`, statuses and media types that are not described misfit."""

    def __init__(self, said: DescribedMessages, schemas: Schemas, *, fields: bool, body: bool, unknown: bool) -> None:
        self._schemas = schemas
        self._checks_fields = fields
        self._checks_body = body
        self._unknown = unknown
        self._by_status = {one.status: one for one in said.answers}

    def said_of(self, status: int) -> DescribedAnswer | None:
        """What is said of answers of a status: by its number, its class, or by `default` (OpenAPI 3.1, 4.8.16)."""
        found = self._by_status
        return found.get(str(status)) or found.get(f"{status // 100}XX") or found.get("default")

    def misfits(self, method: str, answer: Answered, largest: int) -> list[Misfit]:
        """Everything that does not fit, at most `MOST`; empty where all does.

        A body that is not here, or has more than the `largest` number of bytes, is not checked.
        """
        return [*self._misfits(method, answer, largest)][:MOST]

    def _misfits(self, method: str, answer: Answered, largest: int) -> Iterator[Misfit]:
        said = self.said_of(answer.status)
        if said is None:
            if self._unknown:
                yield misfit("answer", "status", str(answer.status), "is not described", True)
            return
        if self._checks_fields:
            yield from self._fields(said, answer)
        if self._checks_body and method != "HEAD" and answer.status not in _WITHOUT_BODY and answer.status != 206:
            yield from self._body(said, answer, largest)

    def _fields(self, said: DescribedAnswer, answer: Answered) -> Iterator[Misfit]:
        for one in said.fields:
            name = one.name.encode("latin-1", "replace")
            texts = [value for given, value in answer.headers if given == name]
            if texts:
                value = in_text(one, b",".join(texts).decode("latin-1"))
                yield from in_schema(self._schemas, one.schema_key, value, "answer", "header", one.name)
            elif one.required:
                yield misfit("answer", "header", one.name, "is required, and missing")

    def _body(self, said: DescribedAnswer, answer: Answered, largest: int) -> Iterator[Misfit]:
        body = answer.body
        fields = dict(answer.headers)
        media = media_of(fields.get(b"content-type", b""))
        if body == b"" or not said.bodies:
            if body and self._unknown:
                yield misfit("answer", "body", "", f"of status {answer.status} is not described", True)
            return
        one = body_for(said.bodies, media)
        if one is None:
            if self._unknown:
                yield undescribed("answer", media, said.bodies)
        elif body is not None and len(body) <= largest and is_json(media) and b"content-encoding" not in fields:
            yield from in_json(self._schemas, one, body, "answer")
