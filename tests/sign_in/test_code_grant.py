"""Signing users in: authorization code with PKCE, consent, refresh with rotation, and every way in which it is refused."""

import json
import threading
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
from flask.testing import FlaskClient
from joserfc import jwt
from joserfc.jwk import KeySet
from sqlalchemy import Engine
from sqlmodel import Session, select

from sign_in.flow import SCOPE, VERIFIER, address, allowed, exchange, let_in
from sign_in.passengers import BACK, PASSWORD, Passengers
from tamarack.store.columns import now
from tamarack.store.rollouts.tables import FeedItem
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in.clients import GRANTS
from tamarack.store.sign_in.tables import AuthorizationCode, RefreshToken, SignInGrant


def test_a_user_signs_in_agrees_and_the_client_gets_tokens(service: FlaskClient, passengers: Passengers) -> None:
    first = service.get(address(passengers))
    assert first.status_code == 302 and first.location.startswith("/passengers/sign-in?next=")
    assert let_in(service).status_code == 303
    page = service.get(address(passengers))
    assert page.status_code == 200
    for words in ("Tern on the web", "of Tern Trips", "Know that it is you", "See your name", "tern.example"):
        assert words in page.text
    assert "form-action 'self' https://tern.example;" in page.headers["Content-Security-Policy"]
    back = allowed(service, passengers)
    assert back["state"] == "s1" and back["iss"].endswith("/passengers")
    answer = exchange(service, passengers, code=back["code"])
    assert answer.status_code == 200 and answer.headers["Cache-Control"] == "no-store"
    made = answer.json
    assert set(made) == {"token_type", "access_token", "expires_in", "scope", "refresh_token", "id_token"}
    keys = KeySet.import_key_set(service.get("/passengers/jwks.json").json)
    access = jwt.decode(made["access_token"], keys, algorithms=["ES256"])
    assert access.header["typ"] == "at+jwt" and access.header["kid"]
    assert access.claims["sub"] == passengers.user.id and access.claims["aud"] == f"{back['iss']}/apis/production"
    said = jwt.decode(made["id_token"], keys, algorithms=["ES256"]).claims
    assert (said["iss"], said["aud"], said["nonce"], said["name"]) == (
        back["iss"],
        [passengers.web.id],
        "n1",
        "Nell Holm",
    )
    assert "email" not in said
    facts = service.get("/passengers/userinfo", headers={"Authorization": f"Bearer {made['access_token']}"})
    assert facts.json == {"sub": passengers.user.id, "name": "Nell Holm"}
    again = service.get(address(passengers, state="s2"))
    assert again.status_code == 303 and "code=" in again.location, "what was agreed to is not asked again"


@pytest.mark.parametrize(
    ("changes", "error"),
    [
        ({"code_challenge": None, "code_challenge_method": None}, "invalid_request"),
        ({"code_challenge_method": "plain"}, "invalid_request"),
        ({"code_challenge_method": None}, "invalid_request"),
        ({"code_challenge": "short"}, "invalid_request"),
        ({"response_type": "token"}, "unsupported_response_type"),
        ({"response_type": "code token"}, "unsupported_response_type"),
    ],
)
def test_a_request_that_is_not_allowed_goes_back_as_an_error_with_the_issuer(
    service: FlaskClient, passengers: Passengers, changes: dict[str, Any], error: str
) -> None:
    let_in(service)
    answer = service.get(address(passengers, **changes))
    told = parse_qs(urlsplit(answer.location or "").query)
    assert told.get("error") == [error] and told["state"] == ["s1"] and told["iss"][0].endswith("/passengers")
    assert "code" not in told


@pytest.mark.parametrize(
    "redirect",
    [
        "https://tern.example/back/", "https://tern.example/back?x=1", "https://tern.example/Back", "https://evil.example/",
        "https://tern.example.evil.example/back", "https://tern.example@evil.example/back", "https://tern.example/back#x",
        "http://tern.example/back", "//tern.example/back", "javascript:alert(1)", "https://tern.example/./back",
    ],
)  # fmt: skip
def test_nobody_is_sent_to_an_address_that_is_not_registered(
    service: FlaskClient, passengers: Passengers, redirect: str
) -> None:
    let_in(service)
    for method in (service.get, service.post):
        answer = method(
            address(passengers, redirect_uri=redirect),
            **({"data": {"answer": "allow"}} if method == service.post else {}),
        )
        assert answer.status_code == 400 and answer.location is None, answer.location


def test_a_program_on_the_users_machine_may_listen_on_any_port(service: FlaskClient, passengers: Passengers) -> None:
    let_in(service)
    own = {"client_id": passengers.phone.id, "redirect_uri": "http://127.0.0.1:51234/back"}
    answer = service.post(address(passengers, **own), data={"answer": "allow"})
    assert answer.location.startswith("http://127.0.0.1:51234/back?code=")
    code = parse_qs(urlsplit(answer.location).query)["code"][0]
    data = {"grant_type": "authorization_code", "code": code, "code_verifier": VERIFIER, **own}
    assert service.post("/passengers/token", data=data).status_code == 200


def test_a_user_who_does_not_allow_it_sends_back_no_code(service: FlaskClient, passengers: Passengers) -> None:
    let_in(service)
    answer = service.post(address(passengers), data={"answer": "deny"})
    assert parse_qs(urlsplit(answer.location).query)["error"] == ["access_denied"]


def test_scopes_that_a_client_may_not_ask_for_are_left_out_and_the_answer_says_so(
    service: FlaskClient, passengers: Passengers
) -> None:
    back = allowed(service, passengers, scope="openid berths:hold fleet:sink")
    made = exchange(service, passengers, code=back["code"]).json
    assert made["scope"] == "openid berths:hold" and "refresh_token" not in made


@pytest.mark.parametrize(
    ("form", "error"),
    [
        ({"code_verifier": "w" * 64}, "invalid_grant"),
        ({"code_verifier": None}, "invalid_request"),
        ({"redirect_uri": "https://tern.example/other"}, "invalid_grant"),
        ({"redirect_uri": None}, "invalid_grant"),
        ({"code": "made-up"}, "invalid_grant"),
        ({"grant_type": "password"}, "unsupported_grant_type"),
    ],
)
def test_a_code_is_exchanged_only_by_whoever_asked_for_it(
    service: FlaskClient, passengers: Passengers, form: dict[str, Any], error: str
) -> None:
    back = allowed(service, passengers)
    answer = exchange(service, passengers, **{"code": back["code"]} | form)
    assert answer.status_code in (400, 401) and answer.json["error"] == error


def test_a_code_of_one_client_is_worth_nothing_to_another_and_stays_good(
    service: FlaskClient, passengers: Passengers
) -> None:
    back = allowed(service, passengers)
    other = {"grant_type": "authorization_code", "code": back["code"], "redirect_uri": BACK, "code_verifier": VERIFIER,
             "client_id": passengers.phone.id}  # fmt: skip
    assert service.post("/passengers/token", data=other).json["error"] == "invalid_grant"
    assert exchange(service, passengers, code=back["code"]).status_code == 200


def test_a_code_that_is_used_twice_ends_what_came_of_it(
    service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    back = allowed(service, passengers)
    made = exchange(service, passengers, code=back["code"]).json
    assert exchange(service, passengers, code=back["code"]).json["error"] == "invalid_grant"
    refreshed = exchange(service, passengers, grant_type="refresh_token", refresh_token=made["refresh_token"])
    assert refreshed.json["error"] == "invalid_grant"
    world.expire_all()
    grant = world.exec(select(SignInGrant).where(SignInGrant.user_id == passengers.user.id)).one()
    assert grant.why == "a code was used twice"
    told = world.get(FeedItem, ("ended-grant", grant.id))
    assert told is not None and told.body["until"] > now().timestamp(), "nodes refuse its access tokens"


def test_a_code_is_good_for_a_minute(service: FlaskClient, passengers: Passengers, world: Session) -> None:
    back = allowed(service, passengers)
    code = world.exec(select(AuthorizationCode)).one()
    assert (code.expires_at - now()).total_seconds() <= 60
    code.expires_at = now()
    world.add(code)
    world.commit()
    assert exchange(service, passengers, code=back["code"]).json["error"] == "invalid_grant"


def test_a_refresh_token_is_used_once_and_its_second_use_ends_the_family(
    service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    first = exchange(service, passengers, code=allowed(service, passengers)["code"]).json
    second = exchange(service, passengers, grant_type="refresh_token", refresh_token=first["refresh_token"])
    assert second.status_code == 200 and second.json["refresh_token"] != first["refresh_token"]
    narrower = exchange(service, passengers, grant_type="refresh_token", scope="openid",
                        refresh_token=second.json["refresh_token"])  # fmt: skip
    assert narrower.json["scope"] == "openid"
    wider = exchange(service, passengers, grant_type="refresh_token", scope=f"{SCOPE} email",
                     refresh_token=narrower.json["refresh_token"])  # fmt: skip
    assert wider.json["error"] == "invalid_scope"
    stolen = exchange(service, passengers, grant_type="refresh_token", refresh_token=first["refresh_token"])
    assert stolen.json["error"] == "invalid_grant"
    newest = exchange(service, passengers, grant_type="refresh_token", refresh_token=narrower.json["refresh_token"])
    assert newest.json["error"] == "invalid_grant", "the rightful holder has to sign in anew"


def test_of_many_that_use_a_token_at_the_same_moment_one_does(
    engine: Engine, passengers: Passengers, world: Session
) -> None:
    grant = granting.new_grant(world, passengers.web, passengers.user.id, ["openid"])
    world.add(RefreshToken(digest="d", grant_id=grant.id, expires_at=now().replace(year=now().year + 1)))
    world.commit()
    found: list[str] = []
    ready = threading.Barrier(8)

    def use() -> None:
        with Session(engine) as session:
            ready.wait()
            found.append(granting.use_refresh_token(session, "d")[0])
            session.commit()

    threads = [threading.Thread(target=use) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(found) == ["again"] * 7 + ["used"]


def test_what_is_revoked_is_over_for_the_client_and_the_nodes(
    service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    made = exchange(service, passengers, code=allowed(service, passengers)["code"]).json
    auth = (passengers.web.id, passengers.secret)
    seen = service.post("/passengers/introspect", data={"token": made["access_token"]}, auth=auth).json
    assert seen["active"] and seen["client_id"] == passengers.web.id and seen["scope"] == SCOPE
    assert service.post("/passengers/revoke", data={"token": made["access_token"]}, auth=auth).status_code == 200
    for token in (made["access_token"], made["refresh_token"]):
        assert service.post("/passengers/introspect", data={"token": token}, auth=auth).json == {"active": False}
    assert world.exec(select(FeedItem).where(FeedItem.kind == "ended-grant")).first() is not None
    assert service.post("/passengers/revoke", data={"token": "made-up"}, auth=auth).status_code == 200


def test_a_user_takes_back_what_they_agreed_to(service: FlaskClient, passengers: Passengers) -> None:
    made = exchange(service, passengers, code=allowed(service, passengers)["code"]).json
    assert "Tern on the web" in service.get("/passengers/").text
    service.post(f"/passengers/applications/{passengers.web.id}/end")
    refreshed = exchange(service, passengers, grant_type="refresh_token", refresh_token=made["refresh_token"])
    assert refreshed.json["error"] == "invalid_grant"
    assert "Tern on the web" not in service.get("/passengers/").text
    assert service.get(address(passengers)).status_code == 200, "it is asked for anew"


def test_a_client_calls_for_itself(service: FlaskClient, passengers: Passengers) -> None:
    made = service.post("/passengers/token", data={"grant_type": "client_credentials", "scope": "berths:hold openid"},
                        auth=(passengers.web.id, passengers.secret)).json  # fmt: skip
    assert "refresh_token" not in made and "id_token" not in made
    keys = KeySet.import_key_set(service.get("/passengers/jwks.json").json)
    claims = jwt.decode(made["access_token"], keys, algorithms=["ES256"]).claims
    assert claims["sub"] == claims["client_id"] == passengers.web.id and "groups" not in claims


@pytest.mark.parametrize(
    ("data", "auth", "query"),
    [
        ({"grant_type": "client_credentials"}, ("web", "wrong"), ""),
        ({"grant_type": "client_credentials"}, ("nobody", "x"), ""),
        ({"grant_type": "client_credentials"}, None, ""),
        ({"grant_type": "client_credentials", "client_id": "phone"}, None, ""),
        ({"grant_type": "client_credentials"}, ("web", "secret"), "?scope=x"),
        ({"grant_type": ["client_credentials", "client_credentials"]}, ("web", "secret"), ""),
        ({"grant_type": "client_credentials", "client_id": "phone"}, ("web", "secret"), ""),
        ({"grant_type": "client_credentials", "client_secret": "x"}, ("web", "secret"), ""),
    ],
)
def test_a_client_that_is_not_who_it_says_gets_nothing(
    service: FlaskClient, passengers: Passengers, data: dict[str, Any], auth: Any, query: str
) -> None:
    ids = {"web": passengers.web.id, "phone": passengers.phone.id}
    if "client_id" in data:
        data = data | {"client_id": ids[data["client_id"]]}
    if auth is not None:
        auth = (ids.get(auth[0], auth[0]), passengers.secret if auth[1] == "secret" else auth[1])
    answer = service.post(f"/passengers/token{query}", data=data, auth=auth)
    assert answer.status_code in (400, 401) and "access_token" not in answer.text
    assert answer.json["error"] in ("invalid_client", "invalid_request", "unauthorized_client")


def test_metadata_names_every_endpoint_and_nothing_that_is_not_there(
    service: FlaskClient, passengers: Passengers
) -> None:
    said = service.get("/.well-known/oauth-authorization-server/passengers").json
    assert said == service.get("/passengers/.well-known/openid-configuration").json
    assert said["grant_types_supported"] == list(GRANTS)
    assert said["response_types_supported"] == ["code"] and said["code_challenge_methods_supported"] == ["S256"]
    for name in said:
        if name.endswith("_endpoint") or name == "jwks_uri":
            path = urlsplit(said[name]).path
            assert service.open(path, method="OPTIONS").status_code == 200, name
    assert service.get("/nobody/.well-known/openid-configuration").status_code == 404


def test_no_secret_code_or_token_is_kept_in_clear(service: FlaskClient, passengers: Passengers, world: Session) -> None:
    back = allowed(service, passengers)
    made = exchange(service, passengers, code=back["code"]).json
    kept = json.dumps(
        [
            one.model_dump(mode="json")
            for kind in (AuthorizationCode, RefreshToken, SignInGrant)
            for one in world.exec(select(kind))
        ]
        + [passengers.web.model_dump(mode="json")]
    )
    for value in (back["code"], made["refresh_token"], made["access_token"], passengers.secret):
        assert value not in kept


@pytest.mark.parametrize(("prompt", "error"), [("none", "consent_required"), ("none login", "invalid_request")])
def test_a_client_that_wants_no_page_is_told_that_one_is_needed(
    service: FlaskClient, passengers: Passengers, prompt: str, error: str
) -> None:
    silent = service.get(address(passengers, prompt="none"))
    assert parse_qs(urlsplit(silent.location).query)["error"] == ["login_required"]
    let_in(service)
    answer = service.get(address(passengers, prompt=prompt))
    assert parse_qs(urlsplit(answer.location).query)["error"] == [error]


def test_a_client_that_wants_the_user_to_sign_in_anew_gets_that_once(
    service: FlaskClient, passengers: Passengers
) -> None:
    allowed(service, passengers)
    answer = service.get(address(passengers, prompt="login"))
    target = parse_qs(urlsplit(answer.location).query)["next"][0]
    assert "prompt" not in target
    signed = service.post(
        "/passengers/sign-in", data={"email": "nell@holm.example", "password": PASSWORD, "next": target}
    )
    assert signed.location == target and "code=" in service.get(target).location
