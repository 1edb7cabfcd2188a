"""Client id and secret: by Basic authentication, in chosen header fields, in the query, or in a form post."""

import binascii
from typing import Literal

from pydantic import Field, field_validator, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Part, Way
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.form_hints import hints
from tamarack.core.http.names import header_name, parameter_name
from tamarack.core.http.query import in_pairs, without_query
from tamarack.core.identity.caller import Caller
from tamarack.core.identity.credentials import client_value
from tamarack.core.policies.identify.own_credential import OwnCredential
from tamarack.core.policies.identify.places import FORM, form_of, in_header, of_scheme, take_header, take_scheme
from tamarack.core.policies.kind import CREDENTIAL_REASONS, NAME_HELP, PolicyKind, Shown, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.types import Name

MOST_BYTES = 1_024
"""An id and a secret that are longer together are not looked up."""
MOST_FORM_BYTES = 65_536
"""The longest form post that is looked into."""


class ClientSecret(OwnCredential):
    """Identify the caller by an id and a secret."""

    kind: Literal["client-secret"] = "client-secret"
    name: Name = Field(default="client-secret", title="Name", description=NAME_HELP)
    basic: bool = Field(default=True, title="Basic", description="Take Authorization: Basic (RFC 7617).")
    id_header: str = Field(
        default="", title="Header of the id", description="Empty for none.", json_schema_extra=hints(rare=True)
    )
    secret_header: str = Field(
        default="", title="Header of the secret", description="Empty for none.", json_schema_extra=hints(rare=True)
    )
    id_query: str = Field(
        default="", title="Query parameter of the id", description="Empty for none.", json_schema_extra=hints(rare=True)
    )
    secret_query: str = Field(
        default="",
        title="Query parameter of the secret",
        description="Empty for none.",
        json_schema_extra=hints(rare=True),
    )
    id_form: str = Field(
        default="",
        title="Form field of the id",
        description="For form posts of at most 64 kB; empty for none.",
        json_schema_extra=hints(rare=True),
    )
    secret_form: str = Field(
        default="", title="Form field of the secret", description="Empty for none.", json_schema_extra=hints(rare=True)
    )

    @field_validator("id_header", "secret_header")
    @classmethod
    def _headers(cls, value: str) -> str:
        return header_name(value)

    @field_validator("id_query", "secret_query", "id_form", "secret_form")
    @classmethod
    def _names(cls, value: str) -> str:
        return parameter_name(value)

    @model_validator(mode="after")
    def _pairs(self) -> "ClientSecret":
        for place in ("header", "query", "form"):
            id, secret = getattr(self, f"id_{place}"), getattr(self, f"secret_{place}")
            if bool(id) != bool(secret):
                raise ValueError(f"id and secret come in pairs: name both {place} places or neither")
            if id and id == secret:
                raise ValueError(f"id and secret cannot both be in {place} {id!r}; give each a name of its own")
        if not (self.basic or self.id_header or self.id_query or self.id_form):
            raise ValueError("id and secret must come from somewhere: Basic, header, query or form")
        return self


def _of_basic(value: bytes) -> tuple[bytes, bytes] | None:
    try:
        id, colon, secret = binascii.a2b_base64(value, strict_mode=True).partition(b":")
    except (binascii.Error, ValueError):
        return None
    return (id, secret) if colon else None


def _compile(policy: ClientSecret, surroundings: Surroundings) -> list[Part]:
    find = surroundings.directory.finder("client-secret")
    basic = policy.basic
    headers = (policy.id_header.encode(), policy.secret_header.encode())
    query = (policy.id_query.encode(), policy.secret_query.encode())
    form = (policy.id_form.encode(), policy.secret_form.encode())
    challenge = b""
    if basic:
        challenge = f'Basic realm={surroundings.realm}, charset="UTF-8"'.encode("latin-1", "replace")
    fields = ((b"www-authenticate", challenge),) if challenge else ()
    unknown = Refusal(REASONS["unknown-credential"], fields, policy.name)
    unreadable = Refusal(REASONS["unknown-credential"], fields, policy.name, "Basic could not be decoded (RFC 7617)")
    half = Refusal(REASONS["unknown-credential"], fields, policy.name, "an id without its secret, or the other way")
    doubled = Refusal(REASONS["doubled-credential"], policy=policy.name)

    own_headers = tuple(name for name in headers if name)

    def take_off(call: Call) -> None:
        if basic:
            take_scheme(call, b"authorization", b"basic")
        for name in own_headers:
            take_header(call, name)
        if query[0] and call.query:
            call.query = without_query(without_query(call.query, query[0]), query[1])
        posted = form_of(call) if form[0] else b""
        if posted:
            call.body = without_query(without_query(posted, form[0]), form[1])

    def identify(call: Call) -> Caller | Refusal | None:
        shown: list[tuple[list[bytes], list[bytes]]] = []
        if basic:
            for value in of_scheme(call, b"authorization", b"basic"):
                pair = _of_basic(value)
                if pair is None:
                    take_off(call)
                    return unreadable
                shown.append(([pair[0]], [pair[1]]))
        if headers[0]:
            shown.append((in_header(call, headers[0]), in_header(call, headers[1])))
        if query[0] and call.query:
            shown.append((in_pairs(call.query, query[0]), in_pairs(call.query, query[1])))
        posted = form_of(call) if form[0] else b""
        if posted:
            shown.append((in_pairs(posted, form[0]), in_pairs(posted, form[1])))
        shown = [pair for pair in shown if pair[0] or pair[1]]
        if not shown:
            return None
        take_off(call)
        if len(shown) > 1 or len(shown[0][0]) > 1 or len(shown[0][1]) > 1:
            return doubled
        ids, secrets = shown[0]
        if not ids or not secrets or not ids[0] or not secrets[0]:
            return half
        value = client_value(ids[0], secrets[0])
        return (find(value) if len(value) <= MOST_BYTES else None) or unknown

    def reads(call: Call) -> list[tuple[str, str]]:
        found = []
        if basic:
            for value in of_scheme(call, b"authorization", b"basic"):
                pair = _of_basic(value)
                found.append(
                    ("authorization", f"Basic, id {pair[0].decode('latin-1')}" if pair else "Basic, unreadable")
                )
        found += [(headers[0].decode(), value.decode("latin-1")) for value in in_header(call, headers[0]) if headers[0]]
        return found

    names = tuple(name.decode() for name in (*headers, *query, *form) if name)
    return [
        Way(
            stage=Stage.IDENTIFY,
            identify=identify,
            challenge=challenge,
            take_off=take_off,
            reads=reads,
            request_body=MOST_FORM_BYTES if form[0] else 0,
            media=FORM,
            secret=names,
            strips=True,
            asks=f"an id and its secret {' or '.join(_in_words(policy))}",
        )
    ]


def _places(policy: ClientSecret) -> list[str]:
    places = ["Basic"] if policy.basic else []
    places += [policy.id_header] if policy.id_header else []
    places += [f"?{policy.id_query}="] if policy.id_query else []
    return places + ([f"form {policy.id_form}"] if policy.id_form else [])


def _in_words(policy: ClientSecret, mark: str = "") -> list[str]:
    words = [f"by {mark}Authorization: Basic{mark}"] if policy.basic else []
    for place, name in (("header", "the headers"), ("query", "the query as"), ("form", "a form post as")):
        id, secret = getattr(policy, f"id_{place}"), getattr(policy, f"secret_{place}")
        if id:
            words.append(f"in {name} {mark}{id}{mark} and {mark}{secret}{mark}")
    return words


def _sentence(policy: ClientSecret) -> str:
    return f"The caller shows its id and secret {' or '.join(_in_words(policy, '`'))}."


def _shown(policy: ClientSecret) -> Shown | None:
    if policy.basic:
        return Shown("basic")
    if policy.id_header:
        return Shown("header", (policy.id_header, policy.secret_header))
    return Shown("query", (policy.id_query, policy.secret_query)) if policy.id_query else None


KIND = PolicyKind(
    kind="client-secret",
    title="Client id and secret",
    stage=Stage.IDENTIFY,
    purpose="Know the caller by an id and a secret: Basic, headers, query or form",
    model=ClientSecret,
    compile=_compile,
    reasons=CREDENTIAL_REASONS,
    credential="client-secret",
    shown=_shown,
    brief=lambda policy: " or ".join(_places(policy)),
    sentence=_sentence,
)
