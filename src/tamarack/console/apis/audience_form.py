"""The field that says who sees an API, a product or a plan; organizations that it names have to be there."""

from collections.abc import Iterable

from sqlmodel import col, select

from tamarack.core.configuration.audience import organizations_named
from tamarack.store.people.tables import Organization
from tamarack.web.application import db


def lines(typed: str) -> list[str]:
    """The names in a field with one a line; commas part them too."""
    return [name for line in typed.replace(",", "\n").splitlines() if (name := line.strip())]


def audience_errors(audience: Iterable[str]) -> dict[str, str]:
    """What is wrong with the organizations that an audience names, by the field's name."""
    named = set(organizations_named(" ".join(one.split()).lower() for one in audience))
    if not named:
        return {}
    known = set(db().exec(select(Organization.name).where(col(Organization.name).in_(named))))
    missing = sorted(named - known)
    if not missing:
        return {}
    there = ", ".join(db().exec(select(Organization.name).order_by(Organization.name).limit(12)))
    return {"visible_to": f"there is no organization {missing[0]!r}; those there are: {there}"}
