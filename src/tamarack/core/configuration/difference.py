"""The difference between two configurations, in words."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from typing import Any, Literal

from tamarack.core.certificates.certificate import authorities_in
from tamarack.core.configuration.audience import in_words
from tamarack.core.configuration.backend import Backend
from tamarack.core.configuration.model import Api, Configuration, Operation, Version
from tamarack.core.configuration.placed import placements_of
from tamarack.core.configuration.plans import Plan, Product
from tamarack.core.policies import AnyPolicy, kind_of
from tamarack.core.policies.written import WrittenPolicy
from tamarack.core.written.kind import WrittenKind

What = Literal["added", "changed", "removed"]


@dataclass(frozen=True, slots=True)
class Change:
    """One change: what happened, to what, and how. `api` is set where it belongs to an API."""

    what: What
    subject: str
    text: str
    api: str = ""
    kind: str = ""
    """The kind of the item that it is on: backend, cap, everywhere, kind, api or product."""
    item: str = ""
    """The item's name."""


def difference(before: Configuration, after: Configuration) -> list[Change]:
    """Every change that leads from one configuration to another, in the order of the work."""
    changes: list[Change] = []
    for name, old_backend, new_backend in _pairs(before.backends, after.backends, lambda b: b.name):
        changes += _on("backend", name, _whole("backend " + name, old_backend, new_backend, _backend))
    for name, old_cap, new_cap in _pairs(before.caps, after.caps, lambda cap: cap.environment):
        if old_cap == new_cap:
            continue
        was, now = (_shown(cap.limits) if cap is not None else "none" for cap in (old_cap, new_cap))
        what: What = "added" if old_cap is None else "removed" if new_cap is None else "changed"
        changes.append(Change(what, f"cap of {name}", f"from {was} to {now}", kind="cap", item=name))
    for name, old_kind, new_kind in _pairs(before.kinds, after.kinds, lambda kind: kind.name):
        changes += _on("kind", name, _kind(old_kind, new_kind, after))
    changes += _on("everywhere", "", _policies("Everywhere", "", before.everywhere, after.everywhere))
    for name, old_api, new_api in _pairs(before.apis, after.apis, lambda a: a.name):
        changes += _on("api", name, _api(old_api, new_api))
    for name, old_product, new_product in _pairs(before.products, after.products, lambda p: p.name):
        changes += _on("product", name, _product(old_product, new_product))
    return changes


def _on(kind: str, item: str, changes: list[Change]) -> list[Change]:
    return [replace(change, kind=kind, item=item) for change in changes]


def _pairs(old: Iterable[Any], new: Iterable[Any], key: Callable[[Any], Any]) -> list[tuple[Any, Any, Any]]:
    olds = {key(item): item for item in old}
    news = {key(item): item for item in new}
    return [(name, olds.get(name), news.get(name)) for name in dict.fromkeys([*olds, *news])]


def _whole(subject: str, old: Any, new: Any, inside: Callable[[str, Any, Any], list[Change]]) -> list[Change]:
    if old is None:
        return [Change("added", subject, "is new")]
    if new is None:
        return [Change("removed", subject, "is removed")]
    return inside(subject, old, new)


def _fields(subject: str, api: str, old: Any, new: Any, words: dict[str, str]) -> list[Change]:
    changes = []
    for field, word in words.items():
        was, now = getattr(old, field), getattr(new, field)
        if was != now:
            changes.append(Change("changed", subject, f"{word} from {_shown(was)} to {_shown(now)}", api))
    return changes


def _shown(value: Any) -> str:
    if value is True or value is False:
        return "yes" if value else "no"
    if isinstance(value, tuple):
        return ", ".join(str(item) for item in value) or "none"
    return str(value) if value not in ("", None) else "nothing"


def _backend(subject: str, old: Backend, new: Backend) -> list[Change]:
    changes = _fields(
        subject,
        "",
        old,
        new,
        {
            "summary": "summary",
            "connect_timeout_ms": "connect timeout (ms)",
            "read_timeout_ms": "read timeout (ms)",
            "first_timeout_ms": "time until the answer begins (ms)",
            "whole_timeout_ms": "time of a whole call (ms)",
            "verify_tls": "verify TLS",
            "certificate_secret": "it is shown the certificate of the secret",
            "turned_away": "a call that a target turns away:",
            "models": "models",
            "kept_for": "the last capacity is kept for",
            "kept_from": "it is kept from a share of (%)",
            "sharing": "turns of targets",
            "same_for": "to one target go calls of",
            "same_header": "to one target go calls with the same",
            "sign_in": "the gateway signs in by",
            "sign_in_name": "it signs in as",
            "sign_in_secret": "it signs in with the secret",
        },
    )
    if old.authorities != new.authorities:
        signers = [tuple(one.subject for one in authorities_in(pem)) for pem in (old.authorities, new.authorities)]
        was_signed, now_signed = (_shown(one or ("an authority that the system knows",)) for one in signers)
        changes.append(Change("changed", subject, f"its certificates are signed by {now_signed}, not {was_signed}"))
    for part, words in (("breaker", "its breaker"), ("health", "its checks")):
        before, after = getattr(old, part), getattr(new, part)
        if before is None and after is not None:
            changes.append(Change("added", subject, words))
        elif after is None and before is not None:
            changes.append(Change("removed", subject, words))
        elif before is not None:
            names = {name: f"{words}, {name.replace('_', ' ')}" for name in type(before).model_fields}
            changes += _fields(subject, "", before, after, names)
    for address, was, now in _pairs(old.targets, new.targets, lambda t: t.address):
        if was is None:
            changes.append(Change("added", subject, f"target {address}"))
        elif now is None:
            changes.append(Change("removed", subject, f"target {address}"))
        elif was != now:
            said = []
            if was.environments != now.environments:
                said.append(f"serves {_shown(now.environments or ('all environments',))}")
            said += [f"has the weight {now.weight}"] if was.weight != now.weight else []
            said += [f"has the priority {now.priority}"] if was.priority != now.priority else []
            said += [f"has the capacity {now.capacity}"] if was.capacity != now.capacity else []
            if was.secret != now.secret:
                said.append(f"is signed in to with {now.secret or 'the secret of the backend'}")
            changes.append(Change("changed", subject, f"target {address} now {' and '.join(said)}"))
    return changes


def _kind(old: WrittenKind | None, new: WrittenKind | None, after: Configuration) -> list[Change]:
    """What changed of a written kind, and every placement that is touched by it."""
    kind = new or old
    assert kind is not None
    subject = f"kind {kind.title}"
    if old == new:
        return []
    if old is None:
        changes = [Change("added", subject, "is new")]
    elif new is None:
        changes = [Change("removed", subject, "is removed")]
    else:
        words = {"title": "title", "help": "help", "api": "private to", "levels": "may stand on"}
        changes = _fields(subject, "", old, new, words)
        for name, was, now in _pairs(old.parameters, new.parameters, lambda one: one.name):
            what: What = "added" if was is None else "removed" if now is None else "changed"
            if was != now:
                changes.append(Change(what, subject, f"parameter {name}"))
        for side in ("request", "answer", "error"):
            if getattr(old, side) != getattr(new, side):
                changes.append(
                    Change("changed", subject, f"its steps on {side} from version {old.version} to {new.version}")
                )
    placed = placements_of(after, kind.kind)
    if placed and old is not None:
        named = ", ".join(placed[:6]) + (f" and {len(placed) - 6} more" if len(placed) > 6 else "")
        changes.append(
            Change(
                "changed", subject, f"this touches {len(placed)} placement{'' if len(placed) == 1 else 's'}: {named}"
            )
        )
    return changes


def _policies(subject: str, api: str, old: tuple[AnyPolicy, ...], new: tuple[AnyPolicy, ...]) -> list[Change]:
    changes = []
    for name, was, now in _pairs(old, new, lambda p: p.name):
        if was == now:
            continue
        kind = kind_of(now or was)
        called = kind.title if not (now or was).called else f"{kind.title} ‘{name}’"
        if was is None:
            changes.append(Change("added", subject, f"{called}: {kind.brief(now)}", api))
        elif now is None:
            changes.append(Change("removed", subject, f"{called}: {kind.brief(was)}", api))
        elif was.kind != now.kind:
            changes.append(Change("changed", subject, f"{name} is now {kind.title}: {kind.brief(now)}", api))
        elif kind.brief(was) != kind.brief(now):
            changes.append(Change("changed", subject, f"{called} from {kind.brief(was)} to {kind.brief(now)}", api))
        elif isinstance(now, WrittenPolicy):
            changes.append(Change("changed", f"{subject}, {called}", "other values", api))
        else:
            words = {f: (type(now).model_fields[f].title or f).lower() for f in type(now).model_fields}
            changes += _fields(f"{subject}, {called}", api, was, now, words)
    kept = [policy.name for policy in old if policy in new]
    if kept != [policy.name for policy in new if policy in old]:
        changes.append(Change("changed", subject, "policies run in another order", api))
    return changes


def _api(old: Api | None, new: Api | None) -> list[Change]:
    api = new or old
    assert api is not None
    if old is None:
        many = sum(len(version.operations) for version in api.versions)
        text = f"is new, with {many} operations at {_shown(tuple(v.base_path for v in api.versions))}"
        return [Change("added", api.title, text, api.name)]
    if new is None:
        return [Change("removed", api.title, "is removed; its calls will be answered 404", api.name)]
    words = {
        "title": "title",
        "summary": "summary",
        "owner": "owner",
        "contact": "contact",
        "style": "style",
        "scopes": "scopes",
    }
    changes = _fields(api.title, api.name, old, new, words) + _seen(api.title, api.name, old, new)
    if old.naming != new.naming:
        was_named, now_named = (_naming(one) for one in (old, new))
        changes.append(
            Change("changed", api.title, f"its versions are named by {now_named} instead of {was_named}", api.name)
        )
    for _, page, page_now in _pairs(old.pages, new.pages, lambda p: p.name):
        what: What = "added" if page is None else "removed" if page_now is None else "changed"
        if page != page_now:
            changes.append(Change(what, api.title, f"page ‘{(page_now or page).title}’", api.name))
    if [p.name for p in old.pages] != [p.name for p in new.pages] and set(old.pages) == set(new.pages):
        changes.append(Change("changed", api.title, "pages in another order", api.name))
    for label, was, now in _pairs(old.versions, new.versions, lambda v: v.version):
        subject = f"{api.title} {label}"
        if was is None:
            text = f"is new, with {len(now.operations)} operations at {now.base_path}"
            changes.append(Change("added", subject, text, api.name))
        elif now is None:
            changes.append(Change("removed", subject, "is removed; its calls will be answered 404", api.name))
        else:
            changes += _version(subject, api.name, was, now)
    return changes


def _naming(api: Api) -> str:
    naming = api.naming
    if naming is None:
        return "base path"
    default = f", {naming.default} where none is named" if naming.default else ""
    return f"the {naming.by} {naming.called}{default}"


def _trial(version: Version) -> str:
    trial = version.trial
    if trial is None:
        return "subscribers"
    return f"{', '.join(trial.invited) or 'anyone'} ({', '.join(window.brief for window in trial.limits)})"


def _seen(subject: str, api: str, old: Api | Product | Plan, new: Api | Product | Plan) -> list[Change]:
    if old.visible_to == new.visible_to:
        return []
    was, now = in_words(old.visible_to), in_words(new.visible_to)
    return [Change("changed", subject, f"seen by {now} instead of {was}", api)]


def _version(subject: str, api: str, old: Version, new: Version) -> list[Change]:
    words = {
        "state": "state",
        "base_path": "base path",
        "backend": "backend",
        "deprecated_on": "deprecation date",
        "sunset_on": "sunset date",
        "successor": "successor",
        "brown_outs": "brown-outs",
    }
    changes = _fields(subject, api, old, new, words)
    if old.trial != new.trial:
        opened, closed = _trial(new), _trial(old)
        changes.append(Change("changed", subject, f"as a preview open to {opened} instead of {closed}", api))
    if old.document != new.document:
        changes.append(Change("changed", subject, "OpenAPI document replaced", api))
    changes += _policies(subject, api, old.policies, new.policies)
    was: Operation | None
    now: Operation | None
    for call, was, now in _pairs(old.fields, new.fields, lambda o: o.call):
        own = [one.policies if one is not None else () for one in (was, now)]
        changes += _policies(f"{subject}, {call}", api, own[0], own[1])
    for call, was, now in _pairs(old.operations, new.operations, lambda o: o.call):
        inside = f"{subject}, {call}"
        if was is None:
            assert now is not None
            changes.append(Change("added", inside, "is a new operation", api))
            changes += _policies(inside, api, (), now.policies)
        elif now is None:
            changes.append(Change("removed", inside, "is no longer an operation", api))
        else:
            changes += _fields(inside, api, was, now, {"summary": "summary"})
            for key, before, after in _pairs(was.answers, now.answers, lambda a: (a.status, a.media, a.name)):
                if before != after:
                    named = f"typed answer {key[0]}{f' ‘{key[2]}’' if key[2] else ''}{f', {key[1]}' if key[1] else ''}"
                    what: What = "added" if before is None else "removed" if after is None else "changed"
                    changes.append(Change(what, inside, named, api))
            changes += _policies(inside, api, was.policies, now.policies)
    return changes


def _product(old: Product | None, new: Product | None) -> list[Change]:
    product = new or old
    assert product is not None
    subject = f"product {product.title}"
    if old is None:
        plans = _shown(tuple(plan.title for plan in product.plans))
        return [Change("added", subject, f"is new, with {_shown(product.apis)}; plans: {plans}")]
    if new is None:
        return [Change("removed", subject, "is removed; its subscriptions no longer cover any API")]
    words = {"title": "title", "summary": "summary", "apis": "APIs"}
    changes = _fields(subject, "", old, new, words) + _seen(subject, "", old, new)
    was: Plan | None
    now: Plan | None
    for name, was, now in _pairs(old.plans, new.plans, lambda p: p.name):
        inside = f"{subject}, plan {(now or was).title if (now or was) else name}"
        if was is None:
            changes.append(Change("added", inside, "is new"))
        elif now is None:
            changes.append(Change("removed", inside, "is removed"))
        else:
            plan_words = {
                field: field.replace("_", " ")
                for field in type(now).model_fields
                if field not in ("name", "parts", "visible_to")
            } | {"parts": "limits of single APIs"}
            changes += _fields(inside, "", was, now, plan_words) + _seen(inside, "", was, now)
    return changes
