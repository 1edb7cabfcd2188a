"""Scopes: what a token may be used for (RFC 6749, 3.3), and their words for whoever consents."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from typing import Annotated, Any

from pydantic import BeforeValidator, Field, StringConstraints, model_serializer

from tamarack.core.types import Frozen, Line

OPENID, PROFILE, EMAIL, OFFLINE = "openid", "profile", "email", "offline_access"
STANDARD: Mapping[str, str] = {
    OPENID: "Know that it is you",
    PROFILE: "See your name",
    EMAIL: "See your mail address",
    OFFLINE: "Stay signed in when you are away",
}
"""Scopes that every directory has (OpenID Connect Core, 5.4 and 11), as a consent page says them."""
_LINE = re.compile(r"(\S+)\s+(.+)")
_SCOPE = re.compile(r"[\x21\x23-\x5B\x5D-\x7E ]*")
MOST = 60
LONGEST = 4_000
ScopeName = Annotated[str, StringConstraints(strip_whitespace=True, pattern=r"^[\x21\x23-\x5B\x5D-\x7E]{1,80}$")]
"""A scope-token (RFC 6749, 3.3)."""


class Scope(Frozen):
    """A scope of an API, and what it lets an application do, in the words of a consent page."""

    name: ScopeName
    words: Line

    def __str__(self) -> str:
        return f"{self.name} {self.words}"

    @model_serializer
    def _line(self) -> str:
        return str(self)


def parse(value: Any) -> Any:
    """A scope from its line: `berths:hold Hold berths in your name`. Raises ValueError, in words."""
    if not isinstance(value, str):
        return value
    found = _LINE.fullmatch(value.strip())
    if found is None:
        raise ValueError(
            f"{value[:60]!r} is no scope; write its name and then what it lets do: berths:hold Hold berths"
        )
    if found[1] in STANDARD:
        raise ValueError(f"{found[1]!r} is a scope that every directory has; give yours another name")
    return {"name": found[1], "words": found[2]}


AnyScope = Annotated[Scope, BeforeValidator(parse)]
Scopes = Annotated[tuple[AnyScope, ...], Field(max_length=MOST)]


def is_scope(text: str) -> bool:
    """Whether a request's scope is one (RFC 6749, 3.3); an empty one is as if it were not sent."""
    return len(text) <= LONGEST and _SCOPE.fullmatch(text) is not None


def asked_for(text: str) -> tuple[str, ...]:
    """The scopes that a request names, each once, in their order."""
    return tuple(dict.fromkeys(text.split()))


def granted(asked: Collection[str], allowed: Collection[str]) -> tuple[str, ...]:
    """Those of the scopes asked for that are allowed; the others are left out, and the answer says which stayed
    (RFC 6749, 3.3)."""
    return tuple(scope for scope in asked if scope in allowed)
