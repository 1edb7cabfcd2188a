"""Audiences: for whom an API, a product or a plan is to be seen in the portal."""

import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Annotated

from pydantic import AfterValidator, Field

from tamarack.core.types import NAME_PATTERN

ORGANIZATIONS = "organizations"
"""Whoever is signed in."""
KINDS = {"internal": "internal", "partners": "partner"}
"""The words for kinds of organizations, each with the kind."""
RESERVED = frozenset({ORGANIZATIONS, *KINDS})
"""Words that no organization may have as its name."""
_GROUP = "group:"
_NAME = re.compile(NAME_PATTERN)


@dataclass(frozen=True, slots=True)
class Viewer:
    """Who looks: an organization, or a stranger where `organization` is empty.

    `holds` are the products and plans that it has subscriptions to, which have not ended; `since` says of each product
    when the oldest of them was made.
    """

    organization: str = ""
    kind: str = ""
    groups: frozenset[str] = frozenset()
    holds: frozenset[tuple[str, str]] = frozenset()
    since: frozenset[tuple[str, datetime]] = frozenset()

    def without_holdings(self) -> "Viewer":
        """The same viewer as one who has nothing yet."""
        return Viewer(self.organization, self.kind, self.groups)


STRANGER = Viewer()


def _one(name: str) -> str:
    name = " ".join(name.split()).lower()
    bare = name.removeprefix(_GROUP)
    if not _NAME.match(bare):
        raise ValueError(
            f"{name!r} is not an audience: write an organization's name, group:NAME, internal, partners, or"
            " organizations for all who are signed in"
        )
    return name


AudienceName = Annotated[str, AfterValidator(_one)]

Audience = Annotated[
    tuple[AudienceName, ...],
    Field(
        max_length=100,
        title="Seen by",
        description="One a line: an organization's name, `group:NAME`, `internal`, `partners`, or `organizations` for"
        " all who are signed in. Empty for everyone, strangers too.",
    ),
]


def sees(audience: Iterable[str], viewer: Viewer) -> bool:
    """Whether a viewer belongs to an audience. The empty audience is everyone."""
    named = tuple(audience)
    if not named:
        return True
    if not viewer.organization:
        return False
    return any(
        one in (ORGANIZATIONS, viewer.organization)
        or KINDS.get(one) == viewer.kind
        or (one.startswith(_GROUP) and one.removeprefix(_GROUP) in viewer.groups)
        for one in named
    )


def in_words(audience: Iterable[str]) -> str:
    """An audience as people say it."""
    words = {ORGANIZATIONS: "all who are signed in", "internal": "internal organizations", "partners": "partners"}
    said = [words.get(one) or one.replace(_GROUP, "group ") for one in audience]
    return ", ".join(said) or "everyone"


def organizations_named(audience: Iterable[str]) -> list[str]:
    """The names of organizations in an audience."""
    return [one for one in audience if one not in RESERVED and not one.startswith(_GROUP)]
