"""Policies copied and moved, with what they would replace shown first; and every placement of a kind."""

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, abort, request

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.placements import kind_named, level_asked, policies_at, policy_named, where_words
from tamarack.console.apis.versions import replace_version, the_version
from tamarack.console.page import acting, back_to, done, draft, render, requires
from tamarack.core.configuration.model import FIELD_METHOD, Api, Version
from tamarack.core.policies import KINDS, AnyPolicy, kind_of
from tamarack.core.policies.written import WrittenPolicy
from tamarack.store.draft import queries as drafting
from tamarack.store.draft.queries import Everywhere
from tamarack.web.application import db

pages = Blueprint("placing", __name__)

API = "the whole API"
EVERYWHERE = "everywhere"
EACH = "every operation"


@dataclass(frozen=True, slots=True)
class Place:
    """A placement that a policy may be copied to: what it would replace there, and why it cannot stand there."""

    name: str
    """`everywhere`, `the whole API`, or an operation's call."""
    replaces: str
    wrong: str
    here: bool


def _places(found: Api, inside: Version, policy: AnyPolicy, level: str, call: str) -> list[Place]:
    here = {"everywhere": EVERYWHERE, "api": API}.get(level, call)
    rows = [(EVERYWHERE, draft().everywhere, ""), (API, inside.policies, "")]
    rows += [(one.call, one.policies, one.path) for one in inside.places]
    return [
        Place(name, _replaced(policy, policies), _wrong(policy, name, path, inside), name == here)
        for name, policies, path in rows
    ]


def _replaced(policy: AnyPolicy, policies: tuple[AnyPolicy, ...]) -> str:
    """The policy of a placement that one would take the place of, in words."""
    kind = kind_of(policy)
    there = next((one for one in policies if one.name == policy.name or (kind.alone and one.kind == policy.kind)), None)
    if there is None:
        return ""
    return "the same" if there == policy else f"{kind_of(there).title}: {kind_of(there).brief(there)}"


def _wrong(policy: AnyPolicy, name: str, path: str, inside: Version) -> str:
    kind = kind_of(policy)
    level = {EVERYWHERE: "everywhere", API: "api"}.get(name, "operation")
    if level not in kind.levels:
        return "its author lets it stand elsewhere"
    if name.startswith(f"{FIELD_METHOD} "):
        return "" if kind.on_fields else "this kind holds for whole calls"
    if isinstance(policy, WrittenPolicy) and policy.definition is not None and level == "everywhere":
        private = policy.definition.api
        return f"it is private to {private}" if private else ""
    if name == EVERYWHERE:
        return "this kind cannot stand everywhere" if kind.only_inside or kind.misfit(policy, "/") else ""
    if name == API:
        misfits = (kind.misfit(policy, one.path) for one in inside.operations)
        return next((words for words in misfits if words), "")
    return kind.misfit(policy, path)


@pages.get("/apis/<api>/<version>/policies/copying")
@requires("edit")
def copying(api: str, version: str) -> Any:
    """Where a policy may be copied or moved to, and what it would replace there."""
    return _page(api, version, "")


def _page(api: str, version: str, error: str) -> str:
    found, inside = the_version(api, version)
    level, call = level_asked(), request.values.get("operation", "")
    policy = policy_named(policies_at(level, inside, call), request.values.get("policy", ""))
    return render(
        "apis/placing/copying.html",
        tab="copying",
        policy=policy,
        kind=kind_of(policy),
        level=level,
        call=call,
        where=where_words(level, found, inside, call),
        places=_places(found, inside, policy, level, call),
        chosen=request.form.getlist("to"),
        each=EACH,
        error=error,
        **head_values(found, inside),
    )


@pages.post("/apis/<api>/<version>/policies/copying")
@requires("edit")
def place(api: str, version: str) -> Any:
    """Copy a policy to the placements that were chosen, or move it there."""
    found, inside = the_version(api, version)
    level, call = level_asked(), request.form.get("operation", "")
    policy = policy_named(policies_at(level, inside, call), request.form.get("policy", ""))
    moves = request.form.get("act") == "move"
    places = {one.name: one for one in _places(found, inside, policy, level, call)}
    asked = request.form.getlist("to")
    if EACH in asked:
        asked += [one.call for one in inside.operations if not places[one.call].wrong]
    to = [name for name in dict.fromkeys(asked) if name in places and not places[name].here]
    wrong = next((f"{name}: {places[name].wrong}" for name in to if places[name].wrong), "")
    if not to or wrong:
        return _page(api, version, wrong or "Choose where it goes."), 422
    here = {"everywhere": EVERYWHERE, "api": API}.get(level, call)
    everywhere = _put(draft().everywhere, policy, EVERYWHERE, to, here if moves else "")
    changed = inside.model_copy(
        update={
            "policies": _put(inside.policies, policy, API, to, here if moves else ""),
            **{
                name: tuple(
                    one.model_copy(update={"policies": _put(one.policies, policy, one.call, to, here if moves else "")})
                    for one in places
                )
                for name, places in (("operations", inside.operations), ("fields", inside.fields))
            },
        }
    )
    title = kind_of(policy).title
    many = to[0] if len(to) == 1 else f"{len(to)} placements"
    words = f"{'moved' if moves else 'copied'} {title} from {where_words(level, found, inside, call)} to {many}"
    outside = drafting.save(db(), acting(), "everywhere", "", Everywhere(policies=everywhere), words)
    inner = drafting.save(db(), acting(), "api", api, replace_version(found, changed), words)
    db().commit()
    done(f"{words[0].upper()}{words[1:]}. Not rolled out yet.", outside, inner)
    return back_to("apis.page", api=api, version=version, operation=call or None)


def _put(
    policies: tuple[AnyPolicy, ...], policy: AnyPolicy, name: str, to: list[str], leaves: str
) -> tuple[AnyPolicy, ...]:
    """The policies of a placement after a copy, or a move that `leaves` one."""
    if name == leaves:
        return tuple(one for one in policies if one.name != policy.name)
    if name not in to:
        return policies
    kind = kind_of(policy)
    same = [one.name == policy.name or (kind.alone and one.kind == policy.kind) for one in policies]
    if not any(same):
        return (*policies, policy)
    at = same.index(True)
    return (
        *policies[:at],
        policy,
        *(one for one, gone in zip(policies[at + 1 :], same[at + 1 :], strict=True) if not gone),
    )


@dataclass(frozen=True, slots=True)
class Placed:
    """A policy where it stands."""

    policy: AnyPolicy
    where: str
    level: str
    api: str
    version: str
    call: str

    @property
    def title(self) -> str:
        return kind_of(self.policy).title

    @property
    def brief(self) -> str:
        return kind_of(self.policy).brief(self.policy)


def _all() -> list[Placed]:
    """Every policy of the draft. Those that stand everywhere lead to the first version's call path."""
    first = next(((api.name, one.version) for api in draft().apis for one in api.versions), ("", ""))
    found = [Placed(policy, "everywhere", "everywhere", *first, "") for policy in draft().everywhere]
    for api in draft().apis:
        for version in api.versions:
            called = f"{api.title} {version.version}"
            found += [Placed(policy, called, "api", api.name, version.version, "") for policy in version.policies]
            found += [
                Placed(policy, f"{called}, {one.call}", "operation", api.name, version.version, one.call)
                for one in version.places
                for policy in one.policies
            ]
    return found


@pages.get("/apis/policies")
@requires("see")
def index() -> Any:
    """Every placement, or those of one kind."""
    found = _all()
    name = request.args.get("kind", "")
    chosen = kind_named(name) if name else None
    counts: dict[str, int] = {}
    for one in found:
        counts[one.policy.kind] = counts.get(one.policy.kind, 0) + 1
    kinds = {one.policy.kind: kind_of(one.policy) for one in found}
    order = {kind: place for place, kind in enumerate(KINDS)}
    if not found and name:
        abort(404, "Nothing is placed yet.")
    return render(
        "apis/placing/index.html",
        placed=[one for one in found if not name or one.policy.kind == name],
        kinds=[(kinds[kind], counts[kind]) for kind in sorted(kinds, key=lambda kind: order.get(kind, len(order)))],
        chosen=chosen,
    )
