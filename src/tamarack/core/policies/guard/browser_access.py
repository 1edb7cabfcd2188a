"""Browser access: which pages of other origins may call, and read the answers (CORS, Fetch standard)."""

from typing import Literal

from pydantic import Field, field_validator, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Check, Part
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.form_hints import hints
from tamarack.core.http.browser import BrowserRule
from tamarack.core.http.names import header_name
from tamarack.core.http.origins import ANY, OriginPattern
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings, few
from tamarack.core.stages import Stage
from tamarack.core.types import Name

Method = Literal["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"]


class BrowserAccess(Policy):
    """Let pages of other origins call."""

    kind: Literal["browser-access"] = "browser-access"
    name: Name = Field(default="browser-access", title="Name", description=NAME_HELP)
    origins: tuple[OriginPattern, ...] = Field(
        title="Origins", description="https://www.example.org, https://*.example.org, or * for any; one in a line."
    )
    methods: tuple[Method, ...] = Field(
        default=("GET", "HEAD", "POST"), title="Methods", description="What a page may do."
    )
    headers: tuple[str, ...] = Field(
        default=("content-type",),
        title="Request headers",
        description="What a page may send besides the plain ones, like the header of the key; one in a line.",
        json_schema_extra=hints(suggests="headers"),
    )
    exposed: tuple[str, ...] = Field(
        default=("tamarack-call-id", "ratelimit", "ratelimit-policy", "retry-after"),
        title="Readable answer headers",
        description="What a page may read besides the plain ones.",
        json_schema_extra=hints(rare=True),
    )
    credentials: bool = Field(
        default=False, title="Cookies and sign-in", description="Let pages send the browser's own credentials."
    )
    max_age_s: int = Field(
        default=600,
        ge=0,
        le=86_400,
        title="Preflight kept (s)",
        description="Seconds a browser remembers the answer to its preflight.",
        json_schema_extra=hints(rare=True),
    )

    @field_validator("origins", "methods")
    @classmethod
    def _some(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        if not value:
            raise ValueError("name at least one")
        return tuple(dict.fromkeys(value))

    @field_validator("headers", "exposed")
    @classmethod
    def _headers(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        if ANY in value:
            raise ValueError("'*' does not cover every header in every browser; name each header")
        return tuple(dict.fromkeys(name for one in value if (name := header_name(one))))

    @model_validator(mode="after")
    def _exact(self) -> "BrowserAccess":
        if ANY in self.origins and self.credentials:
            raise ValueError(
                "any origin together with credentials would let every site act as its visitors; name the origins"
            )
        return self

    @property
    def rule(self) -> BrowserRule:
        return BrowserRule(self.origins, self.methods, self.headers, self.exposed, self.credentials, self.max_age_s)


def origin_of(call: Call) -> bytes:
    """The Origin field; empty where there is none, or more than one."""
    found = [value for name, value in call.headers if name == b"origin"]
    return found[0] if len(found) == 1 else b""


def _compile(policy: BrowserAccess, surroundings: Surroundings) -> list[Part]:
    rule = policy.rule
    fields = rule.answer_fields

    def step(call: Call) -> Refusal | None:
        call.fields = fields(origin_of(call), call.method)
        return None

    def reads(call: Call) -> list[tuple[str, str]]:
        return [("origin", origin_of(call).decode("latin-1") or "none")]

    return [Check(stage=Stage.GUARD, run=step, browser=rule, reads=reads, first=True)]


def _brief(policy: BrowserAccess) -> str:
    names = [one.partition("://")[2] or one for one in policy.origins]
    return "any origin" if ANY in policy.origins else few(names)


def _sentence(policy: BrowserAccess) -> str:
    who = "any origin" if ANY in policy.origins else f"`{'`, `'.join(policy.origins)}`"
    sending = f", sending `{'`, `'.join(policy.headers)}`" if policy.headers else ""
    cookies = ", with the browser's cookies" if policy.credentials else ""
    return f"Pages of {who} may call with {', '.join(policy.methods)}{sending}{cookies}."


KIND = PolicyKind(
    kind="browser-access",
    title="Browser access",
    stage=Stage.GUARD,
    purpose="Let pages of other origins call (CORS); closed without it",
    model=BrowserAccess,
    compile=_compile,
    reasons=("browser-closed",),
    brief=_brief,
    sentence=_sentence,
    sentence_outside=lambda policy: (
        _sentence(policy)
        if ANY in policy.origins
        else f"Pages of the sites that the platform team lists may call with {', '.join(policy.methods)}."
    ),
    alone=True,
)
