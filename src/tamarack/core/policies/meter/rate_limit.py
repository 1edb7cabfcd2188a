"""Rate limit: at most so many calls in one or more windows, counted by a property of the call."""

from collections.abc import Callable
from functools import lru_cache
from ipaddress import IPv6Network
from typing import Literal

from pydantic import Field, field_validator, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Limit, Part
from tamarack.core.form_hints import hints
from tamarack.core.http.names import header_name
from tamarack.core.http.query import in_pairs
from tamarack.core.identity.claims import MISSING, claim_at
from tamarack.core.limits.store import Limiter, WhenAway
from tamarack.core.limits.window import Window, distinct, in_words
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.types import Name

By = Literal[
    "caller", "credential", "user", "address", "header", "query", "claim", "path", "operation", "everyone"
]  # fmt: skip
NAMED = ("header", "query", "claim")
"""What is counted by a name that has to be given."""
MOST_HOLD_MS = 30_000
MOST_QUEUE = 1_000
LONGEST_VALUE = 200
"""Characters of a value that is counted by; longer ones count as their beginning."""


class RateLimit(Policy):
    """Refuse calls beyond a number in each window."""

    kind: Literal["rate-limit"] = "rate-limit"
    name: Name = Field(default="rate-limit", title="Name", description=NAME_HELP)
    windows: tuple[Window, ...] = Field(
        title="At most",
        description="One in a line; all of them hold at once.",
    )
    by: By = Field(
        default="caller",
        title="Counted by",
        description="A call that lacks it is counted by its address (an IPv6 one by its /64).",
    )
    by_name: str = Field(
        default="",
        max_length=100,
        title="Name to count by",
        description="The name of the header, query parameter or claim.",
        json_schema_extra=hints(only=("by", NAMED)),
    )
    hold_ms: int = Field(
        default=0,
        ge=0,
        le=MOST_HOLD_MS,
        title="Hold for up to (ms)",
        description="Hold a call until its turn comes, at most this long, instead of refusing it; 0 refuses at once.",
        json_schema_extra=hints(rare=True),
    )
    queue: int = Field(
        default=20,
        ge=1,
        le=MOST_QUEUE,
        title="Held at once",
        description="How many calls may wait on a node for the same count; further ones are refused.",
        json_schema_extra=hints(rare=True),
    )
    when_away: WhenAway = Field(
        default="count on the node",
        title="While shared counters are away",
        description="Nodes count together. While they cannot, each counts by itself, or does what is chosen here.",
        json_schema_extra=hints(rare=True),
    )

    @field_validator("windows")
    @classmethod
    def _distinct(cls, windows: tuple[Window, ...]) -> tuple[Window, ...]:
        if not windows:
            raise ValueError("a rate limit needs at least one window, like '60 per minute'")
        if len(windows) > 6:
            raise ValueError(f"{len(windows)} windows: a rate limit has at most 6")
        return distinct(windows)

    @model_validator(mode="after")
    def _named(self) -> "RateLimit":
        if self.by in NAMED:
            if not self.by_name.strip():
                raise ValueError(f"counting by {self.by} needs its name; fill in 'Name to count by'")
            if self.by == "header":
                header_name(self.by_name)
        elif self.by_name:
            raise ValueError(
                f"counting by {self.by} takes no name; empty 'Name to count by', or choose header, query or claim"
            )
        return self


@lru_cache(maxsize=65_536)
def _site(address: str) -> str:
    """What an address counts as: itself, or for IPv6 its network of 64 bits, which one subscriber holds whole."""
    if ":" not in address:
        return address
    try:
        return str(IPv6Network((address.partition("%")[0], 64), strict=False))
    except ValueError:
        return address


Key = Callable[[Call], str]


def _by_address(call: Call) -> str:
    return _site(call.address)


def by_caller(call: Call) -> str:
    """What a call counts for: its application, else its address."""
    caller = call.caller
    return caller.application_id if caller is not None else _site(call.address)


def _by_credential(call: Call) -> str:
    caller = call.caller
    return caller.credential if caller is not None and caller.credential else _site(call.address)


def _or_address(find: Key) -> Key:
    """Count by what is found, else by the address. The mark keeps a value from passing for an address."""

    def key(call: Call) -> str:
        found = find(call)
        return f"={found[:LONGEST_VALUE]}" if found else _site(call.address)

    return key


def _header(name: bytes) -> Key:
    return lambda call: next((value.decode("latin-1") for field, value in call.headers if field == name), "")


def _query(name: bytes) -> Key:
    return lambda call: (
        next((value.decode("latin-1") for value in in_pairs(call.query, name)), "") if call.query else ""
    )


def _claim(name: str) -> Key:
    def found(call: Call) -> str:
        value = claim_at(call.claims, name) if call.claims is not None else MISSING
        return "" if value is MISSING or value is None else str(value)

    return found


def _user(call: Call) -> str:
    return call.user


def _path(call: Call) -> str:
    return call.path.decode("latin-1")


def _operation(call: Call) -> str:
    operation = call.operation
    assert operation is not None
    return f"{operation.api} {operation.version} {operation.name}"


KEYS: dict[str, Key] = {
    "caller": by_caller,
    "credential": _by_credential,
    "user": _or_address(_user),
    "address": _by_address,
    "path": _path,
    "operation": _operation,
    "everyone": lambda call: "",
}


def key_of(policy: RateLimit) -> Key:
    """What a call counts for under a policy."""
    match policy.by:
        case "header":
            return _or_address(_header(header_name(policy.by_name).encode()))
        case "query":
            return _or_address(_query(policy.by_name.encode()))
        case "claim":
            return _or_address(_claim(policy.by_name))
        case by:
            return KEYS[by]


def _missing(policy: RateLimit, call: Call) -> bool:
    """Whether a call lacks what it is counted by, so that its address counts."""
    match policy.by:
        case "address" | "everyone" | "path" | "operation":
            return False
        case "caller":
            return call.caller is None
        case "credential":
            return call.caller is None or not call.caller.credential
        case _:
            return not key_of(policy)(call).startswith("=")


def _compile(policy: RateLimit, surroundings: Surroundings) -> list[Part]:
    id = f"{surroundings.placement}/{policy.name}"
    limiter = Limiter(
        id, policy.name, policy.windows, when_away=policy.when_away, hold_ms=policy.hold_ms, queue=policy.queue
    )
    key = key_of(policy)

    def reads(call: Call) -> list[tuple[str, str]]:
        found, caller = key(call), call.caller
        if _missing(policy, call):
            named = f" {policy.by_name}" if policy.by_name else ""
            return [("counted for", f"{found}, the address: the call has no {policy.by}{named}")]
        if caller is not None and found == caller.application_id:
            found = f"{caller.organization}/{caller.application}"
        return [("counted for", found.removeprefix("=") or "everyone")]

    return [Limit(stage=Stage.METER, limiter=limiter, key=key, reads=reads)]


_BY_BRIEF = {"caller": "", "credential": " by key", "user": " by end user", "everyone": ", all"}
_BY_WORDS = {
    "caller": "Each caller may call",
    "credential": "With each credential one may call",
    "user": "For each end user one may call",
    "address": "From each address one may call",
    "path": "Each path may be called",
    "operation": "Each operation may be called",
    "everyone": "All callers together may call",
}


def _brief(policy: RateLimit) -> str:
    by = _BY_BRIEF.get(policy.by, f" by {policy.by_name or policy.by}")
    held = ", held" if policy.hold_ms else ""
    return ", ".join(window.brief for window in policy.windows) + by + held


def _sentence(policy: RateLimit) -> str:
    words = _BY_WORDS.get(policy.by, f"With each value of the {policy.by} `{policy.by_name}` one may call")
    if not policy.hold_ms:
        return f"{words} {in_words(policy.windows)}."
    held = "1 call waits" if policy.queue == 1 else f"{policy.queue} calls wait"
    return f"{words} {in_words(policy.windows)}; beyond that up to {held}, each at most {policy.hold_ms} ms."


KIND = PolicyKind(
    kind="rate-limit",
    title="Rate limit",
    stage=Stage.METER,
    purpose="Refuse calls beyond a number in each second, minute, hour or day",
    model=RateLimit,
    compile=_compile,
    reasons=("over-rate", "not-metered"),
    limits_rate=True,
    brief=_brief,
    sentence=_sentence,
)
