"""Setting, rotating and removing secrets. A value goes in, and comes out only inside a node."""

import re
import secrets
from base64 import b64decode
from collections.abc import Sequence
from datetime import timedelta
from typing import Any

from sqlmodel import Session, col, select

from tamarack.core.identity.sealing import NONCE_BYTES, seal, unseal
from tamarack.core.identity.secret_facts import SecretFacts
from tamarack.core.types import NAME_PATTERN
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.environments.queries import known
from tamarack.store.errors import NotPossible
from tamarack.store.export.tables import Export
from tamarack.store.feed import items as feeding
from tamarack.store.lines import a_line
from tamarack.store.secrets.tables import Secret, SecretValue

MOST_BYTES = 16_384
MOST_OVERLAP = timedelta(days=30)


def about(name: str) -> str:
    """What a secret's sealed values are about."""
    return f"secret {name}"


def all_secrets(session: Session) -> list[Secret]:
    """Every secret, by name."""
    return list(session.exec(select(Secret).order_by(Secret.name)))


def values_of(session: Session, name: str) -> list[SecretValue]:
    """A secret's values, the newest first."""
    query = select(SecretValue).where(SecretValue.secret == name)
    return list(session.exec(query.order_by(col(SecretValue.made_at).desc(), col(SecretValue.id))))


_SEALED_MORE = NONCE_BYTES + 16
"""Bytes of a sealed value beyond the value itself: its nonce and its tag."""


def facts_for(session: Session, environment: str) -> dict[str, SecretFacts]:
    """The secrets that have a value in an environment, with what is known of them."""
    query = select(SecretValue, Secret).where(
        SecretValue.secret == Secret.name,
        col(SecretValue.environment).in_(["", environment]),
        col(SecretValue.until).is_(None),
    )
    found: dict[str, SecretFacts] = {}
    for value, secret in session.exec(query):
        size = len(b64decode(value.sealed)) - _SEALED_MORE
        known = found.get(secret.name)
        found[secret.name] = SecretFacts(tuple(secret.hosts), min(size, known.size) if known is not None else size)
    return found


def is_set(session: Session, name: str) -> bool:
    """Whether a secret is there."""
    return session.get(Secret, name) is not None


def set_secret(
    session: Session,
    actor: Actor,
    key: bytes,
    name: str,
    value: str,
    environment: str = "",
    summary: str | None = None,
    overlap: timedelta = timedelta(0),
    hosts: Sequence[str] | None = None,
    least: int = 0,
) -> Secret:
    """Set a secret, or rotate it: the value before is accepted for the overlap, then removed.

    `hosts` are those that it may be sent to; none given leaves them as they are, and a new secret goes nowhere.
    `least` are the bytes that what uses it asks for (`core.configuration.model.least_secrets`).
    """
    if not re.match(NAME_PATTERN, name):
        message = f"{name!r} is not a name: lower-case letters, digits and hyphens, from a letter on."
        raise NotPossible(message, "name")
    if environment and environment not in known(session):
        raise NotPossible(f"{environment!r} is not an environment.", "environment")
    raw = value.encode()
    if not raw:
        raise NotPossible("Give the secret a value.", "value")
    if len(raw) > MOST_BYTES:
        raise NotPossible(f"The value has {len(raw)} bytes; at most {MOST_BYTES} are kept.", "value")
    if len(raw) < least:
        raise NotPossible(f"The value has {len(raw)} bytes; tokens signed with it ask for {least}.", "value")
    if any(letter in value for letter in "\r\n\0") and "-----BEGIN" not in value:
        raise NotPossible("The value holds a line break; paste it as one line.", "value")
    if not timedelta(0) <= overlap <= MOST_OVERLAP:
        raise NotPossible("The overlap is at most 30 days.", "overlap")
    secret = session.get(Secret, name)
    if secret is None:
        secret = Secret(name=name, made_by=actor.name)
    if summary is not None:
        secret.summary = a_line(summary, 200, "summary", "The summary", least=0)
    if hosts is not None:
        secret.hosts = list(hosts)
    session.add(secret)
    session.flush()
    rotated = False
    for earlier in values_of(session, name):
        if earlier.environment != environment:
            continue
        if earlier.until is None and overlap:
            earlier.until = now() + overlap
            session.add(earlier)
            rotated = True
        elif earlier.until is None or earlier.until <= now():
            session.delete(earlier)
            rotated = True
    sealed = seal(raw, key, secrets.token_bytes(NONCE_BYTES), about(name))
    session.add(SecretValue(secret=name, environment=environment, sealed=sealed, made_by=actor.name))
    session.flush()
    publish(session, name)
    verb = "rotate secret" if rotated else "set secret"
    auditing.record(
        session, actor, verb, name, environment=environment or "all", overlap_s=int(overlap.total_seconds()),
        hosts=secret.hosts,
    )  # fmt: skip
    return secret


def remove_secret(session: Session, actor: Actor, name: str) -> None:
    """Remove a secret and all its values; nodes forget it within a second."""
    secret = session.get(Secret, name)
    if secret is None:
        raise NotPossible(f"There is no secret {name!r}.", "name")
    if session.exec(select(Export.id).where(Export.secret == name)).first() is not None:
        raise NotPossible(f"The export of records shows {name!r} to its collector; choose another there first.", "name")
    for value in values_of(session, name):
        session.delete(value)
    session.flush()
    session.delete(secret)
    session.flush()
    feeding.publish(session, "secret", name, None)
    auditing.record(session, actor, "remove secret", name)


def drop_values_for(session: Session, actor: Actor, name: str, environment: str) -> None:
    """Remove the values that a secret has for one environment alone; nodes forget them within a second."""
    for value in values_of(session, name):
        if value.environment == environment:
            session.delete(value)
    session.flush()
    publish(session, name)
    auditing.record(session, actor, "remove secret's values", name, environment=environment)


def publish(session: Session, name: str) -> None:
    """Tell the nodes a secret's values, sealed as they are."""
    values: dict[str, list[dict[str, Any]]] = {}
    for value in values_of(session, name):
        until = value.until.timestamp() if value.until is not None else 0
        values.setdefault(value.environment, []).append({"sealed": value.sealed, "until": until})
    feeding.publish(session, "secret", name, {"values": values})


def value_in_force(session: Session, key: bytes, name: str) -> str:
    """The value that programs of the installation use themselves: that for all environments, or the live one's.

    Raises NotPossible where there is none.
    """
    newest = [value for value in values_of(session, name) if value.until is None]
    for environment in ("", known(session).live):
        found = next((value for value in newest if value.environment == environment), None)
        if found is not None:
            return unseal(found.sealed, key, about(name)).decode()
    raise NotPossible(f"The secret {name!r} has no value; set it again.", "name")


def value_for(session: Session, key: bytes, name: str, environment: str) -> str:
    """The value that nodes of an environment use: its own, or that for all. Raises NotPossible where there is none."""
    newest = [value for value in values_of(session, name) if value.until is None]
    for whose in (environment, ""):
        found = next((value for value in newest if value.environment == whose), None)
        if found is not None:
            return unseal(found.sealed, key, about(name)).decode()
    raise NotPossible(f"The secret {name!r} has no value for {environment}; set it under Settings, Secrets.", "name")


def drop_old_values(session: Session) -> int:
    """Remove values past their overlap; returns how many."""
    old = list(session.exec(select(SecretValue).where(col(SecretValue.until) < now())))
    for value in old:
        session.delete(value)
    session.flush()
    for name in sorted({value.secret for value in old}):
        publish(session, name)
    return len(old)
