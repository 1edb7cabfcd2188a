"""What an environment is, and all of them in their order."""

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import AfterValidator, Field

from tamarack.core.text import in_words
from tamarack.core.types import EnvironmentName, Frozen, Line

MOST_ENVIRONMENTS = 8
"""More than these no masthead can show side by side, and no team keeps apart."""

Mark = Literal["ring", "disc", "half", "square", "box", "diamond", "triangle", "bars"]
"""The shape that an environment is known by: shapes are told apart without colours."""


def _address(value: str) -> str:
    text = value.strip().rstrip("/")
    if not text:
        return ""
    try:
        parts = urlsplit(text)
        _ = parts.port
    except ValueError as error:
        raise ValueError(f"{text[:80]!r} is no address: {error}") from None
    if parts.scheme not in ("http", "https") or not parts.hostname or not re.fullmatch(r"[\x21-\x7e]+", text):
        raise ValueError(f"{text[:80]!r} is no address; write one like https://staging.skerry.example")
    if parts.username or parts.password or parts.query or parts.fragment:
        raise ValueError(f"{text[:80]!r} may have a path, but no user, query or fragment")
    return text


class Environment(Frozen):
    """One environment: a separate set of running configuration and gateway nodes."""

    name: EnvironmentName
    summary: Line = ""
    mark: Mark = "ring"
    address: Annotated[str, Field(max_length=300), AfterValidator(_address)] = ""
    """Where callers reach it; empty for what the settings say, or for one of its nodes."""
    open_to_owners: bool = False
    """API owners may roll out to it, and not platform admins alone."""
    on_portal: bool = False
    """Developers see what it offers, and subscribe to it by themselves; the live one is offered whatever this says."""


@dataclass(frozen=True, slots=True)
class Environments:
    """All environments, in their order. There is always one, and the last is the live one: the portal shows what runs
    there, its calls are charged for, and subscribers are told of what happens in it."""

    listed: tuple[Environment, ...]

    @property
    def names(self) -> tuple[str, ...]:
        """Their names, in their order."""
        return tuple(one.name for one in self.listed)

    @property
    def first(self) -> str:
        """Where a change goes first."""
        return self.listed[0].name

    @property
    def live(self) -> str:
        """Where the calls count."""
        return self.listed[-1].name

    @property
    def said(self) -> str:
        """Their names, as words of a sentence."""
        return in_words(self.names)

    @property
    def on_portal(self) -> tuple[str, ...]:
        """Those that developers see, in their order."""
        return tuple(one.name for one in self.listed if one.on_portal or one.name == self.live)

    def named(self, name: str) -> Environment | None:
        """The environment so named, or None."""
        return next((one for one in self.listed if one.name == name), None)

    def before(self, name: str) -> str:
        """The environment that a change comes from to this one; empty for the first."""
        place = self.names.index(name)
        return self.names[place - 1] if place else ""

    def __contains__(self, name: object) -> bool:
        return name in self.names

    def __iter__(self) -> Iterator[str]:
        return iter(self.names)

    def __len__(self) -> int:
        return len(self.listed)

    def __reversed__(self) -> Iterator[str]:
        return reversed(self.names)
