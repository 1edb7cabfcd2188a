"""The portal: finding, reading, subscribing, keys; and that nobody sees another's."""

import re
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psycopg
import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from certificates import Authority
from core.traffic.test_traffic import record
from helpers import sign_in
from tamarack.core.environments.environment import Environment
from tamarack.core.identity.credentials import digest
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Application, Credential, Subscription
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.draft import queries as drafting
from tamarack.store.environments import queries as environments
from tamarack.store.rollouts import queries as rolling
from tamarack.store.traffic.recording import Batch, take_in

FORM = {"application": "", "title": "Night Planner", "plan": "passage/skiff", "environment": "production"}
SUBSCRIBE = "/apis/sailings/2/subscribe"


def test_a_stranger_reads_the_catalogue_and_the_reference(portal: FlaskClient) -> None:
    page = portal.get("/").text
    assert "Sailings" in page
    assert "deprecated" not in page  # hidden from who is not subscribed
    assert "Fares" in portal.get("/?search=tariffs").text
    assert "Nothing matches" in portal.get("/?search=submarine").text
    front = portal.get("/apis/sailings/2/").text
    for words in ("Find sailings by day and ports", "open to anyone", "shows a key in the header"):
        assert words in front
    operation = portal.get("/apis/sailings/2/operation?call=get /sailings").text
    for words in ("x-skerry-key: YOUR-KEY", "SailingList", "needs a subscription in force", "unknown-credential"):
        assert words in operation
    assert portal.get("/apis/sailings/2/operation?call=get /nowhere").status_code == 404
    assert portal.get("/reasons/over-plan").status_code == 200
    filled = portal.get("/reasons/no-credential?api=sailings&version=2&operation=get /sailings&call=x").text
    for words in ("shows a key in the header", "x-skerry-key: YOUR-KEY", "/sailings/v2/sailings"):
        assert words in filled, "a problem's instance leads to the page on its reason, filled in"
    assert "x-skerry-key" not in portal.get("/reasons/no-credential?api=berths&version=1&operation=get /berths").text
    assert portal.get("/reasons/no-such-reason").status_code == 404


@pytest.mark.parametrize("path", ["/applications/", SUBSCRIBE])
def test_a_stranger_signs_in_first_and_comes_back(portal: FlaskClient, path: str) -> None:
    answer = portal.get(path)
    assert answer.status_code == 302
    signed = portal.post(
        "/sign-in", data={"email": "m.tern@tern-trips.example", "password": "island-hopper-52", "next": path}
    )
    assert signed.location == path


def test_staff_have_no_way_into_the_portal_and_people_none_into_the_console(
    portal: FlaskClient, console: FlaskClient
) -> None:
    assert (
        portal.post("/sign-in", data={"email": "i.marsh@skerry.example", "password": "larch-gold-41"}).status_code
        == 422
    )
    assert (
        console.post(
            "/sign-in", data={"email": "m.tern@tern-trips.example", "password": "island-hopper-52"}
        ).status_code
        == 422
    )


def test_subscribing_makes_application_subscription_and_key_and_shows_the_key_once(
    lead: FlaskClient, session: Session, settings: Settings
) -> None:
    answer = lead.post(SUBSCRIBE, data=FORM)
    assert answer.status_code == 303
    page = lead.get(answer.location).text
    key = re.search(r'<pre id="key">(tmk_\w+)</pre>', page)
    assert key is not None
    assert f"x-skerry-key: {key[1]}" in page.replace("&#39;", "'")
    assert key[1] not in lead.get(answer.location).text
    kept = session.exec(select(Credential)).one()
    assert kept.digest == digest(key[1].encode(), settings.keys.raw("pepper"))
    assert key[1] not in str(kept)
    cookie = lead.get_cookie("tamarack_portal")
    assert cookie is not None
    assert key[1] not in cookie.value
    assert session.exec(select(Subscription)).one().state == "active"


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"title": ""}, "is missing; give it 1 to 80"),
        ({"plan": "passage/yacht"}, "is not offered"),
        ({"plan": ""}, "is not offered"),
        ({"environment": "moon"}, "is not offered in"),
    ],
)
def test_a_subscription_that_cannot_be_keeps_what_was_typed(
    lead: FlaskClient, session: Session, changes: dict[str, str], words: str
) -> None:
    answer = lead.post(SUBSCRIBE, data=FORM | {"message": "for the night boats"} | changes)
    assert answer.status_code == 422
    assert words in answer.text
    assert "for the night boats" in answer.text
    assert session.exec(select(Application)).first() is None


def test_a_plan_by_approval_waits_for_staff(lead: FlaskClient, admin: FlaskClient, world: Session) -> None:
    product = drafting.load_configuration(world).product("passage")
    assert product is not None
    plans = (product.plans[0].model_copy(update={"approval": "person"}), *product.plans[1:])
    drafting.save(world, COMMAND_LINE, "product", "passage", product.model_copy(update={"plans": plans}), "by approval")
    rolling.roll_out(world, COMMAND_LINE, "production")
    world.commit()
    assert "approve it" in lead.post(SUBSCRIBE, data=FORM | {"message": "please"}, follow_redirects=True).text
    requests = admin.get("/subscribers/requests/").text
    assert "please" in requests
    approve = re.search(r'action="(/subscribers/requests/\w+)"', requests)
    assert approve is not None
    admin.post(approve[1], data={"act": "approve"})
    world.expire_all()
    assert world.exec(select(Subscription)).one().state == "active"
    assert (
        "This request is no longer open"
        in admin.post(approve[1], data={"state": "pending"}, follow_redirects=True).text
    )


def test_keys_are_made_revoked_and_tell_their_state(lead: FlaskClient, session: Session) -> None:
    page = lead.post(SUBSCRIBE, data=FORM).location
    made = lead.post(f"{page}/credentials/", data={"environment": "test", "label": "ci"}, follow_redirects=True).text
    assert 'id="key"' in made
    key = session.exec(select(Credential).where(Credential.label == "ci")).one()
    assert "is revoked" in lead.post(f"{page}/credentials/{key.id}", data={"act": "revoke"}, follow_redirects=True).text
    session.expire_all()
    assert session.exec(select(Credential).where(Credential.label == "ci")).one().revoked_at is not None
    assert lead.post(f"{page}/credentials/", data={"environment": "moon"}).status_code == 400
    assert (
        "is ended"
        in lead.post(
            f"{page}/subscriptions/{session.exec(select(Subscription)).one().id}/end", follow_redirects=True
        ).text
    )


def test_people_make_credentials_of_their_own_kinds_with_restrictions(lead: FlaskClient, session: Session) -> None:
    page = lead.post(SUBSCRIBE, data=FORM).location
    form = lead.get(f"{page}/credentials/new?kind=client-secret").text
    assert '<option value="client-secret" selected>' in form
    assert "outside-identity" not in form  # whose outside names are whose is for staff to say
    typed = {
        "kind": "signed-key",
        "environment": "production",
        "expires_on": "2027-06-30",
        "sites": "https://a.example",
    }
    shown = lead.post(f"{page}/credentials/", data=typed, follow_redirects=True).text
    assert re.search(r'id="key">eyJ[\w-]+\.[\w-]+\.[\w-]+<', shown)
    signed = session.exec(select(Credential).where(Credential.kind == "signed-key")).one()
    assert signed.sites == ["https://a.example"]
    one = f"{page}/credentials/{signed.id}"
    assert "https://a.example" in lead.get(one).text
    later = {"act": "change", "label": "screen", "expires_on": "2028-06-30"}
    assert "moved forward, not back" in lead.post(one, data=later).text
    rotated = lead.post(one, data={"act": "rotate", "overlap": "24"}, follow_redirects=True).text
    assert "ends after the overlap" in rotated
    assert "rotated: its successor" in lead.get(one).text
    outside = typed | {"kind": "outside-identity", "name": "x"}
    assert lead.post(f"{page}/credentials/", data=outside).status_code == 400
    bad = lead.post(f"{page}/credentials/", data=typed | {"sites": "*", "label": "kept"})
    assert (bad.status_code, 'value="kept"' in bad.text) == (422, True)
    assert "was not kept" in lead.post(one, data={"act": "look"}).text


def test_people_make_a_credential_of_their_own_certificate_and_of_no_name(
    lead: FlaskClient, session: Session, tmp_path: Path
) -> None:
    authority = Authority(tmp_path)
    page = lead.post(SUBSCRIBE, data=FORM).location
    pem = authority.sign("own.pem", "ferry.tern.example").read_text()
    typed = {"kind": "certificate", "environment": "production", "label": "ferry"}
    for wrong, words in ((pem, "keep keys in the secret store"), ("dns:bank.example", "given to an application by the"),
                         ("x", "no name of a certificate"), ("", "no name")):  # fmt: skip
        answer = lead.post(f"{page}/credentials/", data=typed | {"certificate": wrong})
        assert (answer.status_code, words in answer.text, 'value="ferry"' in answer.text) == (422, True, True), wrong
    own = pem.partition("-----BEGIN PRIVATE")[0]
    assert lead.post(f"{page}/credentials/", data=typed | {"certificate": own}).status_code == 303
    made = session.exec(select(Credential).where(Credential.kind == "certificate")).one()
    assert made.public == "CN=ferry.tern.example"
    assert made.hint.startswith("SHA-256 ")
    assert made.expires_at is not None and made.expires_at < datetime.now(UTC) + timedelta(days=2)
    again = lead.post(f"{page}/credentials/", data=typed | {"certificate": own})
    assert "is already an identity of Night Planner" in again.text
    rotated = lead.post(f"{page}/credentials/{made.id}", data={"act": "rotate", "overlap": "24"})
    assert "no value of its own to rotate" in rotated.text


def test_an_environment_is_offered_where_that_is_said_or_staff_subscribed_to_it(
    lead: FlaskClient, session: Session
) -> None:
    made = Environment(name="staging")
    environments.make(session, COMMAND_LINE, made)
    rolling.lock(session)
    running = rolling.running_configuration(session, "test")
    rolling.roll_out_this(session, COMMAND_LINE, "staging", running, "")
    session.commit()
    page = lead.post(SUBSCRIBE, data=FORM).location
    key = {"kind": "api-key", "environment": "staging"}
    assert 'value="staging"' not in lead.get(SUBSCRIBE).text
    assert lead.post(SUBSCRIBE, data=FORM | {"environment": "staging"}).status_code == 422
    assert "staging" not in lead.get("/apis/sailings/2/openapi.json").text
    assert lead.post(f"{page}/credentials/", data=key).status_code == 400
    application = session.exec(select(Application).where(Application.title == "Night Planner")).one()
    subscribing.subscribe(session, COMMAND_LINE, running, application, "passage", "skiff", "staging")
    session.commit()
    assert lead.post(f"{page}/credentials/", data=key).status_code == 303
    assert "<option>staging</option>" in lead.get(page).text
    environments.change(session, COMMAND_LINE, made.model_copy(update={"on_portal": True}))
    session.commit()
    assert 'value="staging"' in lead.get(SUBSCRIBE).text


def test_another_organizations_things_are_as_if_they_were_not_there(lead: FlaskClient, session: Session) -> None:
    page = lead.post(SUBSCRIBE, data=FORM).location
    key, subscription = session.exec(select(Credential)).one(), session.exec(select(Subscription)).one()
    stranger = sign_in(lead.application.test_client(), "r.crate@kelp-crate.example", "manifest-box-75")
    assert stranger.get(page).status_code == 404
    for path in ("credentials/", f"credentials/{key.id}", f"subscriptions/{subscription.id}/end"):
        assert stranger.post(f"{page}/{path}", data={"environment": "test"}).status_code == 404
    own = stranger.post(SUBSCRIBE, data=FORM | {"title": "Mine"}).location
    assert stranger.post(f"{own}/credentials/{key.id}").status_code == 404
    taken = stranger.post(SUBSCRIBE, data=FORM | {"application": page.rpartition("/")[2]})
    assert taken.status_code == 404
    assert "Night Planner" not in stranger.get("/applications/").text


def test_the_portal_offers_what_runs_not_what_is_drafted(portal: FlaskClient, world: Session) -> None:
    api = drafting.load_configuration(world).api("fares")
    assert api is not None
    drafting.save(world, COMMAND_LINE, "api", "fares", api.model_copy(update={"title": "Prices"}), "renamed")
    world.commit()
    assert "Prices" not in portal.get("/").text
    rolling.roll_out(world, COMMAND_LINE, "production")
    world.commit()
    assert "Prices" in portal.get("/").text


def test_staff_pause_an_application_and_revoke_its_key(lead: FlaskClient, admin: FlaskClient, session: Session) -> None:
    lead.post(SUBSCRIBE, data=FORM)
    application = session.exec(select(Application)).one()
    page = f"/subscribers/applications/{application.id}"
    assert "Night Planner" in admin.get(page).text
    admin.post(f"{page}/active", data={"active": "no"})
    assert "paused by the platform team" in lead.get(f"/applications/{application.id}").text
    key = session.exec(select(Credential)).one()
    admin.post(f"{page}/credentials/{key.id}", data={"act": "revoke"})
    assert "revoked" in admin.get(page).text
    owner = subscribers.organization_named(session, "tern-trips")
    assert owner is not None
    admin.post("/subscribers/tern-trips/active", data={"active": "no"})
    session.expire_all()
    assert owner.active is False


def test_staff_add_organizations_and_people_by_the_password_rules(admin: FlaskClient, portal: FlaskClient) -> None:
    assert admin.post("/subscribers/", data={"title": "Puffin Works", "kind": "partner"}).status_code == 303
    person = {"name": "Pia Puffin", "email": "p.puffin@puffin.example", "role": "lead", "password": "short"}
    refused = admin.post("/subscribers/puffin-works/people", data=person)
    assert refused.status_code == 422
    assert "at least 12" in refused.text
    assert "Pia Puffin" in refused.text
    assert (
        admin.post("/subscribers/puffin-works/people", data=person | {"password": "burrow-by-the-sea-9"}).status_code
        == 303
    )
    sign_in(portal, "p.puffin@puffin.example", "burrow-by-the-sea-9")


def test_an_application_of_the_same_name_elsewhere_shows_nothing_of_its_traffic(
    lead: FlaskClient, settings: Settings, session: Session
) -> None:
    page = lead.post(SUBSCRIBE, data=FORM).location
    at = datetime.now(UTC)
    calls = [
        record(
            int(at.timestamp() * 1_000_000), id=f"{int(at.timestamp() * 1000):011x}{place:012x}", environment="production",
            application="night-planner", organization=organization, plan="passage/skiff", path=f"/of/{organization}",
            status=429, reason=reason,
        )
        for place, (organization, reason) in enumerate([("tern-trips", ""), *[("ticket-office", ""), ("ticket-office", "over-plan")] * 20])
    ]  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("b", "n", calls)])
    text = lead.get(page).text
    assert "ticket-office" not in text
    assert "No call of this application was refused" in text
    assert (
        '<span class="fig">1</span> of 2000\u00a0/\u00a0day' in text
        or '<span class="fig">1</span> of 2000 / day' in text
    )
