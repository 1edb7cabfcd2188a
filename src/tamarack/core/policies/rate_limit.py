"""Rate limit: at most so many calls in one or more windows, counted by a property of the call."""

from collections.abc import Callable
from functools import lru_cache
from ipaddress import IPv6Network
from typing import Literal

from pydantic import Field, field_validator

from tamarack.core.call import Call
from tamarack.core.limits.store import Limiter, WhenAway
from tamarack.core.limits.window import Window, in_words
from tamarack.core.model import Name
from tamarack.core.policies.kind import Compiled, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage

By = Literal["caller", "credential", "address", "everyone"]


class RateLimit(Policy):
    """Refuse calls beyond a number in each window."""

    kind: Literal["rate-limit"] = "rate-limit"
    name: Name = Field(default="rate-limit", title="Name", description="Replaces one so named further out.")
    windows: tuple[Window, ...] = Field(
        title="Windows",
        description="All of them hold at once. 60 per minute counts by the clock; 60 per minute, sliding in any minute;"
        " 5 per second, burst 20 fills a bucket.",
    )
    by: By = Field(
        default="caller",
        title="Counted by",
        description="Without a caller or credential, the address counts (of IPv6 its /64).",
    )

    when_away: WhenAway = Field(
        default="count on the node",
        title="While shared counters are away",
        description="All nodes count together; while they cannot, each counts by itself, or as chosen here.",
    )

    @field_validator("windows")
    @classmethod
    def _distinct(cls, windows: tuple[Window, ...]) -> tuple[Window, ...]:
        if not windows:
            raise ValueError("a rate limit needs at least one window, like '60 per minute'")
        if len(windows) > 6:
            raise ValueError(f"{len(windows)} windows: a rate limit has at most 6")
        spans = [window.seconds for window in windows]
        twice = next((window for window in windows if spans.count(window.seconds) > 1), None)
        if twice is not None:
            raise ValueError(f"two windows last one {twice.span}; keep the tighter one")
        return windows


@lru_cache(maxsize=65_536)
def _site(address: str) -> str:
    """What an address counts as: itself, or for IPv6 its network of 64 bits, which one subscriber holds whole."""
    if ":" not in address:
        return address
    try:
        return str(IPv6Network((address.partition("%")[0], 64), strict=False))
    except ValueError:
        return address


def _by_address(call: Call) -> str:
    return _site(call.address)


def _by_caller(call: Call) -> str:
    caller = call.caller
    return caller.application_id if caller is not None else _site(call.address)


def _by_credential(call: Call) -> str:
    caller = call.caller
    return caller.credential if caller is not None else _site(call.address)


KEYS: dict[str, Callable[[Call], str]] = {
    "caller": _by_caller,
    "credential": _by_credential,
    "address": _by_address,
    "everyone": lambda call: "",
}


def _compile(policy: RateLimit, surroundings: Surroundings) -> Compiled:
    limiter = Limiter(
        f"{surroundings.placement}/{policy.name}", policy.name, policy.windows, when_away=policy.when_away
    )
    return Compiled(limiter=limiter, key=KEYS[policy.by])


_BY_BRIEF = {"caller": "", "credential": " by key", "address": " by address", "everyone": ", all"}
_BY_WORDS = {
    "caller": "Each caller may call",
    "credential": "With each credential one may call",
    "address": "From each address one may call",
    "everyone": "All callers together may call",
}


def _brief(policy: RateLimit) -> str:
    return ", ".join(window.brief for window in policy.windows) + _BY_BRIEF[policy.by]


def _sentence(policy: RateLimit) -> str:
    return f"{_BY_WORDS[policy.by]} {in_words(policy.windows)}."


KIND = PolicyKind(
    kind="rate-limit",
    title="Rate limit",
    stage=Stage.METER,
    purpose="Refuse calls beyond a number in each second, minute, hour or day",
    model=RateLimit,
    compile=_compile,
    brief=_brief,
    sentence=_sentence,
)
