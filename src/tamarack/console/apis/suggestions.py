"""Names that exist, offered where a policy's form asks for one."""

from collections.abc import Iterable
from typing import Any

from tamarack.console.page import draft, environment
from tamarack.core.configuration.effective import held, in_force
from tamarack.core.configuration.model import Api, Configuration, Operation, Version
from tamarack.core.policies import kind_of
from tamarack.core.policies.body_change import BodyChange
from tamarack.core.policies.guard.browser_access import BrowserAccess
from tamarack.core.policies.identify.api_key import ApiKey
from tamarack.core.policies.identify.token import JwtPolicy
from tamarack.core.policies.kind import Policy
from tamarack.core.policies.permit.groups import Groups
from tamarack.core.policies.permit.required_claims import RequiredClaims
from tamarack.store.applications import queries as subscribers
from tamarack.store.traffic import traces as tracing
from tamarack.web.application import db

_USUAL_CLAIMS = ("azp", "client_id", "sub", "scope", "groups", "email")
_USUAL_HEADERS = ("content-type", "if-match", "if-none-match")


def suggestions(api: Api, version: Version, operation: Operation | None) -> dict[str, list[str]]:
    """What may be offered, by what a field asks for (`core.form_hints.Suggests`)."""
    policies = list(_policies(draft()))
    claims = _claims(policies)
    return {
        "groups": sorted(subscribers.groups_carried(db())),
        "headers": _distinct([*_credential_headers(api, version, operation), *_USUAL_HEADERS]),
        "key-headers": _distinct([*(one.header for one in policies if isinstance(one, ApiKey)), "x-api-key"]),
        "claims": [f"{name} is present" for name in claims],
        "claim-names": claims,
        "audiences": _distinct(one for policy in policies if isinstance(policy, JwtPolicy) for one in policy.audience),
        "applications": [f"{org.name}/{app.name}" for app, org in subscribers.all_applications(db())],
    }


def warnings(policy: Policy, api: Api, version: Version, operation: Operation | None) -> list[str]:
    """What is allowed and likely not meant, of a policy that is being filled in."""
    if isinstance(policy, Groups):
        carried = subscribers.groups_carried(db())
        unknown = [name for name in (*policy.allow, *policy.deny) if name not in carried]
        return [f"No application and no organization carries the group {name!r} yet." for name in unknown]
    if isinstance(policy, BrowserAccess):
        missing = [name for name in _credential_headers(api, version, operation) if name not in policy.headers]
        return [f"Callers show their credential in {name!r}, which pages may not send yet." for name in missing]
    if isinstance(policy, BodyChange):
        return policy.inexact
    if kind_of(policy).describes and not version.document:
        return [f"{api.title} {version.version} has no description to go by, so it would check nothing."]
    return []


def _credential_headers(api: Api, version: Version, operation: Operation | None) -> list[str]:
    """The headers in which callers of an operation show who they are."""
    found: list[str] = []
    for row in in_force(held(draft(), api, version, operation)):
        shown = kind_of(row.policy).shown(row.policy)
        if shown is not None and shown.place == "header":
            found += shown.names
        elif shown is not None and shown.place in ("basic", "bearer"):
            found.append("authorization")
    return _distinct(found)


def _claims(policies: list[Policy]) -> list[str]:
    """Names of claims: those that recent tokens were read for, those that policies name, and the usual ones."""
    seen = [
        name
        for trace in tracing.latest(db(), environment(), most=20)
        for entry in trace.body.get("entries", [])
        if entry.get("stage") in ("identify", "permit") and entry.get("policy") in _readers(policies)
        for name, value in entry.get("reads", [])
        if value and name not in ("token", "scopes", "groups")
    ]
    named = [one.claim for policy in policies if isinstance(policy, RequiredClaims) for one in policy.require]
    return _distinct([*seen, *named, *_USUAL_CLAIMS])


def _readers(policies: Iterable[Policy]) -> set[str]:
    return {policy.name for policy in policies if kind_of(policy).reads_token or isinstance(policy, RequiredClaims)}


def _policies(configuration: Configuration) -> Iterable[Any]:
    yield from configuration.everywhere
    for api in configuration.apis:
        for version in api.versions:
            yield from version.policies
            for operation in version.operations:
                yield from operation.policies


def _distinct(names: Iterable[str]) -> list[str]:
    return list(dict.fromkeys(name for name in names if name))
