"""Every table, so that one import makes them all known."""

from sqlmodel import SQLModel

from tamarack.store import (
    announcement,
    application,
    audit,
    branding,
    catalogue_entry,
    draft,
    join,
    key_set,
    mail,
    notice,
    organization,
    picture,
    quota,
    rollout,
    saved_call,
    secret,
    share,
    sign_in_attempt,
    signing_key,
    staff,
    trace,
    traffic,
)

METADATA = SQLModel.metadata

__all__ = [
    "METADATA",
    "announcement",
    "application",
    "audit",
    "branding",
    "catalogue_entry",
    "draft",
    "join",
    "key_set",
    "mail",
    "notice",
    "organization",
    "picture",
    "quota",
    "rollout",
    "saved_call",
    "secret",
    "share",
    "sign_in_attempt",
    "signing_key",
    "staff",
    "trace",
    "traffic",
]
