"""Every table, so that one import makes them all known."""

from sqlmodel import SQLModel

from tamarack.store import application, audit, draft, organization, rollout, sign_in_attempt, staff, traffic

METADATA = SQLModel.metadata

__all__ = [
    "METADATA",
    "application",
    "audit",
    "draft",
    "organization",
    "rollout",
    "sign_in_attempt",
    "staff",
    "traffic",
]
