"""Plans: products, the APIs they package, and the plans they are offered in."""

from typing import Any

from flask import Blueprint, abort, request
from pydantic import ValidationError
from sqlmodel import func, select
from werkzeug.datastructures import MultiDict

from tamarack.console.apis.audience_form import audience_errors, audience_options, typed_audience
from tamarack.console.page import acting, back_to, done, draft, refuse, render, requires
from tamarack.core.configuration import pricing
from tamarack.core.configuration.model import part_problem
from tamarack.core.configuration.plans import Plan, Product
from tamarack.core.types import problems_of
from tamarack.store.applications.tables import Subscription
from tamarack.store.draft import queries as drafting
from tamarack.store.traffic.plan_effect import effect_of
from tamarack.web.application import db
from tamarack.web.forms import Form, blank, fields_of, read_form, values_of
from tamarack.web.plan_table import plan_table

pages = Blueprint("plans", __name__, url_prefix="/plans")


def _find(name: str) -> Product:
    product = draft().product(name)
    if product is None:
        abort(404, f"The draft holds no product {name}.")
    return product


def _subscribers() -> dict[tuple[str, str], int]:
    query = (
        select(Subscription.product, Subscription.plan, func.count())
        .where(Subscription.state != "ended")
        .group_by(Subscription.product, Subscription.plan)
    )
    return {(product, plan): many for product, plan, many in db().exec(query)}


@pages.get("/")
@requires("see")
def index() -> Any:
    prices = {(one.name, plan.name): pricing.in_words(plan) for one in draft().products for plan in one.plans}
    return render("plans/index.html", products=draft().products, subscribers=_subscribers(), prices=prices)


def _product_page(product: Product | None, typed: dict[str, Any], errors: dict[str, str]) -> str:
    return render("plans/product.html",
        audiences=audience_options(), product=product, typed=typed, errors=errors, apis=draft().apis,
                  subscribers=_subscribers())  # fmt: skip


@pages.get("/new")
@requires("edit")
def new() -> Any:
    return _product_page(None, {"name": "", "title": "", "summary": "", "apis": (), "visible_to": ()}, {})


@pages.get("/<product>")
@requires("see")
def product_page(product: str) -> Any:
    found = _find(product)
    return _product_page(found, found.model_dump(include={"name", "title", "summary", "apis", "visible_to"}), {})


@pages.post("/new")
@pages.post("/<product>")
@requires("edit")
def save_product(product: str = "") -> Any:
    kept = _find(product) if product else None
    typed: dict[str, Any] = {name: request.form.get(name, "").strip() for name in ("name", "title", "summary")}
    typed["apis"] = tuple(request.form.getlist("apis"))
    typed["visible_to"] = tuple(typed_audience())
    if kept is not None:
        typed["name"] = kept.name
    errors = audience_errors(typed["visible_to"])
    if kept is None and draft().product(typed["name"]) is not None:
        errors["name"] = f"there is a product {typed['name']!r} already; choose another name"
    try:
        made = Product.model_validate({**typed, "plans": kept.plans if kept is not None else ()})
    except ValidationError as error:
        errors |= {str(problem.path[0]): problem.message for problem in problems_of(error) if problem.path}
    if errors or request.form.get("act") == "check":
        return _product_page(kept, typed, errors), 422 if errors else 200
    change = drafting.save(db(), acting(), "product", made.name, made, f"saved product {made.title}")
    db().commit()
    done(f"{made.title} is saved in the draft." if change else "Nothing was different.", change)
    return back_to("plans.product_page", product=made.name)


@pages.post("/<product>/remove")
@requires("edit")
def remove_product(product: str) -> Any:
    found = _find(product)
    many = sum(count for (name, _), count in _subscribers().items() if name == product)
    if many:
        refuse(f"{found.title} has {many} subscriptions. End them or move them first.")
        return back_to("plans.product_page", product=product)
    change = drafting.save(db(), acting(), "product", product, None, f"removed product {found.title}")
    db().commit()
    done(f"{found.title} is removed from the draft.", change)
    return back_to("plans.index")


_FIELDS = fields_of(Plan, without=())
SWITCHES = {
    "has_quota": ("quota_calls",),
    "has_tokens": ("token_budget",),
    "ends": ("credential_days",),
    "lasts": ("access_minutes",),
    "costs": (
        "price_monthly",
        "calls_included",
        "price_per_thousand",
        "tokens_included",
        "price_per_thousand_tokens",
        "model_prices",
    ),
}
"""What of a plan is switched on and off, with the fields that are nothing while it is off."""


def _plan_page(product: Product, plan: Plan | None, form: Form, made: Plan | None = None) -> str:
    shown = made or plan
    effects = effect_of(db(), product.name, plan.name, shown) if plan is not None and shown is not None else []
    return render(
        "plans/plan.html",
        product=product,
        plan=plan,
        form=form,
        switched={name: _is_on(form, name) for name in SWITCHES},
        effects=effects,
        audiences=audience_options(),
        places=_places(product),
        means=f"A subscription {shown.in_words()}." if shown is not None else "",
        price=pricing.in_words(shown) if shown is not None else "",
        bill=_bill(shown) if shown is not None else [],
    )


def _places(product: Product) -> list[str]:
    """Lines to start from, for what a plan sets otherwise: the APIs of a product, and their operations."""
    found: list[str] = []
    for name in product.apis:
        api = draft().api(name)
        calls = dict.fromkeys(
            one.call for version in (api.versions if api is not None else ()) for one in version.operations
        )
        found += [f"{name}: 5 per second", *(f"{name} {call}: 5 per second" for call in calls)]
    return found


def _is_on(form: Form, switch: str) -> bool:
    """Whether a switch is on: as it was sent, else where what is behind it is something."""
    if request.method == "POST":
        return switch in request.form
    return any(_amount(form.values.get(name)) for name in SWITCHES[switch])


def _amount(typed: Any) -> bool:
    """Whether a field holds something other than nothing."""
    return str(typed or "").strip() not in ("", "0", "0.00")


def _bill(plan: Plan) -> list[tuple[int, str]]:
    """What some numbers of calls in a month would cost under a plan."""
    step = plan.calls_included or 100_000
    return [(calls, f"{pricing.charge(plan, calls).total} {plan.currency}") for calls in (step, 2 * step, 10 * step)]


@pages.get("/<product>/plan")
@requires("see")
def plan_page(product: str) -> Any:
    found = _find(product)
    plan = found.plan(request.args.get("name", ""))
    values = values_of(plan, _FIELDS) if plan is not None else blank(Plan, _FIELDS)
    return _plan_page(found, plan, Form(_FIELDS, values))


@pages.post("/<product>/plan")
@requires("edit")
def save_plan(product: str) -> Any:
    found = _find(product)
    kept = found.plan(request.form.get("old_name", ""))
    typed = MultiDict(request.form)
    for switch, names in SWITCHES.items():
        if switch not in typed:  # off: what was typed behind it is of no use
            for name in names:
                typed[name] = "" if name == "model_prices" else "0"
    made, form = read_form(Plan, _FIELDS, typed)
    form.values |= {name: request.form[name] for names in SWITCHES.values() for name in names if name in request.form}
    if isinstance(made, Plan) and any(plan.name == made.name and plan is not kept for plan in found.plans):
        form.errors["name"] = f"{found.title} has a plan {made.name!r} already; choose another name"
    many = _subscribers().get((product, kept.name), 0) if kept is not None else 0
    if isinstance(made, Plan) and kept is not None and made.name != kept.name and many:
        form.errors["name"] = f"{many} subscriptions know this plan as {kept.name!r}; keep the name, change the title"
    if isinstance(made, Plan):
        form.errors |= audience_errors(made.visible_to)
    if not isinstance(made, Plan) or form.errors:
        return _plan_page(found, kept, form), 422
    problem = next(filter(None, (part_problem(draft(), found, part) for part in made.parts)), "")
    if problem:
        form.errors["parts"] = problem
    if request.form.get("act") == "check" or problem:
        return _plan_page(found, kept, form, made), 422 if problem else 200
    plans = tuple(made if plan is kept else plan for plan in found.plans)
    if kept is None:
        plans = (*plans, made)
    return _save_plans(found, plans, f"saved plan {made.title} of {found.title}")


@pages.get("/<product>/compare")
@requires("see")
def compare(product: str) -> Any:
    """A product's plans side by side."""
    found = _find(product)
    return render("plans/compare.html", product=found, table=plan_table(found.plans), subscribers=_subscribers())


@pages.post("/<product>/plan/remove")
@requires("edit")
def remove_plan(product: str) -> Any:
    found = _find(product)
    name = request.form.get("name", "")
    many = _subscribers().get((product, name), 0)
    if many:
        refuse(f"{many} subscriptions are on this plan. Move them to another first.")
        return back_to("plans.product_page", product=product)
    plans = tuple(plan for plan in found.plans if plan.name != name)
    return _save_plans(found, plans, f"removed plan {name} of {found.title}")


def _save_plans(product: Product, plans: tuple[Plan, ...], summary: str) -> Any:
    made = product.model_copy(update={"plans": plans})
    change = drafting.save(db(), acting(), "product", product.name, made, summary)
    db().commit()
    done(f"{summary[0].upper()}{summary[1:]}. It applies to subscribers after the next rollout.", change)
    return back_to("plans.product_page", product=product.name)
