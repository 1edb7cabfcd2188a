"""Backends: the services that are published, their targets, and how calls are shared among them."""

import ipaddress
import re
from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import AfterValidator, Field, StringConstraints, model_validator

from tamarack.core.balancing.breaker import BreakerRules
from tamarack.core.balancing.health import HealthRules
from tamarack.core.http.backend_sign_in import SignInKind
from tamarack.core.http.names import header_name
from tamarack.core.identity.secret_names import SecretName
from tamarack.core.types import Frozen, Name, OneLine, Text

_HOST = re.compile(r"^[A-Za-z0-9]([A-Za-z0-9.-]{0,252}[A-Za-z0-9])?$")


def _target_address(value: str) -> str:
    parts = urlsplit(value.strip())
    if parts.scheme not in ("http", "https"):
        raise ValueError(f"{value!r} must start with http:// or https://")
    try:
        host, port = parts.hostname or "", parts.port
    except ValueError as error:
        raise ValueError(f"{value!r} has a port that is not a number from 1 to 65535") from error
    if port == 0:
        raise ValueError(f"{value!r} has port 0; a port is a number from 1 to 65535")
    bracketed = parts.netloc.startswith("[")
    if bracketed:
        ipaddress.IPv6Address(host)
    elif not _HOST.match(host):
        raise ValueError(f"{value!r} names no host")
    if parts.username or parts.password:
        raise ValueError("an address holds no user name or password; those belong in the secret store")
    if parts.query or parts.fragment:
        raise ValueError(f"{value!r} may have a path but no query and no fragment")
    return value.strip().rstrip("/")


class Target(Frozen):
    """One address of a backend; `environments` empty means it serves all of them."""

    address: Annotated[str, AfterValidator(_target_address)]
    environments: tuple[Literal["test", "production"], ...] = ()
    weight: int = Field(default=1, ge=1, le=1_000)
    """How much of the calls it takes, in relation to the others of its priority (RFC 2782)."""
    priority: int = Field(default=0, ge=0, le=100)
    """The lowest number with a target that is well takes the calls (RFC 2782)."""


Sharing = Literal["by weight", "to the fewest calls under way"]
SameFor = Literal["", "the same caller", "the same value of a header"]


class Backend(Frozen):
    """A service that is published: its targets, how calls are shared among them, and how long the gateway waits."""

    name: Name
    summary: Text = ""
    targets: tuple[Target, ...] = Field(min_length=1, max_length=32)
    connect_timeout_ms: int = Field(default=2_000, ge=10, le=60_000)
    read_timeout_ms: int = Field(default=30_000, ge=10, le=600_000)
    first_timeout_ms: int = Field(default=0, ge=0, le=3_600_000)
    """Until an answer begins; 0 for the time between two pieces of it."""
    whole_timeout_ms: int = Field(default=0, ge=0, le=3_600_000)
    """For a whole call, with all attempts; 0 for no such bound."""
    verify_tls: bool = True
    sharing: Sharing = "by weight"
    """Which of the targets of one priority has its turn."""
    same_for: SameFor = ""
    """What keeps going to one target, as long as that is well."""
    same_header: Annotated[str, StringConstraints(max_length=100), AfterValidator(header_name)] = ""
    breaker: BreakerRules | None = None
    """When a target is spared."""
    health: HealthRules | None = None
    """How targets are checked apart from calls."""
    sign_in: SignInKind = "none"
    """How the gateway signs in to it."""
    sign_in_name: Annotated[str, StringConstraints(max_length=200), OneLine] = ""
    """The header field's name, or the user's for basic."""
    sign_in_secret: SecretName = ""

    @model_validator(mode="after")
    def _shares(self) -> "Backend":
        if (self.same_for == "the same value of a header") != bool(self.same_header):
            raise ValueError("name a header where calls with the same value of it go to one target, and only there")
        return self

    @model_validator(mode="after")
    def _signs_in(self) -> "Backend":
        if self.sign_in == "none":
            return self
        if not self.sign_in_secret:
            raise ValueError(f"signing in by {self.sign_in} needs a secret of the secret store; name it")
        if self.sign_in == "header" and not header_name(self.sign_in_name):
            raise ValueError("signing in by a header needs the header field's name")
        if self.sign_in == "basic" and (not self.sign_in_name or ":" in self.sign_in_name):
            raise ValueError("signing in by basic needs a user name, without a colon (RFC 7617)")
        return self

    def targets_in(self, environment: str) -> tuple[Target, ...]:
        """The targets that serve an environment."""
        return tuple(t for t in self.targets if not t.environments or environment in t.environments)
