"""The guide to an API's first call: what is still missing, and each step done where one stands.

It reads the draft, what runs and what was recorded, so that a step counts as done however it was done. It is gone with
the first call that was answered, or when it is dismissed.
"""

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, current_app, request, session
from pydantic import ValidationError
from sqlmodel import col, select

from tamarack.console.apis.versions import replace_version, the_version
from tamarack.console.bench.operation_call import view_of
from tamarack.console.page import act, acting, back_to, done, draft, environment, may, refuse, render, requires, running
from tamarack.console.rollouts.source import source_for
from tamarack.core.configuration.effective import closed, held, in_force, is_open, opened
from tamarack.core.configuration.explain import explain_ways
from tamarack.core.configuration.model import Api, Operation, Version
from tamarack.core.configuration.plans import Plan, Product
from tamarack.core.policies import kind_of
from tamarack.core.policies.identify.api_key import ApiKey
from tamarack.core.policies.identify.open_access import OpenAccess
from tamarack.core.policies.identify.token import JwtPolicy
from tamarack.core.trying.credential_examples import Given, credential_example, example_call, ways_shown
from tamarack.core.trying.examples import ExampleCall, as_curl
from tamarack.core.trying.naming import named_by
from tamarack.core.types import problems_of
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.draft import queries as drafting
from tamarack.store.joining.queries import new_organization
from tamarack.store.people.tables import Organization
from tamarack.store.traffic import overview as watching
from tamarack.store.traffic.tables import RollupKey
from tamarack.web.application import db, gateway_address, settings_of
from tamarack.web.once import NEW_KEYS

pages = Blueprint("guide", __name__, url_prefix="/apis/<api>/<version>/guide")

STEPS = ("protect", "offer", "application", "rollout", "call")
_DISMISSED = "guides_dismissed"
_KEYS = "guide_key"


@dataclass(slots=True)
class Guide:
    """How far an API is from its first call, in one environment."""

    done: dict[str, bool]
    ways: list[str]
    needs_caller: bool
    products: list[Product]
    """Those that offer it, in the draft."""
    subscriptions: list[tuple[Application, Subscription]]
    curl: str = ""
    key_shown: bool = False
    takes_keys: bool = False
    """Whether callers show a key that can be made here."""
    names_callers: JwtPolicy | None = None
    """The JWT policy whose tokens name the caller, where no name is registered for the application yet."""
    mark: str = ""

    @property
    def current(self) -> str:
        """The step to do next."""
        return next((step for step in STEPS if not self.done[step]), "")


def guide_for(api: Api, version: Version) -> Guide | None:
    """The guide, or None where it has nothing to say: the API has answered, or it was dismissed."""
    if not may("edit") or version.state not in ("published", "preview") or not version.operations:
        return None
    if _name(api, version) in session.get(_DISMISSED, ()) or _answered(api, version):
        return None
    where = environment()
    rows = [held(draft(), api, version, operation) for operation in version.operations]
    needs_caller = not all(opened(version, one) for one in rows)
    products = [product for product in draft().products_with(api.name) if product.plans]
    subscriptions = _subscriptions([product.name for product in products], where)
    _, live = running(where)
    runs = (
        live.api(api.name) == api
        and live.backend(version.backend) == draft().backend(version.backend)
        and all(live.product(one.name) == one for one in products)
    )
    guide = Guide(
        done={
            "protect": not any(closed(version, one) for one in rows),
            "offer": bool(products) or not needs_caller,
            "application": bool(subscriptions) or not needs_caller,
            "rollout": runs,
            "call": False,
        },
        ways=[one.text for one in explain_ways(draft(), api, version)] or ["Anyone may call, without a credential."],
        needs_caller=needs_caller,
        products=products,
        subscriptions=subscriptions,
        mark=source_for(where, {}).mark,
    )
    if guide.current == "call":
        _first_call(guide, api, version, where)
    return guide


def _name(api: Api, version: Version) -> str:
    return f"{api.name}/{version.version}"


def _answered(api: Api, version: Version) -> bool:
    """Whether any call of it has been answered, ever: roll-ups know, without looking at calls."""
    query = select(RollupKey.id).where(
        RollupKey.api == api.name, RollupKey.version == version.version, RollupKey.reason == "", RollupKey.status < 400
    )
    return db().exec(query.limit(1)).first() is not None


def _subscriptions(products: list[str], where: str) -> list[tuple[Application, Subscription]]:
    query = (
        select(Application, Subscription)
        .where(Subscription.application_id == Application.id, col(Subscription.product).in_(products))
        .where(Subscription.environment == where, Subscription.state == "active")
        .order_by(col(Subscription.made_at).desc())
        .limit(5)
    )
    return [(row[0], row[1]) for row in db().exec(query)]


def _first_call(guide: Guide, api: Api, version: Version, where: str) -> None:
    """The call to make: of an operation that can be called as it stands, with the key that was just made."""
    plain = [one for one in version.operations if one.method in ("get", "any") and "{" not in one.path]
    operation = next(iter(plain), version.operations[0])
    rows = held(draft(), api, version, operation)
    policies = [] if is_open(rows) else [row.policy for row in in_force(rows)]
    ways = ways_shown(policies)
    guide.takes_keys = any(way.credential == "api-key" for way in ways)
    jwt = next((one for one in policies if isinstance(one, JwtPolicy) and not one.application), None)
    if jwt is not None and not guide.takes_keys and guide.subscriptions:
        known = subscribers.credentials_of(db(), guide.subscriptions[0][0])
        if not any(one.kind == "outside-identity" and one.environment == where for one in known):
            guide.names_callers = jwt
    held_key = session.get(_KEYS, {})
    key = NEW_KEYS.peek(held_key.get("ticket", "")) if held_key.get("of") == _name(api, version) else None
    guide.key_shown = key is not None
    shown = credential_example(policies, Given(key, "api-key") if key else None, "")
    address = gateway_address(where) + version.base_path
    guide.curl = as_curl(_example(api, version, operation, address, shown))


def _example(api: Api, version: Version, operation: Operation, address: str, shown: ExampleCall | None) -> ExampleCall:
    view = view_of(version, operation)
    return example_call(view, address, shown, named_by(api, version, view))


def values(guide: Guide | None) -> dict[str, Any]:
    """What the guide's template shows."""
    if guide is None:
        return {"guide": None}
    return {
        "guide": guide,
        "guide_organizations": list(db().exec(select(Organization).order_by(Organization.title))),
        "guide_products": [product for product in draft().products if product.plans],
        "guide_header": next((one.header for one in _keys() if one.header), "x-api-key"),
    }


def _keys() -> list[ApiKey]:
    """The API key policies of the draft: a team uses one header for all of its APIs."""
    placed = [
        *draft().everywhere,
        *(one for api in draft().apis for version in api.versions for one in version.policies),
    ]
    return [one for one in placed if isinstance(one, ApiKey)]


def _back(api: str, version: str) -> Any:
    return back_to("apis.page", api=api, version=version)


@pages.post("/protect")
@requires("edit")
def protect(api: str, version: str) -> Any:
    """Say how callers are known: by a key in a header, or not at all."""
    found, inside = the_version(api, version)
    try:
        policy = (
            OpenAccess() if request.form.get("by") == "open" else ApiKey(header=request.form.get("header", "").strip())
        )
    except ValidationError as error:
        refuse(f"Not protected: {problems_of(error)[0].message}.")
        return _back(api, version)
    kept = tuple(one for one in inside.policies if one.name != policy.name)
    changed = replace_version(found, inside.model_copy(update={"policies": (policy, *kept)}))
    words = kind_of(policy).brief(policy)
    change = drafting.save(db(), acting(), "api", api, changed, f"protected {found.title} {version} ({words})")
    db().commit()
    done(kind_of(policy).sentence(policy).replace("`", ""), change)
    return _back(api, version)


@pages.post("/offer")
@requires("edit")
def offer(api: str, version: str) -> Any:
    """Put the API into a product: one that is there, or a new one of its own with a plan."""
    found, _ = the_version(api, version)
    product = draft().product(request.form.get("product", ""))
    try:
        if product is None:
            limits = [line for line in request.form.get("limits", "").splitlines() if line.strip()]
            plan = Plan.model_validate({"name": "standard", "title": "Standard", "limits": limits})
            product = Product(name=_free(found.name), title=found.title, plans=(plan,))
        product = product.model_copy(update={"apis": tuple(dict.fromkeys((*product.apis, found.name)))})
    except ValidationError as error:
        refuse(f"Not offered: {problems_of(error)[0].message}.")
        return _back(api, version)
    change = drafting.save(
        db(), acting(), "product", product.name, product, f"offered {found.title} in {product.title}"
    )
    db().commit()
    done(f"{found.title} is part of the product {product.title}.", change)
    return _back(api, version)


def _free(name: str) -> str:
    taken = {product.name for product in draft().products}
    return next(one for one in (name, *(f"{name[:59]}-{n}" for n in range(2, 999))) if one not in taken)


@pages.post("/application")
@requires("subscribers")
def application(api: str, version: str) -> Any:
    """Register an application of an organization, new or there already, and subscribe it."""
    where = environment()
    product, _, plan = request.form.get("plan", "").partition("/")
    title = request.form.get("title", "")

    def change() -> None:
        owner = db().get(Organization, request.form.get("organization", ""))
        if owner is None:
            owner = new_organization(db(), acting(), request.form.get("organization_title", ""), "internal")
        made = subscribing.make_application(db(), acting(), owner, title)
        subscription = subscribing.subscribe(db(), acting(), draft(), made, product, plan, where)
        if subscription.state == "pending":
            subscribing.approve(db(), acting(), draft(), subscription)

    act(change, f"{title.strip()} is registered, and subscribed to {plan} of {product} in {where}.")
    return _back(api, version)


@pages.post("/key")
@requires("subscribers")
def key(api: str, version: str) -> Any:
    """Make a key for the application, to be shown in the first call."""
    found, inside = the_version(api, version)
    guide = guide_for(found, inside)
    if guide is not None and guide.subscriptions:
        application, subscription = guide.subscriptions[0]
        keys = settings_of(current_app).keys.credentials
        made = credentials.make_credential(db(), acting(), keys, application, subscription.environment)
        db().commit()
        session[_KEYS] = {"of": _name(found, inside), "ticket": NEW_KEYS.put(made.value)}
    return _back(api, version)


@pages.post("/identity")
@requires("subscribers")
def identity(api: str, version: str) -> Any:
    """Register the name that tokens give the application."""
    found, inside = the_version(api, version)
    guide = guide_for(found, inside)
    if guide is not None and guide.names_callers is not None:
        application, subscription = guide.subscriptions[0]
        wanted = credentials.Wanted("outside-identity", issuer=guide.names_callers.issuer, name=request.form["name"])
        keys = settings_of(current_app).keys.credentials
        act(
            lambda: credentials.make_credential(db(), acting(), keys, application, subscription.environment, wanted),
            f"Tokens with this name are {application.title}'s; nodes know within a second.",
        )
    return _back(api, version)


@pages.get("/arrived")
@requires("see")
def arrived(api: str, version: str) -> Any:
    """Whether a call has come, asked every second or two."""
    found, inside = the_version(api, version)
    filters = watching.call_filter(api=found.name, version=inside.version, environment=environment())
    latest = next(iter(watching.calls(db(), filters, most=1)), None)
    return render("apis/guide_arrived.html", api=found, version=inside, call=latest)


@pages.post("/dismiss")
@requires("see")
def dismiss(api: str, version: str) -> Any:
    """Show the guide of this version no more."""
    found, inside = the_version(api, version)
    session[_DISMISSED] = sorted({*session.get(_DISMISSED, ()), _name(found, inside)})
    return _back(api, version)
