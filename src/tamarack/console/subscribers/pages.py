"""Subscribers: organizations, their people and applications, subscriptions and credentials."""

from collections.abc import Callable
from typing import Any

from flask import Blueprint, abort, request
from sqlmodel import select

from tamarack.console.page import act, acting, back_to, done, environment, refuse, render, requires, running
from tamarack.console.subscribers.lists import A_PAGE, filters_of, listed, waiting
from tamarack.core.identity.credentials import KIND_TITLES
from tamarack.core.identity.passwords import password_problem
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials as credentials_store
from tamarack.store.applications import lists as subscriber_lists
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications import sharing
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.audit import log as auditing
from tamarack.store.errors import NotPossible
from tamarack.store.joining import queries as joining
from tamarack.store.people.passwords import hash_password
from tamarack.store.people.tables import Organization, Person
from tamarack.store.quotas import queries as quotas
from tamarack.store.traffic import overview as watching
from tamarack.web.application import db, environments
from tamarack.web.changing import keep_typed
from tamarack.web.numbers import whole
from tamarack.web.paging import Paging
from tamarack.web.people import credential_pages
from tamarack.web.people.accounts import read_account

pages = Blueprint("subscribers", __name__, url_prefix="/subscribers")


@pages.get("/")
@requires("see")
def index() -> Any:
    filters = filters_of("kind", "state")
    rows, paging = listed(subscriber_lists.organizations, filters)
    return render("subscribers/index.html", tab="organizations", organizations=rows, paging=paging, filters=filters,
                  waiting=waiting())  # fmt: skip


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
        keep_typed()
        return back_to("subscribers.index")
    db().commit()
    done(f"{made.title} is added.")
    return back_to("subscribers.organization", name=made.name)


@pages.post("/people/<id>")
@requires("subscribers")
def change_person(id: str) -> Any:
    """Change a person's role, whether they may sign in, or give them a first password anew."""
    person = db().get(Person, id)
    owner = db().get(Organization, person.organization_id) if person is not None else None
    if person is None or owner is None:
        abort(404, "There is no such person.")
    if "password" in request.form:
        act(lambda: _set_password(person, request.form["password"]),
            f"{person.name} can sign in with it, and will choose another first.")  # fmt: skip
    else:
        role = request.form.get("role", person.role)
        active = request.form.get("active", "yes" if person.active else "no") == "yes"
        act(lambda: joining.change_person(db(), acting(), person, role, active),
            lambda: f"{person.name} is {person.role}{'' if active else ', and may not sign in'}.")  # fmt: skip
    return back_to("subscribers.organization", name=owner.name)


def _set_password(person: Person, password: str) -> None:
    problem = password_problem(password, person.email)
    if problem is not None:
        raise NotPossible(f"The password {problem}.")
    joining.set_password(db(), person, password, must_change=True)
    auditing.record(db(), acting(), "set password", person.email)


@pages.get("/<name>")
@requires("see")
def organization(name: str) -> Any:
    return _organization_page(_organization(name), {}, {})


def _organization_page(found: Organization, typed: dict[str, str], errors: dict[str, str]) -> str:
    applications, people = subscribers.applications_of(db(), found), subscribers.people_of(db(), found)
    of_applications = Paging.of_request(len(applications), A_PAGE, "applications")
    of_people = Paging.of_request(len(people), A_PAGE, "people")
    rows = [(one, subscribers.subscriptions_of(db(), one)) for one in of_applications.cut(applications)]
    return render(
        "subscribers/organization.html",
        organization=found,
        people=of_people.cut(people),
        applications=rows,
        of_people=of_people,
        of_applications=of_applications,
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
    done(f"{typed['name']} can sign in to the portal, and will choose their own password first.")
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
    of_credentials = Paging.of_request(len(credentials), A_PAGE, "credentials")
    shown = credential_pages.take_new()
    where = environment()
    subscriptions = subscribers.subscriptions_of(db(), found)
    offers = {where: running(where)[1] for where in environments()}
    plans = {one.id: product.plans if (product := offers[one.environment].product(one.product)) is not None else ()
             for one in subscriptions}  # fmt: skip
    held = {one.id: next((plan for plan in plans[one.id] if plan.name == one.plan), None) for one in subscriptions}
    used = {one.id: quotas.use_of(db(), one, held[one.id]) for one in subscriptions}
    tokens = {one.id: quotas.tokens_of(db(), one, held[one.id]) for one in subscriptions}
    recent = watching.calls(
        db(), watching.call_filter(environment=where, organization=owner.name, application=found.name), most=12
    )
    return render(
        "subscribers/application.html",
        people=[one for one in subscribers.people_of(db(), owner) if one.role != "lead" and one.active],
        shared={one.id for one in sharing.shared_with(db(), found)},
        offers={where: offers[where].products for where in environments()},
        application=found,
        organization=owner,
        credentials=of_credentials.cut(credentials),
        of_credentials=of_credentials,
        new_key=shown if shown is not None and any(one.id == shown["id"] for one, _ in credentials) else None,
        titles=KIND_TITLES,
        subscriptions=subscriptions,
        plans=plans,
        used=used,
        tokens=tokens,
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
    wanted = request.form.get("state", "")
    act(lambda: subscribing.set_subscription_state(db(), acting(), found, wanted, request.form.get("reason", "")),
        f"The subscription to {found.product} is {wanted}.")  # fmt: skip
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
    if request.form.get("act") == "keep":
        act(lambda: subscribing.keep_plan(db(), acting(), found), lambda: f"The subscription stays on {found.plan}.")
        return back_to("subscribers.application", id=id)
    wanted, later = request.form.get("plan", ""), request.form.get("when") == "period end"
    act(lambda: subscribing.change_plan(db(), acting(), offered, found, wanted, later), lambda: _changed(found))
    return back_to("subscribers.application", id=id)


def _changed(subscription: Subscription) -> str:
    """What came of a change of plan, in words."""
    if subscription.next_at is not None:
        when = f"{subscription.next_at:%d %B %Y at %H:%M} UTC"
        return f"The subscription changes to {subscription.next_plan} on {when}."
    return f"The subscription is on {subscription.plan} now; nodes know within a second."


@pages.post("/applications/<id>/subscriptions/<subscription>/quota")
@requires("subscribers")
def change_quota(id: str, subscription: str) -> Any:
    """Begin a quota's count anew, or grant calls on top for the running period."""
    found = _subscription(id, subscription)
    reason = request.form.get("reason", "")
    typed = request.form.get("calls", "").replace(" ", "")
    if request.form.get("act") == "reset":
        act(lambda: quotas.reset(db(), acting(), found, reason),
            "The quota's count is reset; nodes know within a second.")  # fmt: skip
    elif (calls := whole(typed)) is None:
        refuse(f"{typed!r} is not a number of calls; give a whole number.")
        keep_typed()
    else:
        act(lambda: quotas.extend(db(), acting(), found, calls, reason),
            f"{calls:,} calls are granted on top for this period; nodes know within a second.")  # fmt: skip
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
    typed = request.form.get("groups", "").replace(",", " ").split()
    act(lambda: change(typed), f"The groups of {title} are set; nodes know within a second.")
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
        done(f"{found.title} may look again at credentials made from now on.")
    else:
        done(f"{found.title} may no longer look at credentials; {forgotten} kept values are removed.")
    return back_to("subscribers.organization", name=name)
