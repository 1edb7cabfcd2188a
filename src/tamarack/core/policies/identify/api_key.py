"""API key: the caller shows a key in a header field or a query parameter of a chosen name."""

from typing import Literal

from pydantic import Field, field_validator, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Part, Way
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.form_hints import hints
from tamarack.core.http.names import header_name, parameter_name
from tamarack.core.http.query import name_of, without_query
from tamarack.core.identity.caller import Caller
from tamarack.core.policies.identify.own_credential import OwnCredential
from tamarack.core.policies.identify.places import of_scheme, take_header, take_one, take_scheme
from tamarack.core.policies.identify.shown_key import MOST_BYTES, by_shown_key
from tamarack.core.policies.kind import CREDENTIAL_REASONS, NAME_HELP, PolicyKind, Shown, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.types import Name

AUTHORIZATION = b"authorization"
_DOUBLED = REASONS["doubled-credential"]
_UNKNOWN = REASONS["unknown-credential"]


class ApiKey(OwnCredential):
    """Identify the caller by a key."""

    kind: Literal["api-key"] = "api-key"
    name: Name = Field(default="api-key", title="Name", description=NAME_HELP)
    header: str = Field(
        default="x-api-key",
        title="Header",
        description="Header field that carries the key; empty for none.",
        json_schema_extra=hints(suggests="key-headers"),
    )
    query: str = Field(
        default="",
        title="Query parameter",
        description="Query parameter that carries the key; empty for none.",
    )

    bearer: bool = Field(
        default=False,
        title="As a bearer token too",
        description="In `Authorization: Bearer`, for clients that can show a key in no other way.",
    )

    @field_validator("header")
    @classmethod
    def _header_name(cls, value: str) -> str:
        return header_name(value)

    @field_validator("query")
    @classmethod
    def _query_name(cls, value: str) -> str:
        return parameter_name(value)

    @model_validator(mode="after")
    def _somewhere(self) -> "ApiKey":
        if not self.header and not self.query and not self.bearer:
            raise ValueError("the key must come from somewhere: name a header, a query parameter, or take it as bearer")
        return self


def _compile(policy: ApiKey, surroundings: Surroundings) -> list[Part]:
    header = policy.header.encode()
    query_name = policy.query.encode()
    find = surroundings.directory.finder("api-key")
    places = [f'header="{policy.header}"'] if policy.header else []
    places += [f'query="{policy.query}"'] if policy.query else []
    challenge = f"ApiKey realm={surroundings.realm}, {', '.join(places)}".encode("latin-1", "replace")
    doubled = Refusal(_DOUBLED, policy=policy.name)
    unknown = Refusal(_UNKNOWN, ((b"www-authenticate", challenge),), policy.name)

    def take_off(call: Call) -> None:
        if header:
            take_header(call, header)
        if query_name and call.query:
            call.query = without_query(call.query, query_name)

    def reads(call: Call) -> list[tuple[str, str]]:
        shown = [(policy.header, value.decode("latin-1")) for name, value in call.headers if header and name == header]
        inside = [part for part in call.query.split(b"&") if query_name and name_of(part) == query_name]
        return shown + [(f"?{policy.query}", part.partition(b"=")[2].decode("latin-1")) for part in inside]

    names = tuple(name for name in (policy.header, policy.query) if name)
    ways = [
        Way(
            stage=Stage.IDENTIFY,
            identify=by_shown_key(header, query_name, find, doubled, unknown),
            challenge=challenge,
            take_off=take_off,
            reads=reads,
            secret=names,
            strips=True,
            asks=f"a key {' or '.join(_in_words(policy))}",
        )
    ]
    return [*(ways if names else ()), *([_bearer(policy, surroundings)] if policy.bearer else ())]


def _bearer(policy: ApiKey, surroundings: Surroundings) -> Way:
    """The key where tokens are shown. One that is unknown may be another way's token: that one decides."""
    find = surroundings.directory.finder("api-key")
    challenge = f"Bearer realm={surroundings.realm}".encode("latin-1", "replace")
    doubled = Refusal(_DOUBLED, policy=policy.name)
    unknown = Refusal(_UNKNOWN, ((b"www-authenticate", challenge),), policy.name, yields=True)

    def identify(call: Call) -> Caller | Refusal | None:
        shown, many = take_one(call, AUTHORIZATION, b"bearer ", True)
        if not many:
            return None
        if many > 1:
            return doubled
        caller = find(shown) if 0 < len(shown) <= MOST_BYTES else None
        return caller if caller is not None else unknown

    return Way(
        stage=Stage.IDENTIFY,
        identify=identify,
        challenge=challenge,
        take_off=lambda call: take_scheme(call, AUTHORIZATION, b"bearer"),
        reads=lambda call: [("bearer", one.decode("latin-1")) for one in of_scheme(call, AUTHORIZATION, b"bearer")],
        secret=("authorization",),
        place="bearer",
        asks="a key as Authorization: Bearer",
    )


def _brief(policy: ApiKey) -> str:
    places = [policy.header] if policy.header else []
    places += [f"?{policy.query}="] if policy.query else []
    places += ["as bearer"] if policy.bearer else []
    return " or ".join(places)


def _in_words(policy: ApiKey, mark: str = "") -> list[str]:
    places = [f"in the header {mark}{policy.header}{mark}"] if policy.header else []
    return places + ([f"in the query as {mark}?{policy.query}={mark}"] if policy.query else [])


def _every_place(policy: ApiKey) -> list[str]:
    return _in_words(policy, "`") + (["as `Authorization: Bearer`"] if policy.bearer else [])


def _sentence(policy: ApiKey) -> str:
    return f"The caller shows a key {' or '.join(_every_place(policy))}."


def _shown(policy: ApiKey) -> Shown:
    if not policy.header and not policy.query:
        return Shown("bearer")
    return Shown("header", (policy.header,)) if policy.header else Shown("query", (policy.query,))


KIND = PolicyKind(
    kind="api-key",
    title="API key",
    stage=Stage.IDENTIFY,
    purpose="Know the caller by a key in a header or in the query",
    model=ApiKey,
    compile=_compile,
    reasons=CREDENTIAL_REASONS,
    credential="api-key",
    shown=_shown,
    brief=_brief,
    sentence=_sentence,
)
