"""A configuration as one viewer sees it: what is not for them is not in it, nor named by what is.

What may be called is another question: subscriptions and policies decide it. Taking something out of sight ends no
subscription, and whoever holds one goes on seeing what it covers. A deprecated version is in the sight of those alone,
a preview on invitation in the sight of whoever is invited.
"""

from collections.abc import Collection, Mapping
from datetime import datetime

from tamarack.core.configuration.audience import Viewer, sees
from tamarack.core.configuration.model import Api, Configuration
from tamarack.core.configuration.plans import Plan, Product

NEW_STATES = ("preview", "published")
"""The states of a version that are shown to whoever sees the API."""
SHOWN_STATES = (*NEW_STATES, "deprecated")
"""Those and the state that only shows to whoever is subscribed already."""


def seen_by(
    configuration: Configuration, viewer: Viewer, closed_at: Mapping[tuple[str, str], datetime] | None = None
) -> Configuration:
    """The configuration with only the APIs, products and plans that a viewer sees, or holds subscriptions to.

    `closed_at` says since when deprecated versions, by API and label, are closed to new subscriptions.
    """
    held = {product for product, _ in viewer.holds}
    since: dict[str, datetime] = {}
    for product in configuration.products:
        made = next((made for name, made in viewer.since if name == product.name), None)
        for api in product.apis if made is not None else ():
            since[api] = min(made, since.get(api, made))  # type: ignore[type-var, assignment]
    covered = {api for product in configuration.products if product.name in held for api in product.apis}
    late = {(api, label) for (api, label), closed in (closed_at or {}).items() if api in since and since[api] >= closed}
    apis = tuple(
        shown
        for api in configuration.apis
        if (sees(api.visible_to, viewer) or api.name in covered)
        and (shown := _shown(api, SHOWN_STATES if api.name in covered else NEW_STATES, viewer, late)) is not None
    )
    names = frozenset(api.name for api in apis)
    products = tuple(
        _product(product, viewer, names)
        for product in configuration.products
        if sees(product.visible_to, viewer) or product.name in held
    )
    return configuration.model_copy(update={"apis": apis, "products": products})


def _shown(api: Api, states: Collection[str], viewer: Viewer, late: Collection[tuple[str, str]]) -> Api | None:
    """An API with its versions in some states, but for those that a viewer came too late for; None without any."""
    versions = []
    for version in api.versions:
        trial = version.open_trial
        if (
            version.state not in states
            or (api.name, version.version) in late
            or (trial is not None and not trial.lets_in(viewer.organization))
        ):
            continue
        if trial is not None and trial.invited:  # who else is invited is the business of others
            version = version.model_copy(update={"trial": trial.model_copy(update={"invited": (viewer.organization,)})})
        versions.append(version)
    return api.model_copy(update={"versions": tuple(versions)}) if versions else None


def _product(product: Product, viewer: Viewer, names: frozenset[str]) -> Product:
    plans = tuple(
        _plan(plan, names)
        for plan in product.plans
        if sees(plan.visible_to, viewer) or (product.name, plan.name) in viewer.holds
    )
    apis = tuple(name for name in product.apis if name in names)
    return product.model_copy(update={"apis": apis, "plans": plans})


def _plan(plan: Plan, names: frozenset[str]) -> Plan:
    return plan.model_copy(update={"parts": tuple(part for part in plan.parts if part.api in names)})


def why_seen(api: Api, configuration: Configuration, viewer: Viewer) -> str:
    """Why a viewer sees an API, or why not, in words: for staff who look at what an organization sees."""
    held = [p.title for p in configuration.products if api.name in p.apis and p.name in {n for n, _ in viewer.holds}]
    states = {version.state for version in api.versions}
    if not states & set(SHOWN_STATES):
        return "no version of it is shown outside"
    if not held and not states & set(NEW_STATES):
        return "deprecated versions are shown to subscribers only"
    if sees(api.visible_to, viewer):
        return "for everyone" if not api.visible_to else "is named among those who see it"
    return f"through its subscription to {', '.join(held)}" if held else "is not among those who see it"
