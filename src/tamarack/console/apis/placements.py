"""Where policies are placed: everywhere, on a version, on an operation; read there and put there."""

from flask import abort, request

from tamarack.console.apis.versions import replace_version
from tamarack.console.page import acting, draft
from tamarack.core.configuration.model import FIELD_METHOD, Api, Operation, Version
from tamarack.core.policies import KINDS, AnyPolicy
from tamarack.core.policies.kind import PolicyKind
from tamarack.core.policies.written import row_of
from tamarack.core.written.kind import PREFIX
from tamarack.store.draft import queries as drafting
from tamarack.store.draft.queries import Everywhere
from tamarack.store.draft.tables import DraftChange
from tamarack.web.application import db
from tamarack.web.numbers import whole

LEVELS = ("everywhere", "api", "operation")


def level_asked() -> str:
    """The level that a request is about."""
    level = request.values.get("level", "")
    if level not in LEVELS:
        abort(400, f"{level!r} is not a placement; it is one of {', '.join(LEVELS)}.")
    return level


def policies_at(level: str, version: Version, call: str) -> tuple[AnyPolicy, ...]:
    """The policies placed at a level of a version (for an operation)."""
    if level == "everywhere":
        return draft().everywhere
    if level == "api":
        return version.policies
    operation = version.place(call)
    if operation is None:
        abort(404, f"There is no operation {call!r} in this version.")
    return operation.policies


def put_at(
    level: str, api: Api, version: Version, call: str, policies: tuple[AnyPolicy, ...], summary: str
) -> DraftChange | None:
    """Put policies at a placement, on the revision that the form was made from."""
    typed = request.form.get("revision", "")
    expected = whole(typed)
    if level == "everywhere":
        return drafting.save(db(), acting(), "everywhere", "", Everywhere(policies=policies), summary, expected)
    if level == "api":
        changed = version.model_copy(update={"policies": policies})
    elif call.startswith(f"{FIELD_METHOD} "):
        changed = version.model_copy(update={"fields": fields_with(version, call, policies)})
    else:
        operations = tuple(
            one.model_copy(update={"policies": policies}) if one.call == call else one for one in version.operations
        )
        changed = version.model_copy(update={"operations": operations})
    return drafting.save(db(), acting(), "api", api.name, replace_version(api, changed), summary, expected)


def fields_with(version: Version, call: str, policies: tuple[AnyPolicy, ...]) -> tuple[Operation, ...]:
    """The fields of a graph that have policies, with those of one put anew; without policies it is none of them."""
    there = [one for one in version.fields if one.call != call]
    return (*there, Operation(call=call, policies=policies)) if policies else tuple(there)


def where_words(level: str, api: Api, version: Version, call: str) -> str:
    """A placement in words."""
    if level == "everywhere":
        return "everywhere"
    return f"{api.title} {version.version}" + (f", {call}" if level == "operation" else "")


def kinds_for(api: str) -> list[PolicyKind]:
    """Every kind that may be placed on an API: those of the table, and the written ones of the draft."""
    return [*KINDS.values(), *(row_of(kind) for kind in draft().kinds if kind.api in ("", api))]


def kind_named(name: str) -> PolicyKind:
    """A kind, or 404."""
    written = draft().kind(name.removeprefix(PREFIX)) if name.startswith(PREFIX) else None
    kind = row_of(written) if written is not None else KINDS.get(name)
    if kind is None:
        abort(404, f"There is no policy kind {name!r}.")
    return kind


def policy_named(policies: tuple[AnyPolicy, ...], name: str) -> AnyPolicy:
    """A policy of a placement, or 404."""
    found = next((policy for policy in policies if policy.name == name), None)
    if found is None:
        abort(404, f"There is no policy {name!r} here any more.")
    return found
