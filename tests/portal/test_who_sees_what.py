"""Who sees what in the portal: every page as every role and as a stranger, and nothing of what is not for them."""

import re
from collections.abc import Iterator

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from helpers import sign_in
from tamarack.core.identity.permissions import PORTAL_ROLES
from tamarack.store.announcements import queries as announcing
from tamarack.store.announcements.tables import Announcement
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications import sharing
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.draft import queries as drafting
from tamarack.store.people.tables import Person
from tamarack.store.rollouts import queries as rolling

LEAD = ("m.tern@tern-trips.example", "island-hopper-52")
MEMBER = ("j.gale@tern-trips.example", "north-breeze-64")
OTHER = ("r.crate@kelp-crate.example", "manifest-box-75")
INTERNAL = ("a.quay@skerry.example", "counter-desk-88")

PUBLIC = {
    "sign_in.form", "sign_in.sign_in", "sign_in.sign_out", "static", "health", "look.style", "look.logo",
    "pictures.picture", "catalogue.index", "reference.page", "reference.operation", "reference.documentation",
    "reference.changes", "reference.document", "reference.schema", "reasons.index", "reasons.page", "joining.form", "joining.sign_up",
    "joining.confirm", "joining.confirm_form", "joining.invitation", "joining.take_up", "joining.forgot",
    "joining.forgot_form", "joining.reset", "joining.reset_form",
}  # fmt: skip
"""What strangers may open; a picture is still only for those who look after its application."""


def routes(client: FlaskClient, values: dict[str, str]) -> list[tuple[str, str, str, str]]:
    """Endpoint, method, path, and the permission that its view asks for."""
    app = client.application
    found = []
    for rule in app.url_map.iter_rules():
        for method in sorted((rule.methods or set()) - {"HEAD", "OPTIONS"}):
            path = re.sub(r"<(?:\w+:)?(\w+)>", lambda part: values.get(part[1], "x"), rule.rule)
            found.append((rule.endpoint, method, path, getattr(app.view_functions[rule.endpoint], "permission", "")))
    return found


@pytest.fixture
def planner(world: Session) -> Application:
    """An application of Tern Trips with a subscription, shared with nobody."""
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    made = subscribing.make_application(world, COMMAND_LINE, owner, "Night Planner")
    offered = rolling.running_configuration(world, "production")
    subscribing.subscribe(world, COMMAND_LINE, offered, made, "passage", "skiff", "production")
    world.commit()
    return made


@pytest.fixture
def values(world: Session, planner: Application) -> Iterator[dict[str, str]]:
    """What stands in the addresses of the table: real things, so that a 404 means hidden."""
    subscription = world.exec(select(Subscription)).one()
    yield {"api": "sailings", "version": "2", "id": planner.id, "subscription": subscription.id, "ending": "json",
           "name": "first-steps", "code": "over-plan", "number": "1"}  # fmt: skip


def test_every_route_says_what_it_takes_or_is_public(portal: FlaskClient) -> None:
    for endpoint, _, path, permission in routes(portal, {}):
        assert permission or endpoint in PUBLIC or endpoint.startswith("joining."), f"{path} asks for nothing"
        assert not permission or any(permission in allowed for allowed in PORTAL_ROLES.values())


def test_a_stranger_is_sent_to_sign_in(portal: FlaskClient, values: dict[str, str]) -> None:
    for _, method, path, permission in routes(portal, values):
        if permission:
            answer = portal.open(path, method=method)
            assert (answer.status_code, answer.location.startswith("/sign-in")) == (302, True), f"{method} {path}"


@pytest.mark.parametrize(("who", "role"), [(LEAD, "lead"), (MEMBER, "member")])
def test_each_role_opens_what_it_may_and_is_refused_the_rest(
    portal: FlaskClient, world: Session, values: dict[str, str], planner: Application, who: tuple[str, str], role: str
) -> None:
    member = world.exec(select(Person).where(Person.email == MEMBER[0])).one()
    sharing.share_with(world, COMMAND_LINE, planner, member)
    world.commit()
    sign_in(portal, *who)
    for endpoint, method, path, permission in routes(portal, values):
        if not permission or endpoint == "own_password.change":
            continue
        answer = portal.open(path, method=method)
        if permission in PORTAL_ROLES[role]:
            assert answer.status_code not in (403, 500), f"{method} {path}: {answer.status_code}"
        else:
            assert answer.status_code == 403, f"{method} {path}: {answer.status_code}"


@pytest.mark.parametrize("who", [MEMBER, OTHER, INTERNAL])
def test_an_application_that_is_not_shared_is_as_if_it_were_not_there(
    portal: FlaskClient, world: Session, values: dict[str, str], planner: Application, who: tuple[str, str]
) -> None:
    sign_in(portal, *who)
    for _, method, path, _ in routes(portal, values):
        if path.startswith(f"/applications/{planner.id}"):
            assert portal.open(path, method=method).status_code == 404, f"{method} {path}"
    assert "Night Planner" not in portal.get("/applications/").text
    assert "Night Planner" not in portal.get("/apis/sailings/2/").text
    subscribing.set_application_active(world, COMMAND_LINE, planner, False)
    world.commit()
    for page in ("/notices/", "/team/"):
        assert "Night Planner" not in portal.get(page).text
    assert "Night Planner" not in portal.get("/apis/sailings/2/subscribe").text
    tried = {"call": "get /ports", "caller": planner.id, "environment": "production"}
    assert portal.post("/apis/sailings/2/try", data=tried).status_code == 404
    form = {"application": planner.id, "plan": "fleet/skiff", "environment": "production"}
    assert portal.post("/apis/positions/1/subscribe", data=form).status_code == 404
    world.expire_all()
    assert len(world.exec(select(Subscription)).all()) == 1


def hide(
    session: Session, api: tuple[str, ...] = (), product: tuple[str, ...] = (), plan: tuple[str, ...] = ()
) -> None:
    """Roll out with Sailings, its product and its free plan seen by these only."""
    draft = drafting.load_configuration(session)
    found, package = draft.api("sailings"), draft.product("passage")
    assert found is not None
    assert package is not None
    drafting.save(session, COMMAND_LINE, "api", "sailings", found.model_copy(update={"visible_to": api}), "hidden")
    plans = tuple(p.model_copy(update={"visible_to": plan}) if p.name == "skiff" else p for p in package.plans)
    changed = package.model_copy(update={"visible_to": product, "plans": plans})
    drafting.save(session, COMMAND_LINE, "product", "passage", changed, "hidden")
    for environment in ("test", "production"):
        rolling.roll_out(session, COMMAND_LINE, environment)
    running = rolling.running_configuration(session, "production")
    announcing.announce(session, COMMAND_LINE, running, "sailings", "", "Winter timetable", "It is *here*.", "everyone",
                        mail=False, portal="")  # fmt: skip
    session.commit()


SAILINGS = (
    "/apis/sailings/2/", "/apis/sailings/2/operation?call=get /sailings",
    "/apis/sailings/2/pages/first-steps", "/apis/sailings/2/changes", "/apis/sailings/2/openapi.json",
    "/apis/sailings/2/subscribe",
)  # fmt: skip


@pytest.mark.parametrize(
    ("audience", "who", "sees"),
    [
        (("internal",), None, False),
        (("internal",), OTHER, False),
        (("internal",), INTERNAL, True),
        (("kelp-and-crate",), OTHER, True),
        (("kelp-and-crate",), INTERNAL, False),
        (("organizations",), None, False),
        (("organizations",), OTHER, True),
    ],
)
def test_a_hidden_api_is_found_on_no_page(
    portal: FlaskClient, world: Session, audience: tuple[str, ...], who: tuple[str, str] | None, sees: bool
) -> None:
    hide(world, api=audience)
    if who is not None:
        sign_in(portal, *who)
    for path in SAILINGS:
        if path.endswith("/subscribe") and who is None:
            continue
        assert (portal.get(path).status_code == 200) == sees, path
    assert ("Timetable and live departures" in portal.get("/").text) == sees
    found = portal.get("/?search=departures").text
    assert ("Live departures of a port" in found) == sees
    assert ("/apis/sailings" in found) == sees
    if who is not None:
        assert ("Winter timetable" in portal.get("/notices/").text) == sees
        form = {"application": "", "title": "Peek", "plan": "passage/skiff", "environment": "production"}
        assert (portal.post("/apis/sailings/2/subscribe", data=form).status_code == 303) == sees
        call = {"call": "get /ports", "caller": "nothing", "environment": "production"}
        assert (portal.post("/apis/sailings/2/try", data=call).status_code == 200) == sees


def test_a_hidden_product_or_plan_is_not_offered(portal: FlaskClient, world: Session) -> None:
    hide(world, plan=("internal",))
    sign_in(portal, *OTHER)
    assert "Skiff" not in portal.get("/apis/sailings/2/subscribe").text
    form = {"application": "", "title": "Peek", "plan": "passage/skiff", "environment": "production"}
    refused = portal.post("/apis/sailings/2/subscribe", data=form)
    assert (refused.status_code, "is not offered" in refused.text) == (422, True)
    hide(world, product=("internal",))
    assert "not offered in a plan yet" in portal.get("/apis/sailings/2/").text
    assert portal.post("/apis/sailings/2/subscribe", data=form | {"plan": "passage/cutter"}).status_code == 422
    assert world.exec(select(Subscription)).first() is None


def test_whoever_is_subscribed_goes_on_seeing_it_but_subscribes_no_more(
    portal: FlaskClient, world: Session, planner: Application
) -> None:
    hide(world, api=("internal",), product=("internal",), plan=("internal",))
    sign_in(portal, *LEAD)
    assert portal.get("/apis/sailings/2/").status_code == 200
    page = portal.get(f"/applications/{planner.id}").text
    assert "Skiff" in page
    assert "/apis/sailings/2/" in page
    form = {"application": "", "title": "Second", "plan": "passage/skiff", "environment": "production"}
    assert portal.post("/apis/sailings/2/subscribe", data=form).status_code == 422
    one = world.exec(select(Subscription)).one()
    subscribing.set_subscription_state(world, COMMAND_LINE, one, "ended")
    world.commit()
    assert portal.get("/apis/sailings/2/").status_code == 404


def test_an_announcement_for_subscribers_is_read_by_them_alone(
    portal: FlaskClient, world: Session, planner: Application
) -> None:
    running = rolling.running_configuration(world, "production")
    announcing.announce(world, COMMAND_LINE, running, "sailings", "1", "The old one ends", "Soon.", "subscribers",
                        mail=True, portal="http://portal.example")  # fmt: skip
    world.commit()
    assert "The old one ends" not in portal.get("/apis/sailings/2/changes").text
    sign_in(portal, *OTHER)
    assert "The old one ends" not in portal.get("/apis/sailings/2/changes").text
    assert "The old one ends" not in portal.get("/notices/").text
    portal.post("/sign-out")
    sign_in(portal, *LEAD)
    assert "The old one ends" in portal.get("/apis/sailings/2/changes").text
    assert "The old one ends" in portal.get("/notices/").text
    assert world.exec(select(Announcement)).one().mailed == 1
