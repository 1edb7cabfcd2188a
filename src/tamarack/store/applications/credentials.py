"""Credentials of applications: made, changed, rotated, revoked, and looked at again where that is allowed."""

import math
import secrets
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from pydantic import TypeAdapter, ValidationError
from sqlmodel import Session, col, select

from tamarack.core.certificates.certificate import known_by
from tamarack.core.http.addresses import NetworkText
from tamarack.core.http.origins import SitePattern
from tamarack.core.identity import credentials as rules
from tamarack.core.identity.credentials import KIND_TITLES, CredentialKeys, CredentialKind
from tamarack.core.identity.sealing import NONCE_BYTES, NotSealedHere, seal, unseal
from tamarack.core.identity.signed_keys import make_signed_key
from tamarack.core.types import problems_of
from tamarack.store.applications import lifetimes
from tamarack.store.applications.tables import Application, Credential
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import new_id, now
from tamarack.store.errors import NotPossible
from tamarack.store.feed import items as feeding
from tamarack.store.keys import signing
from tamarack.store.lines import a_line
from tamarack.store.people.tables import Organization

MOST_CREDENTIALS = 20
MOST_RESTRICTIONS = 50
LONGEST_OVERLAP = timedelta(days=30)
SIGNED_KEY_DAYS = 90
"""Days that a signed key lasts where nothing else is said; it always has an end."""
LONGEST_SIGNED_KEY = timedelta(days=731)

_NETWORKS = TypeAdapter(list[NetworkText])
_SITES = TypeAdapter(list[SitePattern])


@dataclass(frozen=True, slots=True)
class MadeCredential:
    """A new credential and its value, which is not kept in the clear: this is the time to show it."""

    credential: Credential
    value: str


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a credential is to be: label, expiry and restrictions; `name` and `issuer` for outside identities, `name`
    for what a certificate is known by (`core.certificates.certificate.known_by`)."""

    kind: CredentialKind = "api-key"
    label: str = ""
    expires_at: datetime | None = None
    addresses: tuple[str, ...] = ()
    sites: tuple[str, ...] = ()
    issuer: str = ""
    name: str = ""


def _about(id: str) -> str:
    return f"credential {id}"


def _restrictions(wanted: Wanted) -> tuple[list[str], list[str]]:
    found = []
    for field, check, values in (("addresses", _NETWORKS, wanted.addresses), ("sites", _SITES, wanted.sites)):
        if len(values) > MOST_RESTRICTIONS:
            raise NotPossible(f"{len(values)} lines; at most {MOST_RESTRICTIONS} are kept.", field)
        try:
            found.append(check.validate_python(list(values)))
        except ValidationError as error:
            raise NotPossible(problems_of(error)[0].message, field) from error
    return found[0], found[1]


def _check_expiry(expires_at: datetime | None) -> None:
    if expires_at is not None and expires_at <= now():
        raise NotPossible(f"{expires_at:%Y-%m-%d %H:%M} UTC has passed; choose a time in the future.", "expires_at")


def make_credential(
    session: Session,
    actor: Actor,
    keys: CredentialKeys,
    application: Application,
    environment: str,
    wanted: Wanted | None = None,
) -> MadeCredential:
    """Make a credential for an application in an environment. It works at once, without a rollout."""
    wanted = wanted or Wanted()
    if wanted.kind not in KIND_TITLES:
        raise NotPossible(f"{wanted.kind!r} is not a kind of credential.", "kind")
    own = select(Credential).where(
        Credential.application_id == application.id,
        Credential.environment == environment,
        col(Credential.revoked_at).is_(None),
    )
    if len(list(session.exec(own))) >= MOST_CREDENTIALS:
        raise NotPossible(
            f"{application.title} has {MOST_CREDENTIALS} keys in {environment}; revoke one that is no longer used."
        )
    _check_expiry(wanted.expires_at)
    addresses, sites = _restrictions(wanted)
    credential = Credential(
        id=new_id(),
        application_id=application.id,
        environment=environment,
        kind=wanted.kind,
        label=a_line(wanted.label, 80, "label", "The label", least=0),
        digest="",
        hint="",
        addresses=addresses,
        sites=sites,
        expires_at=lifetimes.end_of(session, application, environment, now(), wanted.expires_at),
        made_by=actor.name,
    )
    value = _fill(session, actor, keys, application, credential, wanted)
    organization = session.get(Organization, application.organization_id)
    if value and organization is not None and organization.may_look_again:
        nonce = secrets.token_bytes(NONCE_BYTES)
        credential.sealed = seal(value.encode(), keys.sealing, nonce, _about(credential.id))
    session.add(credential)
    session.flush()
    feeding.publish_credential(session, credential)
    auditing.record(
        session,
        actor,
        "make credential",
        application.name,
        environment=environment,
        kind=wanted.kind,
        hint=credential.hint,
    )
    return MadeCredential(credential, value)


def _fill(
    session: Session,
    actor: Actor,
    keys: CredentialKeys,
    application: Application,
    credential: Credential,
    wanted: Wanted,
) -> str:
    """Give a new credential its value, and what is kept of it; returns the value, empty where there is none."""

    def random(prefix: str) -> str:
        return rules.make_key(secrets.token_bytes(4 * rules.LENGTH), prefix)

    match wanted.kind:
        case "api-key":
            value = random(rules.PREFIX)
            shown = value.encode()
            credential.hint = rules.hint(value)
        case "client-secret":
            credential.public = f"{rules.CLIENT_PREFIX}{credential.id}"
            value = random(rules.SECRET_PREFIX)
            shown = rules.client_value(credential.public.encode(), value.encode())
            credential.hint = f"{credential.public}, {rules.hint(value)}"
        case "signed-key":
            if credential.expires_at is None:
                credential.expires_at = now() + timedelta(days=SIGNED_KEY_DAYS)
            if credential.expires_at > now() + LONGEST_SIGNED_KEY:
                raise NotPossible("A signed key lasts two years at most; choose an earlier end.", "expires_at")
            ends = math.floor(credential.expires_at.timestamp())
            value = make_signed_key(
                signing.private_key(session, actor, keys.sealing),
                credential.id,
                application.id,
                credential.environment,
                now().timestamp(),
                ends,
            )
            shown = credential.id.encode()
            credential.hint = f"{value[:10]}…{value[-6:]}"
        case "outside-identity":
            name, issuer = wanted.name.strip(), wanted.issuer.strip()
            if not 1 <= len(name) <= 200:
                raise NotPossible("Give the name that the issuer's tokens carry, 1 to 200 characters.", "name")
            if len(issuer) > 300:
                raise NotPossible("The issuer is longer than 300 characters.", "issuer")
            value = ""
            shown = rules.outside_value(issuer, name, credential.environment)
            credential.public, credential.issuer, credential.hint = name, issuer, name
        case "certificate":
            value = ""
            shown = _known_by(actor, credential, wanted.name)
    credential.digest = rules.digest(shown, keys.pepper, wanted.kind)
    taken = session.exec(select(Credential).where(Credential.digest == credential.digest)).first()
    if taken is not None:
        owner = session.get(Application, taken.application_id)
        title = owner.title if owner is not None else "another application"
        if taken.revoked_at is None:
            field = "certificate" if wanted.kind == "certificate" else "name"
            raise NotPossible(f"{credential.hint!r} is already an identity of {title}.", field)
        session.delete(taken)  # revoked before: the name may be given anew
        session.flush()
        feeding.publish(session, "credential", taken.id, None)
    return value


def _known_by(actor: Actor, credential: Credential, typed: str) -> bytes:
    """What a certificate is looked up by. It is over when the certificate is; in the portal names are not taken, since
    nobody proves there that they are theirs."""
    try:
        known = known_by(typed)
    except ValueError as error:
        raise NotPossible(f"{error}.", "certificate") from error
    if known.ends is None and actor.door == "portal":
        raise NotPossible(
            "Paste the certificate as PEM; a name of certificates is given to an application by the platform team.",
            "certificate",
        )
    ends = datetime.fromtimestamp(known.ends, UTC) if known.ends is not None else None
    if ends is not None and ends <= now():
        raise NotPossible(f"The certificate ended on {ends:%d %B %Y}; paste one that is in force.", "certificate")
    credential.expires_at = min(filter(None, (credential.expires_at, ends)), default=None)
    credential.public, credential.hint = known.told or known.name, known.hint
    return rules.certificate_value(known.name, credential.environment)


def change_credential(session: Session, actor: Actor, credential: Credential, wanted: Wanted) -> None:
    """Change a credential's label, expiry and restrictions; nodes take it up within a second."""
    if credential.revoked_at is not None:
        raise NotPossible("A revoked credential cannot be changed; make a new one.")
    if wanted.expires_at != credential.expires_at:
        _check_expiry(wanted.expires_at)
        if credential.kind == "signed-key" and (
            wanted.expires_at is None
            or (credential.expires_at is not None and wanted.expires_at > credential.expires_at)
        ):
            message = "The end of a signed key is part of it: it can be moved forward, not back. Rotate it instead."
            raise NotPossible(message, "expires_at")
        application = session.get(Application, credential.application_id)
        if application is not None and credential.kind != "signed-key":
            lifetimes.end_of(session, application, credential.environment, credential.made_at, wanted.expires_at)
    credential.addresses, credential.sites = _restrictions(wanted)
    credential.label = a_line(wanted.label, 80, "label", "The label", least=0)
    credential.expires_at = wanted.expires_at
    session.add(credential)
    session.flush()
    feeding.publish_credential(session, credential)
    auditing.record(session, actor, "change credential", credential.application_id, id=credential.id)


def rotate_credential(
    session: Session, actor: Actor, keys: CredentialKeys, credential: Credential, overlap: timedelta
) -> MadeCredential:
    """Make a credential like another, which ends after the overlap (at once where there is none)."""
    application = session.get(Application, credential.application_id)
    assert application is not None
    if credential.revoked_at is not None:
        raise NotPossible("A revoked credential cannot be rotated; make a new one.")
    if credential.kind in ("outside-identity", "certificate"):
        raise NotPossible(
            f"A credential of the kind {KIND_TITLES[credential.kind]} has no value of its own to rotate; make another"
            " one, and revoke this one when it is no longer used."
        )
    if credential.replaced_by is not None:
        raise NotPossible("This credential was rotated already; rotate the one that took its place.")
    if not timedelta(0) <= overlap <= LONGEST_OVERLAP:
        raise NotPossible("The overlap is at most 30 days.", "overlap")
    lifetime = credential.expires_at - credential.made_at if credential.expires_at is not None else None
    wanted = Wanted(
        kind=credential.kind,  # type: ignore[arg-type]
        label=credential.label,
        expires_at=now() + lifetime if lifetime is not None else None,
        addresses=tuple(credential.addresses),
        sites=tuple(credential.sites),
    )
    made = make_credential(session, actor, keys, application, credential.environment, wanted)
    credential.replaced_by = made.credential.id
    if not overlap:
        revoke_credential(session, actor, credential)
    else:
        ends = now() + overlap
        if credential.expires_at is None or ends < credential.expires_at:
            credential.expires_at = ends
        session.add(credential)
        session.flush()
        feeding.publish_credential(session, credential)
    auditing.record(
        session,
        actor,
        "rotate credential",
        application.name,
        old=credential.id,
        new=made.credential.id,
        overlap_s=int(overlap.total_seconds()),
    )
    return made


def revoke_credential(session: Session, actor: Actor, credential: Credential) -> None:
    """Revoke a credential for good; nodes refuse it within a second."""
    if credential.revoked_at is not None:
        return
    credential.revoked_at = now()
    credential.sealed = None
    session.add(credential)
    session.flush()
    feeding.publish_credential(session, credential)
    auditing.record(
        session, actor, "revoke credential", credential.application_id, hint=credential.hint, id=credential.id
    )


def look_again(session: Session, actor: Actor, keys: CredentialKeys, credential: Credential) -> str:
    """A credential's value, where it was kept; each time is recorded."""
    if credential.sealed is None or credential.revoked_at is not None:
        raise NotPossible("The value of this credential was not kept. Rotate it to get a new one.")
    try:
        value = unseal(credential.sealed, keys.sealing, _about(credential.id)).decode()
    except NotSealedHere as error:
        raise NotPossible(f"The value cannot be shown: {error}. Rotate it to get a new one.") from error
    auditing.record(
        session, actor, "look at credential", credential.application_id, hint=credential.hint, id=credential.id
    )
    return value


def forget_values(session: Session, organization: Organization) -> int:
    """Remove the kept values of an organization's credentials; returns how many."""
    query = (
        select(Credential)
        .where(Credential.application_id == Application.id, Application.organization_id == organization.id)
        .where(col(Credential.sealed).is_not(None))
    )
    kept = list(session.exec(query))
    for credential in kept:
        credential.sealed = None
        session.add(credential)
    session.flush()
    return len(kept)
