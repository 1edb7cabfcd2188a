"""What an authorization request may say beyond the code grant: pushed ahead, for which APIs, how newly signed in."""

from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from sign_in.flow import CHALLENGE, SCOPE, address, allowed, exchange, let_in
from sign_in.passengers import BACK, PASSWORD, Passengers
from tamarack.core.identity.jose import peek
from tamarack.settings import Settings
from tamarack.store.columns import now
from tamarack.store.sign_in.tables import OpaqueToken, PushedRequest, SignInGrant

ASKED = {
    "response_type": "code", "redirect_uri": BACK, "scope": SCOPE, "state": "s1", "code_challenge": CHALLENGE,
    "code_challenge_method": "S256",
}  # fmt: skip


def push(service: FlaskClient, passengers: Passengers, **changes: Any) -> Any:
    asked = {name: value for name, value in (ASKED | changes).items() if value is not None}
    return service.post("/passengers/par", data=asked, auth=(passengers.web.id, passengers.secret))


def named(passengers: Passengers, uri: str, **more: str) -> str:
    asked = {"client_id": passengers.web.id, "request_uri": uri} | more
    return "/passengers/authorize?" + urlencode(asked)


# pushed ahead (RFC 9126)


def test_a_request_that_was_pushed_is_answered_once_and_nothing_in_the_address_changes_it(
    service: FlaskClient, passengers: Passengers
) -> None:
    pushed = push(service, passengers)
    assert pushed.status_code == 201 and pushed.json["expires_in"] == 600
    assert pushed.headers["Cache-Control"] == "no-store"
    uri = pushed.json["request_uri"]
    let_in(service)
    where = named(passengers, uri, scope="openid email", redirect_uri="https://evil.example/", state="other")
    page = service.get(where)
    assert "See your name" in page.text and "See your mail address" not in page.text
    answer = service.post(where, data={"answer": "allow"})
    told = parse_qs(urlsplit(answer.location).query)
    assert answer.location.startswith(f"{BACK}?") and told["state"] == ["s1"]
    assert exchange(service, passengers, code=told["code"][0]).status_code == 200
    again = service.get(where)
    assert again.status_code == 400 and again.location is None and "Begin anew" in again.text


def test_a_refusal_by_the_user_uses_a_pushed_request_up_too(service: FlaskClient, passengers: Passengers) -> None:
    uri = push(service, passengers).json["request_uri"]
    let_in(service)
    answer = service.post(named(passengers, uri), data={"answer": "deny"})
    assert "error=access_denied" in answer.location
    assert service.get(named(passengers, uri)).status_code == 400


def test_whoever_has_to_sign_in_first_comes_back_to_the_pushed_request(
    service: FlaskClient, passengers: Passengers
) -> None:
    let_in(service)
    uri = push(service, passengers, prompt="login").json["request_uri"]
    asked = service.get(named(passengers, uri))
    assert asked.location.startswith("/passengers/sign-in"), "a session from before does not do"
    target = parse_qs(urlsplit(asked.location).query)["next"][0]
    signed_in = service.post("/passengers/sign-in", data={"email": "nell@holm.example", "password": PASSWORD,
                                                          "next": target})  # fmt: skip
    assert service.get(signed_in.location).status_code == 200


@pytest.mark.parametrize(
    ("changes", "error"),
    [
        ({"redirect_uri": "https://evil.example/"}, "invalid_request"),
        ({"code_challenge_method": "plain"}, "invalid_request"),
        ({"code_challenge": None}, "invalid_request"),
        ({"response_type": "token"}, "unsupported_response_type"),
        ({"request_uri": "urn:ietf:params:oauth:request_uri:x"}, "invalid_request"),
        ({"request": "e30.e30."}, "invalid_request"),
        ({"resource": "https://api.other.example/"}, "invalid_target"),
        ({"client_id": "another"}, "invalid_request"),
    ],
)
def test_what_cannot_be_asked_is_refused_where_it_is_pushed(
    service: FlaskClient, passengers: Passengers, world: Session, changes: dict[str, Any], error: str
) -> None:
    answer = push(service, passengers, **changes)
    assert (answer.status_code, answer.json["error"], answer.location) == (400, error, None)
    assert world.exec(select(PushedRequest)).all() == []


def test_only_the_client_itself_pushes_and_only_its_own_requests_are_taken_up(
    service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    wrong = service.post("/passengers/par", data=ASKED, auth=(passengers.web.id, "wrong"))
    assert (wrong.status_code, wrong.json["error"]) == (401, "invalid_client")
    uri = push(service, passengers).json["request_uri"]
    let_in(service)
    other = "/passengers/authorize?" + urlencode({"client_id": passengers.phone.id, "request_uri": uri})
    assert service.get(other).status_code == 400
    kept = world.exec(select(PushedRequest)).one()
    assert uri not in str(kept) and "client_secret" not in kept.asked["parameters"]
    kept.expires_at = now()
    world.add(kept)
    world.commit()
    assert service.get(named(passengers, uri)).status_code == 400, "it is over"


@pytest.mark.parametrize("name", ["state", "scope", "redirect_uri", "client_id", "code_challenge"])
def test_a_parameter_that_is_sent_twice_is_refused_and_nobody_is_sent_anywhere(
    service: FlaskClient, passengers: Passengers, name: str
) -> None:
    let_in(service)
    answer = service.get(f"{address(passengers)}&{name}=x")
    assert answer.status_code == 400 and answer.location is None and "sent twice" in answer.text


# for which APIs (RFC 8707)


def fares(settings: Settings) -> str:
    return f"{settings.gateway_url('production')}/fares/v1"


def test_a_token_is_for_the_apis_that_were_asked_for_and_holds_their_scopes_alone(
    service: FlaskClient, passengers: Passengers, world: Session, settings: Settings
) -> None:
    passengers.web.scopes = ["berths:hold", "fares:quote"]
    world.add(passengers.web)
    world.commit()
    scope = "openid offline_access fares:quote berths:hold"
    code = allowed(service, passengers, resource=fares(settings), scope=scope)["code"]
    made = exchange(service, passengers, code=code).json
    assert made["scope"] == "openid offline_access fares:quote"
    _, claims = peek(made["access_token"].encode())
    assert claims["aud"] == fares(settings)
    renewed = exchange(service, passengers, grant_type="refresh_token", refresh_token=made["refresh_token"],
                       redirect_uri=None, code_verifier=None).json  # fmt: skip
    assert peek(renewed["access_token"].encode())[1]["aud"] == fares(settings), "it stays what was granted"
    facts = service.get("/passengers/userinfo", headers={"Authorization": f"Bearer {renewed['access_token']}"})
    assert facts.status_code == 200


def test_a_token_may_be_for_less_than_was_granted_and_never_for_more(
    service: FlaskClient, passengers: Passengers, settings: Settings
) -> None:
    code = allowed(service, passengers, scope="openid offline_access berths:hold")["code"]
    made = exchange(service, passengers, code=code, resource=fares(settings)).json
    assert made["scope"] == "openid offline_access"
    berths = f"{settings.gateway_url('production')}/berths/v1"
    code = allowed(service, passengers, resource=fares(settings))["code"]
    refused = exchange(service, passengers, code=code, resource=berths)
    assert (refused.status_code, refused.json["error"]) == (400, "invalid_target")


def test_a_resource_that_is_not_here_goes_back_as_an_error(service: FlaskClient, passengers: Passengers) -> None:
    let_in(service)
    answer = service.get(address(passengers, resource="https://api.other.example/"))
    told = parse_qs(urlsplit(answer.location).query)
    assert told["error"] == ["invalid_target"] and told["state"] == ["s1"] and told["iss"]


def test_a_client_asks_for_itself_at_several_resources(
    service: FlaskClient, passengers: Passengers, settings: Settings
) -> None:
    asked = [fares(settings), f"{settings.gateway_url('production')}/berths/v1"]
    data = {"grant_type": "client_credentials", "resource": asked}
    answer = service.post("/passengers/token", data=data, auth=(passengers.web.id, passengers.secret))
    assert peek(answer.json["access_token"].encode())[1]["aud"] == asked


def test_an_api_that_chose_opaque_tokens_gets_them_and_they_are_kept_by_their_digest_alone(
    service: FlaskClient, passengers: Passengers, world: Session, settings: Settings
) -> None:
    freight = f"{settings.gateway_url('production')}/freight/v2"
    code = allowed(service, passengers, resource=freight)["code"]
    made = exchange(service, passengers, code=code).json
    value = made["access_token"]
    assert value.startswith("at_") and "." not in value
    kept = world.exec(select(OpaqueToken)).one()
    assert value not in str(kept) and kept.claims["sub"] == passengers.user.id
    bearer = {"Authorization": f"Bearer {value}"}
    assert service.get("/passengers/userinfo", headers=bearer).json["name"] == "Nell Holm"
    about = {"token": value}
    said = service.post("/passengers/introspect", data=about, auth=(passengers.web.id, passengers.secret)).json
    assert said["active"] and said["aud"] == freight
    service.post("/passengers/revoke", data=about, auth=(passengers.web.id, passengers.secret))
    assert service.get("/passengers/userinfo", headers=bearer).status_code == 401
    grant = world.get_one(SignInGrant, kept.grant_id, populate_existing=True)
    assert grant.ended_at is not None


# how newly the user has signed in (OpenID Connect Core, 3.1.2.1)


def test_a_client_may_ask_for_a_user_who_has_only_just_signed_in(
    service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    let_in(service)
    assert service.get(address(passengers, max_age="60")).status_code == 200
    old = "UPDATE signed_in SET made_at = made_at - interval '2 minutes'"
    world.connection().exec_driver_sql(old)
    world.commit()
    assert service.get(address(passengers, max_age="600")).status_code == 200
    answer = service.post(address(passengers, max_age="600"), data={"answer": "allow"})
    made = exchange(service, passengers, code=parse_qs(urlsplit(answer.location).query)["code"][0]).json
    times = [peek(made[kind].encode())[1]["auth_time"] for kind in ("access_token", "id_token")]
    assert times[0] == times[1] <= now().timestamp() - 119, "when the user signed in, not when they agreed"
    asked = service.get(address(passengers, max_age="60"))
    assert asked.status_code == 302 and "max_age" not in asked.location, "once is enough"
    assert "error=login_required" in service.get(address(passengers, max_age="60", prompt="none")).location


# how long its tokens last


def test_tokens_last_as_long_as_the_client_says_else_the_directory(
    service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    code = allowed(service, passengers)["code"]
    assert exchange(service, passengers, code=code).json["expires_in"] == 3600
    passengers.web.access_minutes = 7
    world.add(passengers.web)
    world.commit()
    code = allowed(service, passengers)["code"]
    assert exchange(service, passengers, code=code).json["expires_in"] == 420
