"""Backends: the services that are published, their targets, and how calls are shared among them."""

import ipaddress
import re
from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import AfterValidator, Field, StringConstraints, model_validator

from tamarack.core.balancing.breaker import BreakerRules
from tamarack.core.balancing.health import HealthRules
from tamarack.core.certificates.certificate import authorities_in
from tamarack.core.http.backend_sign_in import SignInKind
from tamarack.core.http.names import header_name
from tamarack.core.identity.secret_names import SecretName
from tamarack.core.language_models.offered_models import MOST_MODELS, ModelLine
from tamarack.core.types import EnvironmentName, Frozen, Name, OneLine, Text

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


def _authorities(value: str) -> str:
    authorities_in(value)
    return value


class Target(Frozen):
    """One address of a backend; `environments` empty means it serves all of them."""

    address: Annotated[str, AfterValidator(_target_address)]
    environments: tuple[EnvironmentName, ...] = ()
    weight: int = Field(default=1, ge=1, le=1_000)
    """How much of the calls it takes, in relation to the others of its priority (RFC 2782)."""
    priority: int = Field(default=0, ge=0, le=100)
    """The lowest number with a target that is well takes the calls (RFC 2782)."""
    capacity: int = Field(default=0, ge=0, le=10**9)
    """Tokens of a language model that are reserved there for each minute; 0 where that is not known."""
    secret: SecretName = ""
    """What the gateway signs in there with, in place of the backend's secret."""


Sharing = Literal["by weight", "to the fewest calls under way"]
TurnedAway = Literal["answer the caller", "ask the next target"]
_PLAN_KEY = re.compile(r"[a-z][a-z0-9-]{0,62}/[a-z][a-z0-9-]{0,62}")


def _plan_key(value: str) -> str:
    if not _PLAN_KEY.fullmatch(value.strip()):
        raise ValueError(f"{value[:100]!r} is no plan; write its product and its name, like passage/cutter")
    return value.strip()


PlanKey = Annotated[str, AfterValidator(_plan_key)]
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
    authorities: Annotated[str, StringConstraints(strip_whitespace=True), AfterValidator(_authorities)] = ""
    """Certificates (PEM) of who signs the targets' certificates; empty for those that the node's system knows."""
    certificate_secret: SecretName = ""
    """The secret that holds the certificate and the key (PEM) that the gateway shows over TLS; empty for none."""
    turned_away: TurnedAway = "answer the caller"
    """What becomes of a call that a target does not take: answered 429, or 503 with Retry-After."""
    models: tuple[ModelLine, ...] = Field(default=(), max_length=MOST_MODELS)
    """The models of a language model's backend; empty where any name goes on as it is."""
    kept_for: tuple[PlanKey, ...] = Field(default=(), max_length=50)
    """The plans that the last of a target's capacity is kept for."""
    kept_from: int = Field(default=80, ge=1, le=100)
    """From which share of a minute's capacity on, in percent."""
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
    def _serves_models(self) -> "Backend":
        addresses = {target.address for target in self.targets}
        for line in self.models:
            if line.address and line.address not in addresses:
                raise ValueError(f"models: {line} names a target that is not there; there are {', '.join(addresses)}")
        places = [(line.name, line.address) for line in self.models]
        twice = next((line for line in self.models if places.count((line.name, line.address)) > 1), None)
        if twice is not None:
            raise ValueError(f"models: {twice.name!r} is there twice for the same targets; keep one")
        if self.kept_for and not any(target.capacity for target in self.targets):
            raise ValueError(
                "kept_for: no target says its capacity, so nothing can be kept of it; give one `capacity N`"
            )
        return self

    @model_validator(mode="after")
    def _signs_in(self) -> "Backend":
        own = next((target for target in self.targets if target.secret), None)
        if self.sign_in == "none":
            if own is not None:
                raise ValueError(
                    f"signing in: {own.address} has the secret {own.secret!r}, and nothing says how the gateway signs"
                    " in with it; choose header, basic or bearer"
                )
            return self
        if not self.sign_in_secret and not all(target.secret for target in self.targets):
            raise ValueError(
                f"signing in by {self.sign_in} needs a secret of the secret store; name it, or one for each target"
            )
        if self.sign_in == "header" and not header_name(self.sign_in_name):
            raise ValueError("signing in by a header needs the header field's name")
        if self.sign_in == "basic" and (not self.sign_in_name or ":" in self.sign_in_name):
            raise ValueError("signing in by basic needs a user name, without a colon (RFC 7617)")
        return self

    @model_validator(mode="after")
    def _over_tls(self) -> "Backend":
        if self.authorities and not self.verify_tls:
            raise ValueError(
                "authorities: they say whose certificates are taken, and certificates are not verified; turn that on,"
                " or leave them out"
            )
        if self.certificate_secret and not any(target.address.startswith("https:") for target in self.targets):
            raise ValueError(
                "certificate_secret: a certificate is shown over TLS alone, and no target is reached by https"
            )
        return self

    def secret_at(self, target: Target) -> str:
        """The name of the secret that the gateway signs in to a target with; empty for none."""
        return (target.secret or self.sign_in_secret) if self.sign_in != "none" else ""

    def certificate_at(self, target: Target) -> str:
        """The name of the secret whose certificate is shown to a target; empty for none."""
        return self.certificate_secret if target.address.startswith("https:") else ""

    def targets_in(self, environment: str) -> tuple[Target, ...]:
        """The targets that serve an environment."""
        return tuple(t for t in self.targets if not t.environments or environment in t.environments)
