"""The bench: a call that staff send to an environment, as typed, and the answer it got."""

import json
import re
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints, field_validator

from tamarack.core.documents.json_text import value_of
from tamarack.core.trying.examples import ExampleCall
from tamarack.core.trying.expectations import Expectation
from tamarack.core.types import Frozen

MOST_BODY = 1_000_000
"""Characters of a body that is sent from the bench."""
_HEADER_LINE = re.compile(r"^([!#$%&'*+.^_`|~0-9A-Za-z-]+):[ \t]*([\x20-\x7e\x80-\xff\t]*)$")
_PATH = re.compile(r"^/[\x21-\x7e]*$")
_NOT_TYPED = {"host", "content-length", "transfer-encoding", "connection", "tamarack-bench", "expect"}


class BenchCall(Frozen):
    """A call as it is typed. `application` is the id of whom it is made as; empty: by what its headers show."""

    method: Literal["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"] = Field(default="GET", title="Method")
    path: Annotated[str, StringConstraints(strip_whitespace=True, max_length=8_000)] = Field(
        title="Path", description="With base path and query."
    )
    headers: tuple[str, ...] = Field(default=(), title="Headers", description="One in a line, like accept: text/plain.")
    body: str = Field(default="", max_length=MOST_BODY, title="Body")
    operation: str = ""
    """The operation whose form it was typed in."""
    application: str = Field(default="", title="As")
    claims: str = Field(default="", title="Claims", description="What its token would say, as a JSON object.")
    expectations: tuple[Expectation, ...] = Field(
        default=(), title="Expectations", description="One in a line, like status is 200."
    )

    @field_validator("path")
    @classmethod
    def _path(cls, value: str) -> str:
        if not _PATH.match(value):
            raise ValueError(f"{value!r} is not a path; it starts with / and has other characters percent-encoded")
        return value

    @field_validator("headers")
    @classmethod
    def _headers(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        for line in value:
            found = _HEADER_LINE.match(line)
            if found is None:
                raise ValueError(f"{line!r} is not a header field; write name: value")
            if found[1].lower() in _NOT_TYPED:
                raise ValueError(f"{found[1]!r} is set by the bench itself; leave it out")
        return value

    @field_validator("claims")
    @classmethod
    def _claims(cls, value: str) -> str:
        if value.strip():
            try:
                parsed = value_of(value)
            except ValueError as error:
                raise ValueError(f"is not JSON: {error}") from error
            if not isinstance(parsed, dict):
                raise ValueError('is not a JSON object; write like {"groups": ["crew"]}')
            if len(value) > 2_000:
                raise ValueError(f"has {len(value)} characters; at most 2000 are taken")
        return value.strip()

    @property
    def fields(self) -> list[tuple[str, str]]:
        """The header fields as names and values."""
        return [(found[1], found[2].strip()) for line in self.headers if (found := _HEADER_LINE.match(line))]

    @property
    def claims_said(self) -> dict[str, Any] | None:
        """The claims to vouch for, None for none."""
        return value_of(self.claims) if self.claims else None

    def example(self, address: str, shown: ExampleCall | None = None) -> ExampleCall:
        """The call as one that others can run; `shown` holds the credential that it is made with."""
        headers = dict(self.fields)
        named = {name.lower() for name in headers}
        extra = {name: value for name, value in (shown.headers if shown else {}).items() if name.lower() not in named}
        basic = shown.basic if shown is not None and "authorization" not in named else None
        query = shown.url if shown is not None else ""
        url = address + self.path + (f"{'&' if '?' in self.path else '?'}{query}" if query else "")
        return ExampleCall(self.method, url, headers | extra, self.body, basic)


@dataclass(frozen=True, slots=True)
class BenchAnswer:
    """What a call from the bench was answered. `problem` says why there was no answer."""

    status: int = 0
    reason: str = ""
    headers: tuple[tuple[str, str], ...] = ()
    body: str = ""
    ms: float = 0.0
    call_id: str = ""
    node: str = ""
    problem: str = ""
    cut: bool = False
    failures: tuple[str, ...] = field(default=())

    @property
    def formatted(self) -> str:
        """The body for reading: JSON indented, else as it is."""
        kind = next((value for name, value in self.headers if name.lower() == "content-type"), "")
        if "json" in kind and not self.cut:
            try:
                return json.dumps(value_of(self.body), indent=2, ensure_ascii=False)
            except ValueError:
                return self.body
        return self.body


def failures(call: BenchCall, answer: BenchAnswer) -> tuple[str, ...]:
    """What is otherwise than expected, in words."""
    if answer.problem:
        return (answer.problem,)
    found = (one.failure(answer.status, answer.headers, answer.body) for one in call.expectations)
    return tuple(words for words in found if words)
