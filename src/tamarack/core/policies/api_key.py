"""API key: the caller shows a key in a header field or a query parameter of a chosen name."""

import re
from typing import Literal
from urllib.parse import unquote_to_bytes

from pydantic import Field, field_validator, model_validator

from tamarack.core.call import Call, Caller
from tamarack.core.model import Name
from tamarack.core.policies.kind import Compiled, Policy, PolicyKind, Surroundings
from tamarack.core.refusals import REASONS, Refusal
from tamarack.core.stages import Stage

_TOKEN = re.compile(r"^[!#$%&'*+.^_`|~0-9A-Za-z-]+$")
_QUERY_NAME = re.compile(r"^[A-Za-z0-9._~-]+$")
_RESERVED = {
    "host",
    "content-length",
    "transfer-encoding",
    "connection",
    "te",
    "trailer",
    "upgrade",
    "expect",
}
MOST_BYTES = 512
"""A key longer than this is not looked up."""

_DOUBLED = REASONS["doubled-credential"]
_UNKNOWN = REASONS["unknown-credential"]


class ApiKey(Policy):
    """Identify the caller by a key."""

    kind: Literal["api-key"] = "api-key"
    name: Name = Field(default="api-key", title="Name", description="Replaces one so named further out.")
    header: str = Field(
        default="x-api-key", title="Header", description="Header field that carries the key; empty for none."
    )
    query: str = Field(
        default="",
        title="Query parameter",
        description="Query parameter that carries the key; empty for none.",
    )
    pass_on: bool = Field(
        default=False,
        title="Pass the key on to the backend",
        description="Off: the key is removed before the call goes on.",
    )

    @field_validator("header")
    @classmethod
    def _header_name(cls, value: str) -> str:
        value = value.strip().lower()
        if value and not _TOKEN.match(value):
            raise ValueError(f"{value!r} is not a header field name; use letters, digits and hyphens")
        if value in _RESERVED:
            raise ValueError(f"{value!r} has a meaning of its own in HTTP; choose another name")
        return value

    @field_validator("query")
    @classmethod
    def _query_name(cls, value: str) -> str:
        value = value.strip()
        if value and not _QUERY_NAME.match(value):
            raise ValueError(f"{value!r} is not a query parameter name; use letters, digits and - . _ ~")
        return value

    @model_validator(mode="after")
    def _somewhere(self) -> "ApiKey":
        if not self.header and not self.query:
            raise ValueError("the key must come from somewhere: name a header, a query parameter, or both")
        return self


def without_query(query: bytes, name: bytes) -> bytes:
    """The query string without a parameter, the rest byte for byte as it was."""
    return b"&".join(part for part in query.split(b"&") if _name_of(part) != name)


def _name_of(part: bytes) -> bytes:
    name = part.partition(b"=")[0].replace(b"+", b" ")
    return unquote_to_bytes(name) if b"%" in name else name


def _compile(policy: ApiKey, surroundings: Surroundings) -> Compiled:
    header = policy.header.encode()
    query_name = policy.query.encode()
    strip = not policy.pass_on
    find = surroundings.directory.find
    doubled = Refusal(_DOUBLED, policy=policy.name)

    def identify(call: Call) -> Caller | Refusal | None:
        shown = b""
        seen = 0
        if header:
            for name, value in call.headers:
                if name == header:
                    seen += 1
                    shown = value
            if seen and strip:
                call.headers = [field for field in call.headers if field[0] != header]
        if query_name and call.query:
            for part in call.query.split(b"&"):
                if _name_of(part) == query_name:
                    seen += 1
                    raw = part.partition(b"=")[2]
                    shown = unquote_to_bytes(raw.replace(b"+", b" "))
            if strip and seen:
                call.query = without_query(call.query, query_name)
        if seen > 1:
            return doubled
        if not shown:
            return None
        caller = find(shown) if len(shown) <= MOST_BYTES else None
        return caller if caller is not None else unknown

    places = [f'header="{policy.header}"'] if policy.header else []
    places += [f'query="{policy.query}"'] if policy.query else []
    challenge = f'ApiKey realm="{surroundings.realm}", {", ".join(places)}'.encode("latin-1", "replace")
    unknown = Refusal(_UNKNOWN, ((b"www-authenticate", challenge),), policy.name)
    return Compiled(identify=identify, challenge=challenge)


def _brief(policy: ApiKey) -> str:
    places = [policy.header] if policy.header else []
    places += [f"?{policy.query}="] if policy.query else []
    return " or ".join(places)


def _sentence(policy: ApiKey) -> str:
    places = [f"in the header `{policy.header}`"] if policy.header else []
    places += [f"in the query as `?{policy.query}=`"] if policy.query else []
    kept = "" if not policy.pass_on else "; the key is passed on to the backend"
    return f"The caller shows a key {' or '.join(places)}{kept}."


KIND = PolicyKind(
    kind="api-key",
    title="API key",
    stage=Stage.IDENTIFY,
    purpose="Know the caller by a key in a header or in the query",
    model=ApiKey,
    compile=_compile,
    brief=_brief,
    sentence=_sentence,
)
