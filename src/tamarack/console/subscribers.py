"""Subscribers: organizations, their people and applications, subscriptions and credentials."""

from collections.abc import Callable
from typing import Any

from flask import Blueprint, abort, current_app, request
from sqlmodel import col, select

from tamarack.console.page import acting, back_to, done, environment, refuse, render, requires, running
from tamarack.core.credentials import KIND_TITLES
from tamarack.core.environments import ENVIRONMENTS
from tamarack.core.passwords import password_problem
from tamarack.store import auditing, joining, quotas, subscribers, subscribing, watching
from tamarack.store import credentials as credentials_store
from tamarack.store.application import Application, Subscription
from tamarack.store.join import JoinRequest
from tamarack.store.organization import Organization, Person
from tamarack.store.passwords import hash_password
from tamarack.store.subscribing import NotPossible
from tamarack.web import credential_pages
from tamarack.web.accounts import read_account
from tamarack.web.application import db, settings_of

pages = Blueprint("subscribers", __name__, url_prefix="/subscribers")


@pages.get("/")
@requires("see")
def index() -> Any:
    search = request.args.get("search", "").strip()[:100]
    waiting = (
        select(Subscription, Application, Organization)
        .where(Subscription.application_id == Application.id, Application.organization_id == Organization.id)
        .where(
            (col(Subscription.state) == "pending")
            | ((col(Subscription.next_plan) != "") & col(Subscription.next_at).is_(None))
        )
        .order_by(col(Subscription.made_at))
    )
    found = subscribers.organizations(db(), search)
    requests = db().exec(waiting).all()
    return render(
        "subscribers/index.html",
        organizations=found,
        search=search,
        requests=requests,
        joining=joining.waiting(db()),
        all_organizations=[one for one, _, _ in subscribers.organizations(db())],
    )


def _organization(name: str) -> Organization:
    organization = subscribers.organization_named(db(), name)
    if organization is None:
        abort(404, f"There is no organization {name}.")
    return organization


def _application(id: str) -> tuple[Application, Organization]:
    application = db().get(Application, id)
    organization = db().get(Organization, application.organization_id) if application is not None else None
    if application is None or organization is None:
        abort(404, "There is no such application.")
    return application, organization


@pages.post("/")
@requires("subscribers")
def add_organization() -> Any:
    try:
        made = joining.new_organization(
            db(), acting(), request.form.get("title", ""), request.form.get("kind", "partner")
        )
    except NotPossible as error:
        db().rollback()
        refuse(str(error))
        return back_to("subscribers.index")
    db().commit()
    done(f"{made.title} is added.")
    return back_to("subscribers.organization", name=made.name)


@pages.post("/joining/<id>")
@requires("subscribers")
def decide_joining(id: str) -> Any:
    """Let someone in who signed up, into an organization there is or a new one; or turn them down."""
    wanted = db().get(JoinRequest, id)
    if wanted is None:
        abort(404, "There is no such request.")
    where = request.form.get("organization", "")
    try:
        if request.form.get("act") == "decline":
            joining.decline(db(), acting(), wanted, request.form.get("reason", ""))
            said = f"{wanted.name} is told that the request was declined."
        else:
            known = subscribers.organization_named(db(), where) if where else None
            into = known or joining.new_organization(db(), acting(), wanted.organization)
            address = settings_of(current_app).portal_url
            joining.approve(db(), acting(), wanted, into, request.form.get("role", "member"), address)
            said = f"{wanted.name} is in {into.title}, and is told by mail."
    except NotPossible as error:
        db().rollback()
        refuse(str(error))
    else:
        db().commit()
        done(said)
    return back_to("subscribers.index")


@pages.post("/people/<id>")
@requires("subscribers")
def change_person(id: str) -> Any:
    """Change a person's role, whether they may sign in, or give them a first password anew."""
    person = db().get(Person, id)
    owner = db().get(Organization, person.organization_id) if person is not None else None
    if person is None or owner is None:
        abort(404, "There is no such person.")
    password = request.form.get("password", "")
    try:
        if "password" in request.form:
            problem = password_problem(password, person.email)
            if problem is not None:
                raise NotPossible(f"The password {problem}.")
            joining.set_password(db(), person, password, must_change=True)
            auditing.record(db(), acting(), "set password", person.email)
            said = f"{person.name} can sign in with it, and chooses another first."
        else:
            active = request.form.get("active", "yes" if person.active else "no") == "yes"
            joining.change_person(db(), acting(), person, request.form.get("role", person.role), active)
            said = f"{person.name} is {person.role}{'' if active else ', and may not sign in'}."
    except NotPossible as error:
        db().rollback()
        refuse(str(error))
    else:
        db().commit()
        done(said)
    return back_to("subscribers.organization", name=owner.name)


@pages.get("/<name>")
@requires("see")
def organization(name: str) -> Any:
    return _organization_page(_organization(name), {}, {})


def _organization_page(found: Organization, typed: dict[str, str], errors: dict[str, str]) -> str:
    applications = subscribers.applications_of(db(), found)
    listed = [(one, subscribers.subscriptions_of(db(), one)) for one in applications]
    people = subscribers.people_of(db(), found)
    return render(
        "subscribers/organization.html",
        organization=found,
        people=people,
        applications=listed,
        typed=typed,
        errors=errors,
    )


@pages.post("/<name>/people")
@requires("subscribers")
def add_person(name: str) -> Any:
    found = _organization(name)
    form = read_account(request.form, ("lead", "member"))
    typed = form.typed
    if db().exec(select(Person).where(Person.email == typed["email"])).first() is not None:
        form.errors["email"] = f"{typed['email']} has an account already"
    if form.errors:
        return _organization_page(found, typed, form.errors), 422
    db().add(
        Person(
            organization_id=found.id,
            email=typed["email"],
            name=typed["name"],
            role=typed["role"],
            password_hash=hash_password(form.password),
            must_change_password=True,
        )
    )
    auditing.record(db(), acting(), "add person", typed["email"], organization=name)
    db().commit()
    done(f"{typed['name']} can sign in to the portal, and chooses a password of their own first.")
    return back_to("subscribers.organization", name=name)


@pages.post("/<name>/active")
@requires("subscribers")
def set_organization_active(name: str) -> Any:
    found = _organization(name)
    active = request.form.get("active") == "yes"
    subscribing.set_organization_active(db(), acting(), found, active)
    db().commit()
    done(f"{found.title} may call again." if active else f"{found.title} is paused: its calls are refused from now on.")
    return back_to("subscribers.organization", name=name)


@pages.get("/applications/<id>")
@requires("see")
def application(id: str) -> Any:
    found, owner = _application(id)
    credentials = credential_pages.listed(subscribers.credentials_of(db(), found))
    shown = credential_pages.take_new()
    where = environment()
    subscriptions = subscribers.subscriptions_of(db(), found)
    offers = {where: running(where)[1] for where in ENVIRONMENTS}
    plans = {one.id: product.plans if (product := offers[one.environment].product(one.product)) is not None else ()
             for one in subscriptions}  # fmt: skip
    used = {one.id: quotas.use_of(db(), one, next((plan for plan in plans[one.id] if plan.name == one.plan), None))
            for one in subscriptions}  # fmt: skip
    recent = watching.calls(
        db(), watching.CallFilter(environment=where, organization=owner.name, application=found.name), most=12
    )
    return render(
        "subscribers/application.html",
        application=found,
        organization=owner,
        credentials=credentials,
        new_key=shown if shown is not None and any(one.id == shown["id"] for one, _ in credentials) else None,
        titles=KIND_TITLES,
        subscriptions=subscriptions,
        plans=plans,
        used=used,
        recent=recent,
        states=subscribing.STATES,
    )


@pages.post("/applications/<id>/active")
@requires("subscribers")
def set_application_active(id: str) -> Any:
    found, _ = _application(id)
    active = request.form.get("active") == "yes"
    subscribing.set_application_active(db(), acting(), found, active)
    db().commit()
    done(f"{found.title} may call again." if active else f"{found.title} is paused: its calls are refused from now on.")
    return back_to("subscribers.application", id=id)


@pages.post("/applications/<id>/subscriptions/<subscription>")
@requires("subscribers")
def set_subscription_state(id: str, subscription: str) -> Any:
    found = _subscription(id, subscription)
    try:
        subscribing.set_subscription_state(
            db(), acting(), found, request.form.get("state", ""), request.form.get("reason", "")
        )
    except (NotPossible, KeyError) as error:
        db().rollback()
        refuse(str(error))
    else:
        db().commit()
        done(f"The subscription to {found.product} is {found.state}.")
    return back_to("subscribers.application", id=id)


def _subscription(id: str, subscription: str) -> Subscription:
    found = db().get(Subscription, subscription)
    if found is None or found.application_id != id:
        abort(404, "There is no such subscription.")
    return found


@pages.post("/applications/<id>/subscriptions/<subscription>/plan")
@requires("subscribers")
def change_plan(id: str, subscription: str) -> Any:
    """Move a subscription to another plan now or at the period's end, or drop a change that waits."""
    found = _subscription(id, subscription)
    offered = running(found.environment)[1]
    try:
        if request.form.get("act") == "keep":
            subscribing.keep_plan(db(), acting(), found)
            said = f"The subscription stays on {found.plan}."
        else:
            later = request.form.get("when") == "period end"
            subscribing.change_plan(db(), acting(), offered, found, request.form.get("plan", ""), later)
            said = (
                f"The subscription changes to {found.next_plan} on {found.next_at:%d %B %Y at %H:%M} UTC."
                if found.next_at is not None
                else f"The subscription is on {found.plan} now; nodes know within a second."
            )
    except NotPossible as error:
        db().rollback()
        refuse(str(error))
    else:
        db().commit()
        done(said)
    return back_to("subscribers.application", id=id)


@pages.post("/applications/<id>/subscriptions/<subscription>/quota")
@requires("subscribers")
def change_quota(id: str, subscription: str) -> Any:
    """Begin a quota's count anew, or grant calls on top for the running period."""
    found = _subscription(id, subscription)
    reason = request.form.get("reason", "")
    typed = request.form.get("calls", "").replace(" ", "")
    try:
        if request.form.get("act") == "reset":
            quotas.reset(db(), acting(), found, reason)
            said = "The quota's count begins anew; nodes know within a second."
        elif not typed.isdigit():
            raise NotPossible(f"{typed!r} is no number of calls; give a whole number.")
        else:
            granted = quotas.extend(db(), acting(), found, int(typed), reason)
            said = f"{granted:,} calls are granted on top for this period; nodes know within a second."
    except NotPossible as error:
        db().rollback()
        refuse(str(error))
    else:
        db().commit()
        done(said)
    return back_to("subscribers.application", id=id)


@pages.post("/applications/<id>/groups")
@requires("subscribers")
def set_application_groups(id: str) -> Any:
    found, _ = _application(id)
    return _set_groups(lambda typed: subscribing.set_application_groups(db(), acting(), found, typed), found.title,
                       back_to("subscribers.application", id=id))  # fmt: skip


@pages.post("/<name>/groups")
@requires("subscribers")
def set_organization_groups(name: str) -> Any:
    found = _organization(name)
    return _set_groups(lambda typed: subscribing.set_organization_groups(db(), acting(), found, typed), found.title,
                       back_to("subscribers.organization", name=name))  # fmt: skip


def _set_groups(change: Callable[[list[str]], None], title: str, back: Any) -> Any:
    try:
        change(request.form.get("groups", "").replace(",", " ").split())
    except NotPossible as error:
        db().rollback()
        refuse(str(error))
        return back
    db().commit()
    done(f"The groups of {title} are set; nodes know within a second.")
    return back


@pages.post("/<name>/second-look")
@requires("subscribers")
def set_may_look_again(name: str) -> Any:
    """Allow, or forbid, looking at credentials again; forbidding removes what was kept."""
    found = _organization(name)
    allowed = request.form.get("allowed") == "yes"
    subscribing.set_may_look_again(db(), acting(), found, allowed)
    forgotten = 0 if allowed else credentials_store.forget_values(db(), found)
    db().commit()
    if allowed:
        done(f"{found.title} may look again at credentials that it makes from now on.")
    else:
        done(f"{found.title} may look no more; {forgotten} kept values are removed.")
    return back_to("subscribers.organization", name=name)
