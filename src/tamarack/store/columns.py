"""Columns that several tables have."""

import secrets
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Column, DateTime
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Field


def new_id() -> str:
    """A random name for a row: 16 hexadecimal characters."""
    return secrets.token_hex(8)


def now() -> datetime:
    """The present, in UTC."""
    return datetime.now(UTC)


def Moment(**kwargs: Any) -> Any:
    """A time with its zone; set to now unless `default` is given."""
    nullable = kwargs.get("default", ...) is None
    index = kwargs.pop("index", False)
    if "default" not in kwargs:
        kwargs["default_factory"] = now
    return Field(sa_column=Column(DateTime(timezone=True), nullable=nullable, index=index), **kwargs)


def Names(**kwargs: Any) -> Any:
    """A list of short texts; empty unless given."""
    return Field(default_factory=list, sa_column=Column(JSONB, nullable=False, server_default="[]"), **kwargs)


def Json(**kwargs: Any) -> Any:
    """A JSON value."""
    nullable = kwargs.get("default", ...) is None
    return Field(sa_column=Column(JSONB, nullable=nullable), **kwargs)
