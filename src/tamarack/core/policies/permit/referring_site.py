"""Referring site: let in the calls of pages of some sites, by Origin or Referer (RFC 9110, section 10.1.3).

Any program can write these fields, so this keeps honest browsers to the sites that are meant; it proves nothing.
"""

from typing import Literal

from pydantic import Field, field_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Check, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.http.origins import Origins, SitePattern, site_called_from
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings, few
from tamarack.core.stages import Stage
from tamarack.core.types import Name


class ReferringSite(Policy):
    """Permit by the site that a call's page came from."""

    kind: Literal["referring-site"] = "referring-site"
    name: Name = Field(default="referring-site", title="Name", description=NAME_HELP)
    sites: tuple[SitePattern, ...] = Field(
        title="Sites", description="Like https://www.example.org or https://*.example.org, one in a line."
    )
    without: Literal["refuse", "admit"] = Field(
        default="refuse", title="Calls that name no site", description="Programs other than browsers name none."
    )

    @field_validator("sites")
    @classmethod
    def _some(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        if not value:
            raise ValueError("name at least one site, like https://www.example.org")
        return value


def _compile(policy: ReferringSite, surroundings: Surroundings) -> list[Part]:
    sites = Origins(policy.sites)
    admit = policy.without == "admit"
    other = Refusal(REASONS["site-refused"], policy=policy.name, note=f"the site is none of {few(list(policy.sites))}")
    nameless = Refusal(REASONS["site-refused"], policy=policy.name, note="the call names no site")

    def step(call: Call) -> Refusal | None:
        site = site_called_from(call.headers)
        if not site:
            return None if admit else nameless
        return None if sites.match(site) else other

    return [
        Check(
            stage=Stage.PERMIT,
            run=step,
            reads=lambda call: [("site", site_called_from(call.headers) or "none named")],
        )
    ]


KIND = PolicyKind(
    kind="referring-site",
    title="Referring site",
    stage=Stage.PERMIT,
    purpose="Let in the calls of pages of some sites",
    model=ReferringSite,
    compile=_compile,
    reasons=("site-refused",),
    brief=lambda policy: few([one.partition("://")[2] for one in policy.sites]),
    sentence=lambda policy: (
        f"Calls come from pages of `{'`, `'.join(policy.sites)}`"
        f"{'; calls that name no site are let in' if policy.without == 'admit' else ''}."
    ),
    sentence_outside=lambda policy: "Calls come from pages of sites that the platform team lists.",
    on_fields=True,
)
