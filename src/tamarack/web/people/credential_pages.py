"""The pages of credentials, in console and portal alike: making one; changing, rotating, revoking, showing it."""

from collections.abc import Collection
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from typing import Any

from flask import abort, current_app, request, session
from werkzeug.datastructures import MultiDict

from tamarack.core.identity.credentials import KIND_TITLES, CredentialKind, state_of
from tamarack.store.applications import credentials as store
from tamarack.store.applications.credentials import MadeCredential, Wanted
from tamarack.store.applications.tables import Application, Credential
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible
from tamarack.web.application import db, environments, settings_of
from tamarack.web.numbers import whole
from tamarack.web.once import NEW_KEYS

OWN_KINDS: tuple[CredentialKind, ...] = ("api-key", "client-secret", "signed-key", "certificate")
"""The kinds that developers make themselves; only staff say which outside identity is whose."""
OVERLAPS = (("0", "at once"), ("1", "after 1 hour"), ("24", "after 1 day"), ("168", "after 7 days"))
"""Hours until the rotated credential ends, with words."""
_FIELDS = ("kind", "environment", "label", "expires_on", "addresses", "sites", "issuer", "name", "certificate")


@dataclass(slots=True)
class Typed:
    """What was typed in a credential's form, and what is wrong with it."""

    values: dict[str, str]
    errors: dict[str, str] = field(default_factory=dict)


def shown(credential: Credential) -> Typed:
    """What the form of a credential shows."""
    ends = credential.expires_at
    return Typed(
        {
            "label": credential.label,
            "expires_on": (ends - timedelta(seconds=1)).astimezone(UTC).date().isoformat() if ends else "",
            "addresses": "\n".join(credential.addresses),
            "sites": "\n".join(credential.sites),
        }
    )


def blank(kind: str = "api-key") -> Typed:
    """What the form of a new credential shows."""
    return Typed(dict.fromkeys(_FIELDS, "") | {"kind": kind, "environment": environments().live})


def _lines(text: str) -> tuple[str, ...]:
    return tuple(line.strip() for line in text.replace(",", "\n").splitlines() if line.strip())


def _read(posted: MultiDict[str, str], kept: Credential | None = None) -> tuple[Wanted | None, Typed]:
    typed = Typed({name: posted.get(name, "").strip() for name in _FIELDS})
    values = typed.values
    expires_at: datetime | None = None
    if values["expires_on"]:
        try:
            last = date.fromisoformat(values["expires_on"])
            expires_at = datetime.combine(last + timedelta(days=1), time(), UTC)
        except (ValueError, OverflowError):
            typed.errors["expires_on"] = f"{values['expires_on']!r} is not a date; write 2027-01-31"
            return None, typed
    if kept is not None and kept.expires_at is not None and shown(kept).values["expires_on"] == values["expires_on"]:
        expires_at = kept.expires_at  # the day was not touched, so the moment stays
    kind = kept.kind if kept is not None else values["kind"] or "api-key"
    return Wanted(
        kind=kind,  # type: ignore[arg-type]
        label=values["label"],
        expires_at=expires_at,
        addresses=_lines(values["addresses"]),
        sites=_lines(values["sites"]),
        issuer=values["issuer"],
        name=values["certificate" if kind == "certificate" else "name"],
    ), typed


def _note(typed: Typed, error: NotPossible) -> None:
    typed.errors["expires_on" if error.field == "expires_at" else error.field or "label"] = str(error)


def state(credential: Credential) -> str:
    """How a credential stands now."""
    expires = credential.expires_at.timestamp() if credential.expires_at is not None else None
    return state_of(expires, credential.revoked_at is not None, now().timestamp())


def make(
    actor: Actor, application: Application, kinds: tuple[str, ...], allowed: Collection[str]
) -> tuple[MadeCredential | None, Typed]:
    """Make the credential that was asked for; its value is put by for the next page to show once."""
    wanted, typed = _read(request.form)
    environment = typed.values["environment"]
    if environment not in allowed:
        abort(400, f"{environment!r} is not an environment that credentials are made for here.")
    if wanted is None:
        return None, typed
    if wanted.kind not in kinds:
        abort(400, f"{wanted.kind!r} is not a kind of credential that can be made here.")
    try:
        made = store.make_credential(
            db(), actor, settings_of(current_app).keys.credentials, application, environment, wanted
        )
    except NotPossible as error:
        db().rollback()
        _note(typed, error)
        return None, typed
    db().commit()
    _put_by(made.credential, made.value)
    return made, typed


def _put_by(credential: Credential, value: str, **more: str) -> None:
    if value:
        held = {"id": credential.id, "value": value, "kind": credential.kind, "public": credential.public}
        held["kept"] = "yes" if credential.sealed else ""
        session["new_key"] = NEW_KEYS.put(held | more)


def take_new() -> dict[str, Any] | None:
    """The value that was just made or asked for, once."""
    found: dict[str, Any] | None = NEW_KEYS.take(session.pop("new_key", ""))
    return found


def act(actor: Actor, credential: Credential) -> tuple[str, Typed | None]:
    """Do what the credential's page asks for; says in words what was done, or gives back the form with its errors."""
    keys = settings_of(current_app).keys.credentials
    wanted, typed = None, shown(credential)
    try:
        match request.form.get("act", ""):
            case "change":
                wanted, typed = _read(request.form, credential)
                if wanted is None:
                    return "", typed
                store.change_credential(db(), actor, credential, wanted)
                said = "The credential is changed; nodes know within a second."
            case "rotate":
                overlap = timedelta(hours=whole(request.form.get("overlap", "0"), most=9_999) or 0)
                made = store.rotate_credential(db(), actor, keys, credential, overlap)
                _put_by(made.credential, made.value)
                said = "A new credential took its place."
                said += " The one before is revoked." if not overlap else " The one before ends after the overlap."
            case "revoke":
                store.revoke_credential(db(), actor, credential)
                said = f"{credential.hint} is revoked. Calls with it are refused within a second."
            case "look":
                _put_by(credential, store.look_again(db(), actor, keys, credential), again="yes")
                said = "The look is in the audit log."
            case other:
                abort(400, f"{other!r} is nothing that can be done with a credential.")
    except NotPossible as error:
        db().rollback()
        _note(typed, error)
        return "", typed
    db().commit()
    return said, None


def listed(found: Any) -> list[tuple[Credential, str]]:
    """Credentials with their states."""
    return [(one, state(one)) for one in found]


__all__ = [
    "KIND_TITLES",
    "OVERLAPS",
    "OWN_KINDS",
    "Typed",
    "act",
    "blank",
    "listed",
    "make",
    "shown",
    "state",
    "take_new",
]
