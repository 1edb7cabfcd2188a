"""The field that says who sees an API, a product or a plan; organizations that it names have to be there."""

from collections.abc import Iterable

from flask import request
from sqlmodel import col, select

from tamarack.core.configuration.audience import KINDS, ORGANIZATIONS, in_words, organizations_named
from tamarack.store.applications.queries import groups_carried
from tamarack.store.people.tables import Organization
from tamarack.web.application import db


def lines(typed: str) -> list[str]:
    """The names in a field with one a line; commas part them too."""
    return [name for line in typed.replace(",", "\n").splitlines() if (name := line.strip())]


def audience_options() -> list[tuple[str, str]]:
    """Whom an audience may name, each with its words: kinds of organizations, groups, organizations."""
    groups = [f"group:{name}" for name in sorted(groups_carried(db()))]
    organizations = db().exec(select(Organization.name, Organization.title).order_by(Organization.title))
    return [(code, in_words([code])) for code in (ORGANIZATIONS, *KINDS, *groups)] + list(organizations)


def typed_audience() -> list[str]:
    """The audience in the form that was sent."""
    return lines("\n".join(request.form.getlist("visible_to")))


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
