"""Mock: answers made from the description, or from a schema, in the backend's place."""

import re
from collections.abc import Generator
from dataclasses import dataclass
from typing import Any, Literal
from zlib import crc32

import orjson
from pydantic import Field, GetCoreSchemaHandler, model_validator
from pydantic_core import CoreSchema, core_schema

from tamarack.core.caching.control import listed_value, values_of
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.needs import Hold
from tamarack.core.carrying.parts import Answerer, Part, Reply
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.form_hints import hints
from tamarack.core.graphql.calls.asked import GraphAsked, refused
from tamarack.core.graphql.calls.mocked import mocked
from tamarack.core.graphql.document import DocumentProblem
from tamarack.core.graphql.request import media_for
from tamarack.core.mocking.choosing import ReadyAnswer, preferred
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.text import time_in_words
from tamarack.core.types import Name
from tamarack.core.values.call_values import LARGEST_BODY
from tamarack.core.values.conditions import Condition
from tamarack.core.values.conditions import parse as parse_condition

LONGEST_DELAY_MS = 60_000
_RULE = re.compile(r"(.+?)\s*(?:->|→)\s*(?:([2-5][0-9]{2})(?:\s+(\S.*))?|example\s+(\S.*))")


@dataclass(frozen=True, slots=True)
class MockRule:
    """One line: `query port equals HBR -> 404`, `body /cars is absent -> example none`, `path id equals 9 -> 409`."""

    conditions: tuple[Condition, ...]
    status: int = 0
    example: str = ""
    body: str = ""
    """What was typed in the line; else a documented answer is given."""

    def __str__(self) -> str:
        given = f"example {self.example}" if self.example else f"{self.status} {self.body}".rstrip()
        return f"{' and '.join(map(str, self.conditions))} -> {given}"

    def holds(self, call: Call) -> bool:
        """Whether it chooses the answer of a call."""
        return all(one.holds(call) for one in self.conditions)

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_plain_validator_function(
            parse_rule, serialization=core_schema.plain_serializer_function_ser_schema(str)
        )


def parse_rule(value: Any) -> MockRule:
    """A rule from its line. Raises ValueError, in words."""
    if isinstance(value, MockRule):
        return value
    text = str(value).strip()
    found = _RULE.fullmatch(text)
    if found is None:
        raise ValueError(
            f"{text!r} is not a rule; write a condition, an arrow and an answer, like 'query port equals HBR -> 404',"
            " 'path id equals 9 -> example full' or 'header x-trial is present -> 409 {\"title\": \"Full\"}'"
        )
    conditions, status, body, example = found.groups()
    parts = re.split(r"\s+and\s+(?=(?:path|query|header|body)\s)", conditions)
    return MockRule(
        tuple(parse_condition(one) for one in parts), int(status or 0), (example or "").strip(), (body or "").strip()
    )


class Mock(Policy):
    """Answer from the description."""

    kind: Literal["mock"] = "mock"
    name: Name = Field(default="mock", title="Name", description=NAME_HELP)
    status: int = Field(
        default=0,
        ge=0,
        le=599,
        title="Usual answer",
        description="A documented status; 0 for the lowest success that the description documents. Of a GraphQL schema,"
        " 0 is for what the document asks.",
    )
    rules: tuple[MockRule, ...] = Field(
        default=(),
        max_length=50,
        title="Other answers",
        description="The first that holds chooses. Like `query port equals HBR -> 404`,"
        " `path id is one of 8, 9 -> example full` or"
        ' `body /cars/0/length is more than 6 -> 422 {"title": "Too long"}`. “and” joins conditions.',
        json_schema_extra=hints(rows=4),
    )
    callers_choose: bool = Field(
        default=False,
        title="Callers may choose",
        description="With `Prefer: code=404` or `Prefer: example=full` (RFC 7240).",
    )
    delay_ms: int = Field(
        default=0, ge=0, le=LONGEST_DELAY_MS, title="Delay, milliseconds", description="Before each answer.",
        json_schema_extra=hints(rare=True),
    )  # fmt: skip
    delay_to_ms: int = Field(
        default=0,
        ge=0,
        le=LONGEST_DELAY_MS,
        title="Up to, milliseconds",
        description="Where the delay differs from call to call; 0 where it does not.",
        json_schema_extra=hints(rare=True),
    )
    failing: int = Field(
        default=0,
        ge=0,
        le=100,
        title="Failures in a hundred calls",
        description="So many are answered with the status below, whatever they ask for.",
        json_schema_extra=hints(rare=True),
    )
    failing_status: int = Field(
        default=503, ge=400, le=599, title="A failure's status", description="Its documented answer, if there is one.",
        json_schema_extra=hints(rare=True),
    )  # fmt: skip

    @model_validator(mode="after")
    def _fits(self) -> "Mock":
        if 0 < self.status < 200:
            raise ValueError(
                f"{self.status} is not the status of an answer; use 200 to 599, or 0 for the lowest success"
            )
        if self.delay_to_ms and self.delay_to_ms < self.delay_ms:
            raise ValueError(
                f"a delay from {self.delay_ms} up to {self.delay_to_ms} ms goes backwards; raise the second"
            )
        return self

    @property
    def looks_into_bodies(self) -> bool:
        """Whether a rule asks for a value of the body."""
        return any(one.place == "body" for rule in self.rules for one in rule.conditions)


_NOTHING = Refusal(REASONS["nothing-documented"])


def _drawn(call: Call, about: bytes, of: int) -> int:
    """A number below `of`, spread evenly over calls: by the call id, so that nothing here is by chance."""
    return crc32(call.id + about) % of if of > 0 else 0


def _reply(found: ReadyAnswer, more: bytes = b"") -> Reply:
    return Reply(found.status, found.fields + more, found.body)


def _of_schema(call: Call, asked: GraphAsked, policy: str) -> Reply | Refusal:
    """The answer to documents, from the schema."""
    try:
        told = mocked(asked)
    except DocumentProblem as problem:
        return refused(problem, policy)
    body = orjson.dumps(told if asked.batch else told[0])
    return Reply(200, b"content-type: %b\r\n" % media_for(call.headers), body)


def _compile(policy: Mock, surroundings: Surroundings) -> list[Part]:
    nothing = Refusal(REASONS["nothing-documented"], policy=policy.name)

    def answer(call: Call) -> Reply | Refusal:
        operation = call.operation
        answers = operation.mocks if operation is not None else None
        accept = listed_value(call.headers, b"accept").decode("latin-1")
        if policy.failing and _drawn(call, b"fails", 100) < policy.failing:
            found = answers.choose(accept, policy.failing_status) if answers is not None else None
            return _reply(found) if found is not None else Reply(policy.failing_status)
        more = b""
        for rule in policy.rules:
            if rule.holds(call):
                if rule.body or (rule.status and (answers is None or rule.status not in answers.by_status)):
                    media = b"application/json" if rule.body[:1] in ("{", "[", '"') else b"text/plain; charset=utf-8"
                    fields = b"content-type: %b\r\n" % media if rule.body else b""
                    return Reply(rule.status, fields, rule.body.encode())
                status, name = rule.status, rule.example
                break
        else:
            status, name = policy.status, ""
            if policy.callers_choose:
                code, wanted = preferred(values_of(call.headers, b"prefer"))
                if (code or wanted) and answers is not None and answers.choose(accept, code, wanted) is not None:
                    status, name = code, wanted
                    applied = b", ".join(
                        ([b"code=%d" % code] if code else []) + ([b'example="%b"' % wanted.encode("latin-1", "replace")]
                                                                 if wanted else [])
                    )  # fmt: skip
                    more = b"preference-applied: %b\r\nvary: prefer\r\n" % applied
        if call.graph is not None and call.graph.typed and not status and not name:
            return _of_schema(call, call.graph, policy.name)
        if answers is None:
            return nothing
        found = answers.choose(accept, status, name)
        if found is None and (status or name):
            found = answers.choose(accept)
        return _reply(found, more) if found is not None else nothing

    def slowly(call: Call) -> Generator[Hold, None, Reply | Refusal]:
        upper = max(policy.delay_to_ms, policy.delay_ms)
        yield Hold(policy.delay_ms + _drawn(call, b"waits", upper - policy.delay_ms + 1))
        return answer(call)

    delayed = bool(policy.delay_ms or policy.delay_to_ms)
    return [
        Answerer(
            stage=Stage.ANSWER,
            answer=slowly if delayed else answer,
            asks=delayed,
            last=True,
            request_body=LARGEST_BODY if policy.looks_into_bodies else 0,
        )
    ]


def _sentence(policy: Mock) -> str:
    usual = f"status {policy.status}" if policy.status else "the lowest success"
    said = [f"Answers are made from the description, {usual} unless said otherwise; no backend is asked."]
    if policy.rules:
        many = len(policy.rules)
        said.append(f"{'A rule chooses' if many == 1 else f'{many} rules choose'} other answers.")
    if policy.callers_choose:
        said.append("Callers may choose with `Prefer`.")
    if policy.delay_ms or policy.delay_to_ms:
        upper = f" to {time_in_words(policy.delay_to_ms)}" if policy.delay_to_ms > policy.delay_ms else ""
        said.append(f"Each waits {time_in_words(policy.delay_ms)}{upper}.")
    if policy.failing:
        said.append(f"Of a hundred, {policy.failing} fail with {policy.failing_status}.")
    return " ".join(said)


def _brief(policy: Mock) -> str:
    many = len(policy.rules)
    rules = f", {many} {'rule' if many == 1 else 'rules'}" if many else ""
    return f"{policy.status or 'lowest success'}{rules}"


KIND = PolicyKind(
    kind="mock",
    title="Mock",
    stage=Stage.ANSWER,
    purpose="Answer from the description, without a backend",
    model=Mock,
    compile=_compile,
    brief=_brief,
    sentence=_sentence,
    sentence_outside=lambda policy: (
        "Answers are made up from the description."
        + (" `Prefer: code=404` or `Prefer: example=NAME` chooses one." if policy.callers_choose else "")
    ),
    reasons=("nothing-documented",),
    alone=True,
    mocks=True,
    stands_alone=lambda policy: True,
    risks=lambda policy: ["gives callers made-up data, and asks no backend"],
)
