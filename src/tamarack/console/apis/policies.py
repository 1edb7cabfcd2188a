"""Policies: adding, changing, removing and reordering them in the call path."""

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, abort, current_app, render_template, request
from pydantic import ValidationError
from werkzeug.datastructures import MultiDict

from tamarack.console.apis.pages import path_values
from tamarack.console.apis.placements import (
    kind_named,
    kinds_for,
    level_asked,
    policies_at,
    policy_named,
    put_at,
    where_words,
)
from tamarack.console.apis.suggestions import suggestions, warnings
from tamarack.console.apis.versions import the_version
from tamarack.console.page import acting, back_to, done, draft, may, refuse, render, requires
from tamarack.core.configuration.effective import Placement, placed
from tamarack.core.configuration.explain import source_of
from tamarack.core.configuration.model import FIELD_METHOD, Api, Version
from tamarack.core.policies import AnyPolicy, Policy, kind_of
from tamarack.core.policies.kind import PolicyKind
from tamarack.core.policies.written import NoSuchKind, WrittenPolicy, as_kept, as_placed, value_problems
from tamarack.core.stages import Stage
from tamarack.core.written.kind import PREFIX
from tamarack.store.draft import queries as drafting
from tamarack.store.draft.queries import EditedMeanwhile
from tamarack.store.errors import NotPossible
from tamarack.store.secrets import queries as secrets
from tamarack.web.application import db, settings_of
from tamarack.web.forms import Form, blank, fields_of, read_form, values_of

pages = Blueprint("policies", __name__, url_prefix="/apis/<api>/<version>/policies")


def _panel(api: Api, version: Version, **values: Any) -> str:
    """The page with the form of a policy over the drawing."""
    level = values["level"]
    revision = drafting.revision(db(), *(("everywhere", "") if level == "everywhere" else ("api", api.name)))
    call = request.values.get("operation", "")
    placed = Placed(level, api, version, call, request.values.get("old_name", values.get("old_name", "")))
    if "form" in values:
        values |= _said(placed, values["kind"], values["form"])
    return render(
        "apis/call_path.html",
        tab="call path",
        panel=values | {"revision": revision, "where": where_words(level, api, version, call)},
        suggestions=suggestions(api, version, version.place(call)),
        **path_values(api, version),
    )


@dataclass(frozen=True, slots=True)
class Placed:
    """Where a form puts its policy, and which one it changes (none where it places a new one)."""

    level: str
    api: Api
    version: Version
    call: str
    old_name: str

    def replaces(self, kind: PolicyKind, name: str) -> Placement | None:
        """The placement further out whose policy one of this name would replace here."""
        if self.call.startswith(f"{FIELD_METHOD} "):
            return None  # what stands on a field holds beside all others
        levels = {"everywhere": 0, "api": 1, "operation": 2}
        outer = placed(draft(), self.api, self.version, self.version.place(self.call))[: levels[self.level]]
        return next(
            (
                place
                for place, policies in reversed(outer)
                if any(one.name == name and kind_of(one).stage is kind.stage for one in policies)
            ),
            None,
        )


def _said(at: Placed, kind: PolicyKind, form: Form) -> dict[str, Any]:
    """What a form says beside its fields: its policy as a sentence, what is likely not meant, what it would replace."""
    values = {name: value for name, value in form.values.items() if name != "kind"}
    typed = MultiDict([(name, one) for name, value in values.items() for one in _each(value)])
    policy, _ = read_form(kind.model, form.fields, typed, {"kind": kind.kind})
    if policy is None or form.errors or form.error:
        return {"sentence": "", "warnings": [], "outer": None}
    assert isinstance(policy, Policy)
    new = not at.old_name or at.old_name != policy.name
    asks = new and not kind.alone and kind.stage is not Stage.IDENTIFY
    outer = at.replaces(kind, policy.name) if asks else None
    return {
        "sentence": kind.sentence(policy),
        "warnings": warnings(policy, at.api, at.version, at.version.place(at.call)),
        "outer": source_of(outer) if outer is not None else None,
    }


def _each(value: Any) -> list[str]:
    """A form's value as a browser sends it: a tick that is not set is not sent."""
    if isinstance(value, bool):
        return ["yes"] if value else []
    return list(value) if isinstance(value, list) else [str(value)]


@pages.get("/add")
@requires("edit")
def choose(api: str, version: str) -> Any:
    """The kinds that may stand in a cell, or the empty form of the one chosen."""
    found, inside = the_version(api, version)
    level = level_asked()
    name = request.args.get("kind", "")
    stage = request.args.get("stage", "")
    kinds = [
        kind
        for kind in kinds_for("" if level == "everywhere" else api)
        if kind.stage.value == stage and level in kind.levels and not (level == "everywhere" and kind.only_inside)
    ]
    if request.args.get("operation", "").startswith(f"{FIELD_METHOD} "):
        kinds = [kind for kind in kinds if kind.on_fields]
    if not name and len(kinds) == 1:
        name = kinds[0].kind
    if not name:
        label = Stage(stage).label if stage in {s.value for s in Stage} else ""
        return _panel(found, inside, level=level, kinds=kinds, stage=label)
    kind = kind_named(name)
    fields = fields_of(kind.model, first=kind.asks_first)
    form = Form(fields, blank(kind.model, fields))
    if "algorithms" in form.values:
        form.values["algorithms"] = ["RS256", "HS256"]  # those that are used most; only what fits the keys counts
    form.values["name"] = _free_name(policies_at(level, inside, request.args.get("operation", "")), form.values["name"])
    return _panel(found, inside, level=level, kind=kind, form=form, old_name="")


def _free_name(there: tuple[AnyPolicy, ...], name: str) -> str:
    taken = {policy.name for policy in there}
    return next(one for one in _names(name) if one not in taken)


def _names(name: str) -> list[str]:
    """A name, and the next ones like it."""
    return [name, *(f"{name[:59]}-{n}" for n in range(2, 999))]


def _taken(at: Placed, kind: PolicyKind, there: tuple[AnyPolicy, ...], name: str) -> bool:
    return any(one.name == name for one in there) or at.replaces(kind, name) is not None


def _beside() -> str:
    """The answer to the question whether a policy replaces one further out: `replace`, `beside`, or none yet."""
    answer = request.form.get("beside", "")
    return answer if answer in ("replace", "beside") else ""


@pages.get("/edit")
@requires("see")
def edit(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    level = level_asked()
    policy = policy_named(policies_at(level, inside, request.args.get("operation", "")), request.args.get("policy", ""))
    kind = kind_of(policy)
    fields = fields_of(kind.model, first=kind.asks_first)
    form = Form(fields, values_of(_with_defaults(policy), fields, kind.asks_first))
    if isinstance(policy, WrittenPolicy):
        wrong = value_problems(policy, found.name if level != "everywhere" else "")
        form.error = wrong[0].message if wrong else ""
    return _panel(found, inside, level=level, kind=kind, form=form, old_name=policy.name, off=policy.off)


def _with_defaults(policy: AnyPolicy) -> AnyPolicy:
    """A policy with the defaults of its kind, where that is written and its values still fit."""
    try:
        return as_placed(policy) if isinstance(policy, WrittenPolicy) else policy
    except (ValidationError, NoSuchKind):
        return policy


def _typed() -> MultiDict[str, str]:
    """The form as it was sent; a secret that is set with it is the one that the policy names."""
    typed = MultiDict(request.form)
    name = typed.get("new_secret", "").strip()
    if name and may("secrets"):
        typed["secret"] = name
    return typed


def _set_new_secret(policy: Policy, kind: PolicyKind, form: Form) -> bool:
    """Set the secret that came with a policy; False where it cannot be, which the form then says."""
    name, value = request.form.get("new_secret", "").strip(), request.form.get("new_value", "").strip()
    if not name or not may("secrets") or getattr(policy, "secret", "") != name:
        return True
    if secrets.is_set(db(), name):
        form.errors["secret"] = f"there is a secret {name!r} already; choose it, or give the new one another name"
        return False
    key = settings_of(current_app).keys.credentials.sealing
    try:
        secrets.set_secret(db(), acting(), key, name, value, summary=kind.title, least=kind.least_secret(policy))
    except NotPossible as error:
        db().rollback()
        form.errors["secret"] = str(error)
        return False
    return True


def _read(kind: PolicyKind, there: tuple[AnyPolicy, ...], old_name: str) -> tuple[Policy | None, Form]:
    fields = fields_of(kind.model, first=kind.asks_first)
    policy, form = read_form(kind.model, fields, _typed(), {"kind": kind.kind})
    if "secret" in form.values:
        form.values["secret"] = request.form.get("secret", "")  # as it was chosen
    assert policy is None or isinstance(policy, Policy)
    if isinstance(policy, WrittenPolicy):
        policy = as_kept(policy, draft().kind(kind.kind.removeprefix(PREFIX)))
    if policy is not None and any(one.name == policy.name != old_name for one in there):
        form.errors["name"] = f"another policy here is named {policy.name!r}; choose another name"
        return None, form
    return policy, form


@pages.post("/check")
@requires("edit")
def check(api: str, version: str) -> Any:
    """The form again with what is wrong so far, while it is being typed."""
    found, inside = the_version(api, version)
    level, call = level_asked(), request.form.get("operation", "")
    there = policies_at(level, inside, call)
    kind = kind_named(request.form.get("kind", ""))
    old_name = request.form.get("old_name", "")
    _, form = _read(kind, there, old_name)
    said = _said(Placed(level, found, inside, call, old_name), kind, form)
    return render_template("apis/policy_check.html", panel=said | {"form": form, "beside": _beside()})


@pages.post("/save")
@requires("edit")
def save(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    level, call = level_asked(), request.form.get("operation", "")
    there = policies_at(level, inside, call)
    kind = kind_named(request.form.get("kind", ""))
    old_name = request.form.get("old_name", "")
    policy, form = _read(kind, there, old_name)
    again = {"level": level, "kind": kind, "form": form, "old_name": old_name, "beside": _beside()}
    if call.startswith(f"{FIELD_METHOD} ") and not (kind.on_fields and found.style == "graphql"):
        abort(400, f"{kind.title} cannot stand on {call}: it holds for whole calls.")
    if policy is None:
        return _panel(found, inside, **again), 422
    if _beside() == "beside":
        at = Placed(level, found, inside, call, old_name)
        free = next(name for name in _names(policy.name) if not _taken(at, kind, there, name))
        policy = policy.model_copy(update={"name": free})
    elif _said(Placed(level, found, inside, call, old_name), kind, form)["outer"] and not _beside():
        return _panel(found, inside, **again), 422  # it asks: replace, or beside it?
    if not _set_new_secret(policy, kind, form):
        return _panel(found, inside, **again), 422
    if old_name:
        policy = policy.model_copy(update={"off": policy_named(there, old_name).off})
        policies = tuple(policy if one.name == old_name else one for one in there)
        verb = "changed"
    else:
        policies = (*there, policy)
        verb = "placed"
    summary = f"{verb} {kind.title} ({kind.brief(policy)}) on {where_words(level, found, inside, call)}"
    return _save(found, inside, level, call, policies, summary, again)


@pages.post("/remove")
@requires("edit")
def remove(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    level, call = level_asked(), request.form.get("operation", "")
    there = policies_at(level, inside, call)
    policy = policy_named(there, request.form.get("policy", ""))
    policies = tuple(one for one in there if one.name != policy.name)
    summary = f"removed {kind_of(policy).title} from {where_words(level, found, inside, call)}"
    return _save(found, inside, level, call, policies, summary)


@pages.post("/switch")
@requires("edit")
def switch(api: str, version: str) -> Any:
    """Switch a policy off where it is placed, or on again."""
    found, inside = the_version(api, version)
    level, call = level_asked(), request.form.get("operation", "")
    there = policies_at(level, inside, call)
    policy = policy_named(there, request.form.get("policy", ""))
    policies = tuple(one.model_copy(update={"off": not one.off}) if one is policy else one for one in there)
    word = "on" if policy.off else "off"
    summary = f"switched {kind_of(policy).title} {word} on {where_words(level, found, inside, call)}"
    return _save(found, inside, level, call, policies, summary)


@pages.post("/order")
@requires("edit")
def order(api: str, version: str) -> Any:
    """Put the policies of a cell in the order that was sent: names, with commas between."""
    found, inside = the_version(api, version)
    level, call = level_asked(), request.form.get("operation", "")
    there = policies_at(level, inside, call)
    names = request.form.get("order", "").split(",")
    moved = [policy_named(there, name) for name in names]
    stages = {kind_of(policy).stage for policy in moved}
    if len(set(names)) != len(names) or len(stages) != 1:
        abort(400, "The order names policies of several stages, or one twice.")
    following = iter(moved)
    policies = tuple(next(following) if policy in moved else policy for policy in there)
    stage = next(iter(stages))
    summary = f"put the policies of {stage.label} in another order on {where_words(level, found, inside, call)}"
    return _save(found, inside, level, call, policies, summary)


def _save(
    found: Api,
    inside: Version,
    level: str,
    call: str,
    policies: tuple[Any, ...],
    summary: str,
    again: dict[str, Any] | None = None,
) -> Any:
    """Save policies at a placement; `again` shows the form once more where others changed the draft meanwhile."""
    target = {"operation": call} if call else {}
    try:
        change = put_at(level, found, inside, call, policies, summary)
    except EditedMeanwhile as error:
        db().rollback()
        if again is not None:
            again["form"].error = f"Not saved yet: {error}. Look at the call path, and save again if it still fits."
            return _panel(found, inside, **again), 409
        refuse(f"Not saved: {error}.")
        return back_to("apis.page", api=found.name, version=inside.version, **target)
    db().commit()
    done(f"{summary[0].upper()}{summary[1:]}. Not rolled out yet." if change else "Nothing was different.", change)
    return back_to("apis.page", api=found.name, version=inside.version, **target)
