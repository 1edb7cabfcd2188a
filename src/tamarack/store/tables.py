"""Every table, so that one import makes them all known."""

from sqlmodel import SQLModel

from tamarack.store import (
    application,
    audit,
    draft,
    join,
    key_set,
    mail,
    notice,
    organization,
    quota,
    rollout,
    saved_call,
    secret,
    sign_in_attempt,
    signing_key,
    staff,
    trace,
    traffic,
)

METADATA = SQLModel.metadata

__all__ = [
    "METADATA",
    "application",
    "audit",
    "draft",
    "join",
    "key_set",
    "mail",
    "notice",
    "organization",
    "quota",
    "rollout",
    "saved_call",
    "secret",
    "sign_in_attempt",
    "signing_key",
    "staff",
    "trace",
    "traffic",
]
