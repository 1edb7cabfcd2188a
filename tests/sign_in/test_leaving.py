"""Signing out by an application's wish, what users say of themselves, and applications that run in a browser."""

from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session

from sign_in.flow import address, allowed, exchange, let_in
from sign_in.passengers import Passengers
from tamarack.core.identity.jose import peek
from tamarack.store.sign_in.tables import EndUser, SignInGrant

BYE = "https://tern.example/bye"


@pytest.fixture
def bye(world: Session, passengers: Passengers) -> Passengers:
    """The client has registered where users go when they have signed out."""
    passengers.web.after_sign_out = [BYE]
    world.add(passengers.web)
    world.commit()
    return passengers


def tokens(service: FlaskClient, passengers: Passengers, scope: str = "openid") -> dict[str, Any]:
    made: dict[str, Any] = exchange(service, passengers, code=allowed(service, passengers, scope=scope)["code"]).json
    return made


def is_in(service: FlaskClient) -> bool:
    return service.get("/passengers/").status_code == 200


def end(service: FlaskClient, **asked: str) -> Any:
    return service.get("/passengers/end-session", query_string=asked)


def test_an_application_that_shows_whom_it_signed_in_signs_them_out_at_once(
    service: FlaskClient, bye: Passengers, world: Session
) -> None:
    made = tokens(service, bye)
    answer = end(service, id_token_hint=made["id_token"], post_logout_redirect_uri=BYE, state="s 1")
    assert answer.status_code == 303 and answer.location == f"{BYE}?state=s+1"
    assert not is_in(service)
    grant = world.get_one(SignInGrant, peek(made["access_token"].encode())[1]["grant"])
    assert grant.ended_at is not None and grant.why == "the user signed out"


def test_what_was_granted_for_when_the_user_is_away_goes_on(
    service: FlaskClient, bye: Passengers, world: Session
) -> None:
    made = tokens(service, bye, "openid offline_access")
    end(service, id_token_hint=made["id_token"])
    grant = world.get_one(SignInGrant, peek(made["access_token"].encode())[1]["grant"])
    assert grant.ended_at is None


def test_anyone_else_has_to_ask_the_user(service: FlaskClient, bye: Passengers) -> None:
    let_in(service)
    page = end(service, client_id=bye.web.id, post_logout_redirect_uri=BYE)
    assert page.status_code == 200 and "Tern on the web asks for it" in page.text and is_in(service)
    assert "form-action 'self' https://tern.example;" in page.headers["Content-Security-Policy"]
    where = f"/passengers/end-session/yes?client_id={bye.web.id}&post_logout_redirect_uri={BYE}"
    assert where.replace("&", "&amp;").split("?")[0] in page.text
    assert service.post(where).location == BYE and not is_in(service)
    assert "You are signed out" in end(service).text


@pytest.mark.parametrize(
    "changes",
    [
        {"post_logout_redirect_uri": "https://evil.example/"},
        {"post_logout_redirect_uri": BYE + "/"},
        {"post_logout_redirect_uri": BYE, "client_id": ""},
        {"id_token_hint": "x.y.z"},
        {"id_token_hint": "access"},
        {"id_token_hint": "id", "client_id": "another"},
    ],
)
def test_nobody_is_sent_anywhere_that_is_not_registered(
    service: FlaskClient, bye: Passengers, changes: dict[str, str]
) -> None:
    made = tokens(service, bye)
    hint = {"access": made["access_token"], "id": made["id_token"]}
    asked = {"client_id": bye.web.id} | {name: hint.get(value, value) for name, value in changes.items()}
    answer = end(service, **asked)
    assert answer.status_code == 400 and answer.location is None and is_in(service)


def test_a_form_of_the_application_does_the_same(service: FlaskClient, bye: Passengers) -> None:
    made = tokens(service, bye)
    answer = service.post("/passengers/end-session", data={"id_token_hint": made["id_token"], "more": "x"})
    assert answer.status_code == 303 and "more" not in answer.location
    assert "You are signed out" in service.get(answer.location).text


# what users say of themselves


def test_users_say_what_they_like_to_be_called_and_it_decides_over_nothing(
    service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    let_in(service)
    said = {"name": "Nell H.", "nickname": "Nelly", "locale": "nb-NO", "zoneinfo": "Europe/Oslo", "groups": "crew"}
    assert service.post("/passengers/profile", data=said).status_code == 303
    kept = world.get_one(EndUser, passengers.user.id, populate_existing=True)
    assert (kept.name, kept.groups) == ("Nell H.", [])
    made = exchange(service, passengers, code=allowed(service, passengers)["code"]).json
    told = peek(made["id_token"].encode())[1]
    assert (told["nickname"], told["zoneinfo"]) == ("Nelly", "Europe/Oslo")
    assert "nickname" not in peek(made["access_token"].encode())[1], "kept apart from what staff set"


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"name": ""}, "name"),
        ({"nickname": "a\nb"}, "line"),
        ({"zoneinfo": "Europe/Skerry"}, "is no time zone"),
        ({"locale": "norsk bokmål"}, "is no language tag"),
    ],
)
def test_what_cannot_be_said_is_named_and_nothing_is_lost(
    service: FlaskClient, passengers: Passengers, changes: dict[str, str], words: str
) -> None:
    let_in(service)
    answer = service.post("/passengers/profile", data={"name": "Nell", "nickname": "Nelly"} | changes)
    assert answer.status_code == 422 and words in answer.text
    assert changes.get("nickname") or "Nelly" in answer.text


# applications that run in a browser (Fetch, 3.2)


def test_programs_in_a_browser_may_ask_for_tokens_and_pages_are_not_opened_to_them(
    service: FlaskClient, passengers: Passengers
) -> None:
    asked = {"Origin": "https://app.example", "Access-Control-Request-Method": "POST"}
    for place in ("token", "par", "userinfo", "revoke", "introspect", "device-authorization"):
        answer = service.options(f"/passengers/{place}", headers=asked)
        assert answer.status_code == 200 and answer.headers["Access-Control-Allow-Origin"] == "*"
        assert "POST" in answer.headers["Access-Control-Allow-Methods"]
        assert "Authorization" in answer.headers["Access-Control-Allow-Headers"]
        assert "Access-Control-Allow-Credentials" not in answer.headers
    for place in ("jwks.json", ".well-known/openid-configuration"):
        assert service.get(f"/passengers/{place}").headers["Access-Control-Allow-Origin"] == "*"
    for place in (address(passengers), "/passengers/sign-in", "/passengers/end-session", "/passengers/"):
        assert "Access-Control-Allow-Origin" not in service.get(place).headers
