"""Clients of the sign-in service in the portal: made by an application's people, shown once, revoked, and nobody else's."""

import html
import re
from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session

from helpers import sign_in
from sign_in.passengers import BACK, Passengers
from tamarack.store.sign_in.tables import SignInClient

CLIENT = {"title": "Tern Kiosk", "directory": "passengers", "environment": "test", "confidential": "yes",
          "grants": ["authorization_code", "client_credentials"], "redirects": BACK}  # fmt: skip


def base(passengers: Passengers) -> str:
    return f"/applications/{passengers.web.application_id}"


def test_a_client_is_made_and_its_secret_shown_once(
    lead: FlaskClient, service: FlaskClient, passengers: Passengers
) -> None:
    made = lead.post(f"{base(passengers)}/clients/", data=CLIENT)
    page = lead.get(made.location)
    secret = re.search(r"shown this once:</b> <code>([^<]+)</code>", page.text)
    assert secret is not None and "grant_type=client_credentials" in page.text
    assert secret[1] not in lead.get(made.location).text
    client_id = made.location.rpartition("/")[2]
    token = service.post("/passengers/token", data={"grant_type": "client_credentials"}, auth=(client_id, secret[1]))
    assert token.status_code == 200
    assert "Tern Kiosk" in lead.get(base(passengers)).text
    lead.post(f"{made.location}/revoke")
    again = service.post("/passengers/token", data={"grant_type": "client_credentials"}, auth=(client_id, secret[1]))
    assert again.json["error"] == "invalid_client"
    assert "Revoked" in lead.get(made.location).text


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"title": ""}, "give it 1 to 120 characters"),
        ({"directory": "nobody"}, "choose whose users sign in"),
        ({"environment": "moon"}, "choose an environment"),
        ({"grants": []}, "choose what the client does"),
        ({"confidential": "no"}, "only a client that keeps a secret can call for itself"),
        ({"redirects": ""}, "write where users are sent back to"),
        ({"redirects": "http://tern.example/back"}, "is not encrypted"),
        ({"redirects": "https://tern.example/*"}, "has a *"),
        ({"redirects": "https://tern.example/back#x"}, "has a fragment"),
        ({"redirects": "javascript:alert(1)"}, "is no address"),
        ({"redirects": "https://a:b@tern.example/"}, "holds a name or a password"),
        ({"scopes": ["fleet:sink"]}, "is no scope that an API here offers"),
    ],
)
def test_a_mistake_is_said_and_nothing_typed_is_lost(
    lead: FlaskClient, passengers: Passengers, changes: dict[str, Any], said: str
) -> None:
    refused = lead.post(f"{base(passengers)}/clients/", data=CLIENT | changes)
    assert refused.status_code == 422 and said in html.unescape(refused.text)
    assert f'value="{(CLIENT | changes)["title"]}"' in refused.text


def test_nobody_else_sees_or_ends_a_client(portal: FlaskClient, passengers: Passengers, world: Session) -> None:
    sign_in(portal, "r.crate@kelp-crate.example", "manifest-box-75")
    page = f"{base(passengers)}/clients/{passengers.web.id}"
    assert portal.get(page).status_code == 404 and portal.post(f"{page}/revoke").status_code == 404
    assert portal.post(f"{base(passengers)}/clients/", data=CLIENT).status_code == 404
    world.expire_all()
    kept = world.get(SignInClient, passengers.web.id)
    assert kept is not None and kept.revoked_at is None


def test_a_secret_is_replaced_while_the_one_before_goes_on(
    lead: FlaskClient, service: FlaskClient, passengers: Passengers
) -> None:
    def status(secret: str) -> int:
        asked = {"grant_type": "client_credentials"}
        return service.post("/passengers/token", data=asked, auth=(passengers.web.id, secret)).status_code

    page = f"{base(passengers)}/clients/{passengers.web.id}"
    assert lead.post(f"{page}/secret", data={"keep": "99"}).status_code == 400
    shown = re.search(
        r"shown this once:</b> <code>([^<]+)</code>",
        lead.post(f"{page}/secret", data={"keep": "1"}, follow_redirects=True).text,
    )
    assert shown is not None and shown[1] not in lead.get(page).text
    assert (status(shown[1]), status(passengers.secret)) == (200, 200)
    assert "The secret before is still good" in lead.get(page).text
    lead.post(f"{page}/secret/end")
    assert (status(shown[1]), status(passengers.secret)) == (200, 401)
    assert lead.post(f"{base(passengers)}/clients/{passengers.phone.id}/secret", data={"keep": "1"}).status_code == 409
