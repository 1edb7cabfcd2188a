"""What end users say of themselves (OpenID Connect Core, 5.1); never what decides over them."""

from __future__ import annotations

from zoneinfo import available_timezones

from sqlmodel import Session

from tamarack.store.errors import NotPossible
from tamarack.store.lines import a_line, line_fault
from tamarack.store.sign_in.tables import EndUser

CLAIMS = {
    "nickname": "What you like to be called",
    "locale": "Language, like en or nb-NO",
    "zoneinfo": "Time zone, like Europe/Oslo",
}
"""Claims of the scope `profile` beside the name, and how they are asked for."""


def set_profile(session: Session, user: EndUser, name: str, said: dict[str, str]) -> None:
    """Keep what a user says of themselves; what is left empty is not said. Raises `NotPossible`."""
    name = a_line(name, 120, "name", "The name")
    kept = {claim: said.get(claim, "").strip() for claim in CLAIMS}
    for claim, value in kept.items():
        if value and (wrong := line_fault(value, 60, "This")):
            raise NotPossible(wrong, claim)
    if kept["zoneinfo"] and kept["zoneinfo"] not in available_timezones():
        raise NotPossible(f"{kept['zoneinfo'][:40]!r} is no time zone; write one like Europe/Oslo", "zoneinfo")
    locale = kept["locale"]
    if locale and not all(1 <= len(part) <= 8 and part.isascii() and part.isalnum() for part in locale.split("-")):
        raise NotPossible(f"{locale[:40]!r} is no language tag; write one like en or nb-NO (RFC 5646)", "locale")
    user.name, user.profile = name, {claim: value for claim, value in kept.items() if value}
    session.add(user)
    session.flush()
