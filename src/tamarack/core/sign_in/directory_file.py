"""Directories and their clients as they stand in files: all that decides, and no secret, no user and no token."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, StringConstraints, field_validator

from tamarack.core.sign_in.password_rules import PasswordRules
from tamarack.core.sign_in.redirects import MOST, redirect_problem
from tamarack.core.sign_in.scopes import ScopeName
from tamarack.core.types import EnvironmentName, Frozen, Name, Title

Codes = Literal["off", "optional", "required"]
Grant = Literal[
    "authorization_code", "client_credentials", "refresh_token", "urn:ietf:params:oauth:grant-type:device_code"
]
Redirects = Annotated[tuple[str, ...], Field(max_length=MOST)]


class ClientEntry(Frozen):
    """A client. Its secret is made where it is applied: it is never in a file."""

    id: Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]{2,79}$")]
    application: Name
    environment: EnvironmentName
    title: Title
    confidential: bool = False
    grants: tuple[Grant, ...]
    redirects: Redirects = ()
    after_sign_out: Redirects = ()
    scopes: tuple[ScopeName, ...] = ()
    access_minutes: int = Field(default=0, ge=0, le=1_440)

    @field_validator("redirects", "after_sign_out")
    @classmethod
    def _possible(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        for address in value:
            if wrong := redirect_problem(address):
                raise ValueError(f"{address[:80]!r} {wrong}")
        return value


class DirectoryEntry(Frozen):
    """A directory: its rules and its clients."""

    name: Name
    title: Title
    password: PasswordRules = PasswordRules()
    codes: Codes = "off"
    sign_up: bool = False
    active: bool = True
    access_minutes: int = Field(default=60, ge=1, le=1_440)
    refresh_days: int = Field(default=30, ge=1, le=365)
    clients: tuple[ClientEntry, ...] = ()


class DirectoryFile(Frozen):
    """A file of directories."""

    directories: tuple[DirectoryEntry, ...] = ()

    @field_validator("directories")
    @classmethod
    def _once(cls, value: tuple[DirectoryEntry, ...]) -> tuple[DirectoryEntry, ...]:
        for what, names in (
            ("directory", [one.name for one in value]),
            ("client", [client.id for one in value for client in one.clients]),
        ):
            twice = next((name for name in names if names.count(name) > 1), None)
            if twice is not None:
                raise ValueError(f"the {what} {twice!r} stands twice; remove one")
        return value
