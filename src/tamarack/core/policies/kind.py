"""What a policy kind is: a configuration model, the stage it stands in, its words, and its compiler."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple

from pydantic import Field, SerializerFunctionWrapHandler, model_serializer

from tamarack.core.carrying.parts import Part
from tamarack.core.checking.schemas import Described
from tamarack.core.form_hints import FirstChoice
from tamarack.core.identity.directory import Directory
from tamarack.core.identity.material import Material
from tamarack.core.limits.store import CounterStore
from tamarack.core.stages import Stage
from tamarack.core.types import Frozen, Name

CREDENTIAL_REASONS = ("unknown-credential", "expired-credential", "revoked-credential", "credential-address",
                      "credential-site", "doubled-credential")  # fmt: skip
"""Why a way to identify refuses a credential that is kept here."""
TOKEN_REASONS = ("bad-token", "early-token", "wrong-issuer", "wrong-audience")
"""Why a token is refused besides."""


NAME_HELP = "A policy placed further in replaces one of the same name that is placed further out."


class Policy(Frozen):
    """What every policy has: its kind, and a name that is its own within one placement.

    A policy placed further in replaces one of the same name placed further out.
    """

    kind: str
    name: Name
    off: bool = Field(
        default=False, title="Switched off", description="It stays where it is placed, and does not hold."
    )

    @model_serializer(mode="wrap")
    def _with_kind(self, write: SerializerFunctionWrapHandler) -> dict[str, Any]:
        """Its kind is always written, also where fields that have their default are left out."""
        fields: dict[str, Any] = write(self)
        return {"kind": self.kind} | fields

    @property
    def called(self) -> str:
        """What the policy is called where its kind is plain to see: its own name, where it has one."""
        return "" if self.name == self.kind else self.name.replace("-", " ").capitalize()


def few(names: list[str]) -> str:
    """Names for a slip: all where they are short, else the first and how many more."""
    whole = ", ".join(names)
    return whole if len(whole) <= 30 or len(names) == 1 else f"{names[0]} and {len(names) - 1} more"


class Shown(NamedTuple):
    """Where a credential is shown in a call, and under which names: one, or those of an id and its secret."""

    place: Literal["header", "query", "basic", "bearer", "certificate"]
    names: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What a kind's compiler may use: where the policy stands, and the node's directory."""

    directory: Directory
    material: Material
    environment: str
    placement: str
    realm: str
    """The API's title as a quoted string, for challenges."""
    counters: CounterStore | None = None
    described: Described | None = None
    """What the operation's description says, for kinds that read it; None where it says nothing."""
    resource: str = ""
    """What the version is called as a resource (RFC 8707), for kinds that name it; empty where that is not known."""


@dataclass(frozen=True)
class PolicyKind:
    """One row of the table of policy kinds."""

    kind: str
    title: str
    stage: Stage
    purpose: str
    model: type[Policy]
    compile: Callable[[Any, Surroundings], Sequence[Part]]
    """What a policy becomes on a call's way."""
    brief: Callable[[Any], str]
    """The policy in at most some thirty characters, for its slip in the drawing."""
    sentence: Callable[[Any], str]
    """The policy as one plain sentence."""
    reasons: tuple[str, ...] = ()
    """The codes of the reasons that a policy of the kind can refuse a call for."""
    credential: str = ""
    """The kind of credential that callers show to it, as `core.identity.credentials` names it."""
    reads_token: bool = field(default=False)
    """True where it decides by what a caller's token says."""
    opens: bool = field(default=False)
    """True where it lets anyone in, without a credential."""
    reads_prompts: bool = field(default=False)
    """True where it reads calls as calls to a language model."""
    limits_rate: bool = field(default=False)
    """True where it bounds how fast callers may call."""
    shown: Callable[[Any], Shown | None] = lambda policy: None
    """How a caller shows the credential, for examples."""
    source: Callable[[Any], str] = lambda policy: ""
    """Where callers get the credential, where it is not made here."""
    key_set: Callable[[Any], str] = lambda policy: ""
    """The address of the key set that a policy verifies with; empty for none."""
    authorities: Callable[[Any], str] = lambda policy: ""
    """Who signs the certificates (PEM) that callers show to it; empty for none."""
    issuer: Callable[[Any, str], str] = lambda policy, sign_in: ""
    """Who makes the tokens that a policy takes, given the sign-in service's address; empty for none."""
    scopes: Callable[[Any], Sequence[str]] = lambda policy: ()
    """The scopes that it asks for."""
    opaque: Callable[[Any], bool] = lambda policy: False
    """Whether it takes opaque tokens of the sign-in service alone."""
    names_resource: bool = field(default=False)
    """True where it goes by what the version is called as a resource."""
    least_secret: Callable[[Any], int] = lambda policy: 0
    """How many bytes the secret that a policy names has at least."""
    sentence_outside: Callable[[Any], str] | None = None
    """The sentence for developers, where the policy's own may name what is another organization's business."""
    alone: bool = field(default=False)
    """True where only one of the kind can hold: any further in replaces it, whatever its name."""
    asks_first: FirstChoice | None = None
    """A question of its form that is no field."""
    on_fields: bool = field(default=False)
    """True where it may stand on a field of a graph: it holds for calls whose documents ask for that."""
    risks: Callable[[Any], Sequence[str]] = lambda policy: ()
    """What someone should have meant, in words that go on from its name, for the review."""
    keeps: bool = field(default=False)
    """True where it keeps answers."""
    mocks: bool = field(default=False)
    """True where it answers from the description."""
    stands_alone: Callable[[Any], bool] = lambda policy: False
    """Whether it answers every call that comes to it, so that no backend is asked."""
    misfit: Callable[[Any, str], str] = lambda policy, path: ""
    """Why a policy cannot hold for an operation of some path, in words; empty where it can."""
    describes: bool = field(default=False)
    """True where it goes by the operation's description: it is compiled for each operation."""
    levels: tuple[str, ...] = ("everywhere", "api", "operation")
    """Where it may be placed."""
    only_inside: bool = field(default=False)
    """True where the kind makes no sense everywhere, only on an API or an operation."""
