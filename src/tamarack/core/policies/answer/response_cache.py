"""Response cache: answers are kept, and given again without asking the backend (RFC 9111)."""

from collections.abc import Callable
from typing import Annotated, Literal

import orjson
from pydantic import AfterValidator, Field, field_validator, model_validator

from tamarack.core.caching.kept import Rules
from tamarack.core.carrying.caching import Bypass, query_key
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Keeping, Part
from tamarack.core.form_hints import hints
from tamarack.core.http.names import header_name
from tamarack.core.json_pointer import at_pointer
from tamarack.core.policies.guard.body_size import Size, size_in_words
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings, few
from tamarack.core.stages import Stage
from tamarack.core.text import in_words
from tamarack.core.types import Name

LARGEST_SEARCH = 64_000
"""Bytes of a body whose values stand in a key."""
LONGEST_VALUE = 2_000
MOST_SIZE = 20_000_000
LONGEST_S = 30 * 86_400
_LISTED: tuple[str, ...] = ("listed",)
_OWN_TIME = ("by the backend, and where it says nothing for a time of its own", "for a time of its own, whatever the"
             " backend says")  # fmt: skip
_NOTHING = object()

HowLong = Literal[
    "as the backend says",
    "by the backend, and where it says nothing for a time of its own",
    "for a time of its own, whatever the backend says",
]
Whose = Literal["each caller's own", "the same for all callers"]
Where = Literal["in each node's memory", "shared by all nodes"]


def _keepable(value: int) -> int:
    if not 1 <= value <= MOST_SIZE:
        raise ValueError(f"{size_in_words(value)}: an answer that is kept has from 1 B to 20 MB")
    return value


KeptSize = Annotated[Size, AfterValidator(_keepable)]
"""Bytes of an answer that is kept, written like 500 kB."""


class ResponseCache(Policy):
    """Keep answers and give them again."""

    kind: Literal["response-cache"] = "response-cache"
    name: Name = Field(default="response-cache", title="Name", description=NAME_HELP)
    how_long: HowLong = Field(
        default="as the backend says",
        title="Answers are kept",
        description="The backend says it with Cache-Control or Expires. GET and HEAD are kept; what changes something"
        " at a path makes what is kept of it invalid.",
    )
    own_time: int = Field(
        default=0,
        ge=0,
        le=LONGEST_S,
        title="For seconds",
        description="Like 60, or 3600 for an hour.",
        json_schema_extra=hints(only=("how_long", _OWN_TIME)),
    )
    whose: Whose = Field(
        default="each caller's own",
        title="A kept answer is",
        description="Where callers are identified. Let all callers share only what is the same for everyone.",
    )
    query: Literal["all", "none", "listed"] = Field(
        default="all",
        title="Query parameters in the key",
        description="Answers are kept apart by them; their order does not matter.",
    )
    query_names: tuple[str, ...] = Field(
        default=(),
        max_length=20,
        title="These",
        description="A change in any other is no other answer.",
        json_schema_extra=hints(only=("query", _LISTED)),
    )
    headers: tuple[str, ...] = Field(
        default=(),
        max_length=12,
        title="Headers in the key",
        description="Beside those that answers say they vary by (Vary).",
        json_schema_extra=hints(rare=True, suggests="headers"),
    )
    body_values: tuple[str, ...] = Field(
        default=(),
        max_length=12,
        title="For searches by POST, values of the body in the key",
        description="JSON Pointers (RFC 6901), like `/from/port`. A body that is not JSON, lacks one of them or has"
        " more than 64 kB is not kept.",
    )
    stale_while: int = Field(
        default=0,
        ge=0,
        le=LONGEST_S,
        title="Given though over, while the backend is asked anew: for seconds",
        description="Where the backend does not say (stale-while-revalidate, RFC 5861).",
        json_schema_extra=hints(rare=True),
    )
    stale_on_error: int = Field(
        default=0,
        ge=0,
        le=LONGEST_S,
        title="Given though over, when the backend fails: for seconds",
        description="Where the backend does not say (stale-if-error, RFC 5861).",
        json_schema_extra=hints(rare=True),
    )
    callers_may_ask: bool = Field(
        default=True,
        title="Callers may ask for newer answers",
        description="With Cache-Control of their own, like no-cache (RFC 9111, 5.2.1).",
        json_schema_extra=hints(rare=True),
    )
    where: Where = Field(
        default="in each node's memory",
        title="Kept",
        description="Shared, they are kept in Redis; while that is away, calls go to the backend.",
        json_schema_extra=hints(rare=True),
    )
    at_most: KeptSize = Field(
        default=1_000_000,
        title="Largest answer kept",
        description="Like 500 kB or 2 MB, up to 20 MB.",
        json_schema_extra=hints(rare=True),
    )
    wait_ms: int = Field(
        default=2_000,
        ge=0,
        le=30_000,
        title="Callers wait for another's answer for milliseconds",
        description="While one asks the backend, those who ask for the same wait for its answer; then they ask too.",
        json_schema_extra=hints(rare=True),
    )

    @field_validator("headers")
    @classmethod
    def _fields(cls, values: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(dict.fromkeys(header_name(value) for value in values))

    @field_validator("query_names")
    @classmethod
    def _parameters(cls, values: tuple[str, ...]) -> tuple[str, ...]:
        for value in values:
            if not value or len(value) > 100 or any(letter < " " for letter in value):
                raise ValueError(f"{value!r} is not the name of a query parameter")
        return tuple(dict.fromkeys(values))

    @field_validator("body_values")
    @classmethod
    def _pointers(cls, values: tuple[str, ...]) -> tuple[str, ...]:
        for value in values:
            if not value.startswith("/") or len(value) > 200:
                raise ValueError(f"{value!r} is not a JSON Pointer; it starts with /, like /from/port")
        return tuple(dict.fromkeys(values))

    @model_validator(mode="after")
    def _fits(self) -> "ResponseCache":
        if self.how_long != "as the backend says" and not self.own_time:
            raise ValueError("a time of its own needs a number of seconds; give one, or keep as the backend says")
        if self.how_long == "as the backend says" and self.own_time:
            raise ValueError(f"{self.own_time} s are not used where answers are kept as the backend says; leave it 0")
        if (self.query == "listed") != bool(self.query_names):
            raise ValueError("name query parameters where those listed count, and only there")
        return self

    @property
    def over_backend(self) -> bool:
        """Whether its own time counts whatever the backend says."""
        return self.how_long == "for a time of its own, whatever the backend says"

    @property
    def by_all(self) -> bool:
        """Whether callers are given what was answered to others."""
        return self.whose == "the same for all callers"


def caller_part(call: Call) -> bytes:
    """The part of a key that says whose call it is."""
    caller = call.caller
    if caller is None:
        return b""
    user = f" for {call.user}" if call.user else ""
    return f"caller: {caller.organization}/{caller.application}{user}".encode()


def _body_part(pointers: tuple[str, ...]) -> Callable[[Call], bytes]:
    def part(call: Call) -> bytes:
        if call.method != "POST":
            return b""
        if call.body is None:
            raise Bypass("a search whose body is no JSON, or has more than 64 kB, is not kept")
        try:
            document = orjson.loads(call.body)
        except ValueError:
            raise Bypass("its body is not JSON, so it is not kept") from None
        lines = []
        for pointer in pointers:
            value = at_pointer(document, pointer, _NOTHING)
            if value is _NOTHING:
                raise Bypass(f"its body has nothing at {pointer}, so it is not kept")
            written = orjson.dumps(value, option=orjson.OPT_SORT_KEYS)
            if len(written) > LONGEST_VALUE:
                raise Bypass(f"its value at {pointer} is longer than {LONGEST_VALUE} bytes, so it is not kept")
            lines.append(b"%b: %b" % (pointer.encode(), written))
        return b"\n".join(lines)

    return part


def _compile(policy: ResponseCache, surroundings: Surroundings) -> list[Part]:
    parts: list[Callable[[Call], bytes]] = []
    if not policy.by_all:
        parts.append(caller_part)
    if policy.body_values:
        parts.append(_body_part(policy.body_values))
    return [
        Keeping(
            stage=Stage.ANSWER,
            policy=f"{surroundings.placement}/{policy.name}",
            identity=policy.model_dump_json(),
            rules=Rules(
                policy.own_time, policy.over_backend, policy.stale_while, policy.stale_on_error, policy.at_most
            ),
            key_parts=tuple(parts),
            headers=tuple(name.lower().encode() for name in policy.headers),
            query=query_key(policy.query_names if policy.query == "listed" else policy.query),
            posts=bool(policy.body_values),
            heeds=policy.callers_may_ask,
            shared=policy.where == "shared by all nodes",
            wait_s=policy.wait_ms / 1000,
            request_body=LARGEST_SEARCH if policy.body_values else 0,
            media=b"application/json" if policy.body_values else b"",
        )
    ]


def seconds_in_words(seconds: int) -> str:
    """A time as people say it: `90 s`, `5 min`, `2 h`, `3 days`."""
    for size, unit in ((86_400, "days"), (3_600, "h"), (60, "min")):
        if seconds >= size and seconds % size == 0:
            many = seconds // size
            return "1 day" if unit == "days" and many == 1 else f"{many} {unit}"
    return f"{seconds} s"


def _sentence(policy: ResponseCache) -> str:
    kept = {
        "as the backend says": "for as long as the backend says",
        _OWN_TIME[0]: f"for as long as the backend says, and for {seconds_in_words(policy.own_time)} where it says"
        " nothing",
        _OWN_TIME[1]: f"for {seconds_in_words(policy.own_time)}, whatever the backend says",
    }[policy.how_long]
    depends = []
    if policy.query == "listed":
        names = in_words([f"`{name}`" for name in policy.query_names])
        depends.append(f"the query parameter{'s' if len(policy.query_names) > 1 else ''} {names} alone")
    elif policy.query == "all":
        depends.append("the query")
    if policy.headers:
        names = in_words([f"`{name}`" for name in policy.headers])
        depends.append(f"the header{'s' if len(policy.headers) > 1 else ''} {names}")
    if policy.body_values:
        depends.append(f"{in_words([f'`{one}`' for one in policy.body_values])} of a search's body")
    by = f", by the path and {in_words(depends)}" if depends else ", by the path alone"
    whose = "all callers are given the same answer" if policy.by_all else "each caller is given only its own"
    late = []
    if policy.stale_while:
        late.append(f"{seconds_in_words(policy.stale_while)} longer while the backend is asked anew")
    if policy.stale_on_error:
        late.append(f"{seconds_in_words(policy.stale_on_error)} longer when the backend fails")
    longer = f" It is given {in_words(late)}." if late else ""
    return f"An answer is kept {kept}{by}; {whose}.{longer}"


def _outside(policy: ResponseCache) -> str:
    """What developers should know: an answer may be older than the call, and how to see and avoid that."""
    how = seconds_in_words(policy.own_time) if policy.own_time else "as long as it says itself"
    newer = "; `Cache-Control: no-cache` asks for a newer one" if policy.callers_may_ask else ""
    return f"An answer may be given again for {how}: `Age` says how old it is, `Cache-Status` where it is from{newer}."


def _brief(policy: ResponseCache) -> str:
    how = seconds_in_words(policy.own_time) if policy.own_time else "as the backend says"
    if policy.body_values:
        return f"{how}, by {few([one.rpartition('/')[2] for one in policy.body_values])}"
    return f"{how}, {'for all' if policy.by_all else 'each its own'}"


def _risks(policy: ResponseCache) -> list[str]:
    if policy.over_backend and policy.by_all:
        return ["keeps also private answers and gives them to all: one caller's may be shown to another"]
    if policy.over_backend:
        return ["keeps answers whatever the backend says: callers may be given what holds no more"]
    if policy.by_all:
        return ["gives kept answers to all callers: none may be made for one of them alone"]
    return []


KIND = PolicyKind(
    kind="response-cache",
    title="Response cache",
    stage=Stage.ANSWER,
    purpose="Keep answers, and give them again without asking the backend",
    model=ResponseCache,
    compile=_compile,
    brief=_brief,
    sentence=_sentence,
    sentence_outside=_outside,
    alone=True,
    keeps=True,
    reasons=("not-kept",),
    risks=_risks,
)
