"""What an authorization server must refuse, section by section: RFC 6749, RFC 7636, RFC 9700; each by its error code."""

import re
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session

from sign_in.flow import VERIFIER, address, allowed, exchange, let_in
from sign_in.passengers import BACK, Passengers
from tamarack.core.sign_in.password_rules import PasswordRules
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.sign_in import users
from tamarack.store.sign_in.clients import CLIENT, CODE, DEVICE


def token(service: FlaskClient, passengers: Passengers, form: dict[str, Any], auth: bool = True, **more: Any) -> Any:
    return service.post("/passengers/token", data=form,
                        auth=(passengers.web.id, passengers.secret) if auth else None, **more)  # fmt: skip


def told(answer: Any) -> dict[str, str]:
    return {name: values[0] for name, values in parse_qs(urlsplit(answer.location or "").query).items()}


# RFC 6749, 3.1 and 4.1.2.1: the authorization endpoint


@pytest.mark.parametrize(
    ("changes", "error"),
    [
        ({"response_type": None}, "unsupported_response_type"),
        ({"response_type": ""}, "unsupported_response_type"),
        ({"response_type": "id_token"}, "unsupported_response_type"),
        ({"response_type": "code id_token"}, "unsupported_response_type"),
        ({"scope": 'openid "'}, "invalid_scope"),
        ({"code_challenge": "x" * 42}, "invalid_request"),
        ({"code_challenge": "x" * 129}, "invalid_request"),
        ({"code_challenge": "é" * 43}, "invalid_request"),
        ({"max_age": "-1"}, "invalid_request"),
        ({"max_age": "soon"}, "invalid_request"),
    ],
)
def test_an_authorization_request_with_a_mistake_goes_back_with_its_error(
    service: FlaskClient, passengers: Passengers, changes: dict[str, Any], error: str
) -> None:
    let_in(service)
    for answer in (service.get(address(passengers, **changes)),
                   service.post(address(passengers, **changes), data={"answer": "allow"})):  # fmt: skip
        said = told(answer)
        assert (said.get("error"), said.get("state"), "code" in said) == (error, "s1", False)
        assert said["iss"].endswith("/passengers"), "also an error says who sends it (RFC 9207, 2)"


@pytest.mark.parametrize(
    "changes", [{"client_id": None}, {"client_id": ""}, {"client_id": "nobody"}, {"client_id": "a\x00b"}]
)
def test_a_request_of_nobody_is_answered_here_and_sends_nobody_anywhere(
    service: FlaskClient, passengers: Passengers, changes: dict[str, Any]
) -> None:
    """RFC 6749, 4.1.2.1; RFC 9700, 4.11.2."""
    let_in(service)
    answer = service.get(address(passengers, prompt="none", **changes))
    assert answer.status_code in (400, 422) and answer.location is None


def test_a_client_that_may_not_sign_users_in_cannot(
    service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    """RFC 6749, 4.1.2.1: unauthorized_client."""
    passengers.web.grants = [CLIENT]
    world.add(passengers.web)
    world.commit()
    let_in(service)
    answer = service.get(address(passengers))
    assert told(answer).get("error") in ("unauthorized_client", "unsupported_response_type")


def test_a_parameter_without_a_value_is_one_that_was_not_sent_and_an_unknown_one_is_no_matter(
    service: FlaskClient, passengers: Passengers
) -> None:
    """RFC 6749, 3.1."""
    let_in(service)
    assert service.get(address(passengers, nonce="", colour="blue")).status_code == 200


def test_whoever_posted_a_password_is_sent_on_by_a_get(service: FlaskClient, passengers: Passengers) -> None:
    """RFC 9700, 4.12: a 307 would hand the form on."""
    assert let_in(service).status_code == 303
    assert service.post(address(passengers), data={"answer": "allow"}).status_code == 303


def test_the_pages_cannot_be_framed_and_nothing_of_a_request_is_read_as_markup(
    service: FlaskClient, passengers: Passengers
) -> None:
    """RFC 9700, 4.16; RFC 6749, 10.13 and 10.14."""
    sign_in = service.get("/passengers/sign-in?next=/passengers/<script>alert(1)</script>")
    let_in(service)
    consent = service.get(address(passengers, state='"><script>alert(1)</script>'))
    for page in (sign_in, consent):
        assert "frame-ancestors 'none'" in page.headers["Content-Security-Policy"]
        assert "<script>alert" not in page.text and page.headers["Referrer-Policy"] == "same-origin"
    assert consent.headers["Cache-Control"] == "no-store"


def test_what_is_agreed_needs_the_pages_own_form(service: FlaskClient, passengers: Passengers) -> None:
    """RFC 6749, 10.12: another site cannot have the browser agree."""
    let_in(service)
    service.application.config["WTF_CSRF_ENABLED"] = True
    for path in (address(passengers), "/passengers/device", "/passengers/profile", "/passengers/codes/off",
                 f"/passengers/applications/{passengers.web.id}/end", "/passengers/end-session/yes"):  # fmt: skip
        answer = service.post(path, data={"answer": "allow"})
        assert answer.status_code == 400 and "code=" not in (answer.location or ""), path


# RFC 6749, 3.2 and 5.2: the token endpoint


@pytest.mark.parametrize(
    ("form", "error"),
    [
        ({}, "unsupported_grant_type"),
        ({"grant_type": ""}, "unsupported_grant_type"),
        ({"grant_type": "password", "username": "nell@holm.example", "password": "x"}, "unsupported_grant_type"),
        ({"grant_type": "implicit"}, "unsupported_grant_type"),
        ({"grant_type": "urn:ietf:params:oauth:grant-type:jwt-bearer", "assertion": "x"}, "unsupported_grant_type"),
        ({"grant_type": "authorization_code"}, "invalid_request"),
        ({"grant_type": "refresh_token"}, "invalid_request"),
        ({"grant_type": "refresh_token", "refresh_token": "made-up"}, "invalid_grant"),
        ({"grant_type": DEVICE, "device_code": "x"}, "unauthorized_client"),
        ({"grant_type": "client_credentials", "scope": 'a"b'}, "invalid_scope"),
    ],
)
def test_a_token_request_with_a_mistake_is_refused_with_its_error(
    service: FlaskClient, passengers: Passengers, form: dict[str, str], error: str
) -> None:
    answer = token(service, passengers, form)
    assert (answer.status_code, answer.json["error"]) == (400, error)
    assert answer.headers["Cache-Control"] == "no-store" and "access_token" not in answer.json


def test_a_client_that_shows_a_wrong_secret_by_header_is_challenged(
    service: FlaskClient, passengers: Passengers
) -> None:
    """RFC 6749, 5.2; RFC 9110, 11.6.1."""
    answer = service.post("/passengers/token", data={"grant_type": "client_credentials"}, auth=(passengers.web.id, "x"))
    assert answer.status_code == 401 and answer.json["error"] == "invalid_client"
    assert answer.headers["WWW-Authenticate"].startswith("Basic ")


@pytest.mark.parametrize("method", ["GET", "PUT", "DELETE"])
def test_tokens_are_asked_for_by_post(service: FlaskClient, passengers: Passengers, method: str) -> None:
    for place in ("token", "revoke", "introspect", "par", "device-authorization"):
        assert service.open(f"/passengers/{place}", method=method).status_code == 405


@pytest.mark.parametrize("media", ["application/json", "text/plain"])
def test_a_request_in_another_form_is_none(service: FlaskClient, passengers: Passengers, media: str) -> None:
    body = '{"grant_type": "client_credentials"}'
    client = (passengers.web.id, passengers.secret)
    answer = service.post("/passengers/token", data=body, content_type=media, auth=client)
    assert answer.status_code == 400 and "access_token" not in answer.text


def test_a_public_client_gets_no_token_for_itself_and_cannot_stand_in_for_one_with_a_secret(
    service: FlaskClient, passengers: Passengers
) -> None:
    """RFC 6749, 4.4; RFC 9700, 2.5."""
    own = {"grant_type": "client_credentials", "client_id": passengers.phone.id}
    assert "access_token" not in token(service, passengers, own, auth=False).text
    code = allowed(service, passengers)["code"]
    form = {"grant_type": "authorization_code", "code": code, "code_verifier": VERIFIER, "redirect_uri": BACK,
            "client_id": passengers.web.id}  # fmt: skip
    refused = token(service, passengers, form, auth=False)
    assert (refused.status_code, refused.json["error"]) == (401, "invalid_client")
    assert exchange(service, passengers, code=code).status_code == 200, "whose code it is may still use it"


# RFC 7636, 4.1 and 4.6


@pytest.mark.parametrize("verifier", ["v" * 42, "v" * 129, "v" * 63 + "!", "v" * 63 + " ", "é" * 64, "v" * 63 + "\n"])
def test_a_verifier_of_another_shape_is_refused(service: FlaskClient, passengers: Passengers, verifier: str) -> None:
    code = allowed(service, passengers)["code"]
    answer = exchange(service, passengers, code=code, code_verifier=verifier)
    assert answer.status_code == 400 and answer.json["error"] in ("invalid_request", "invalid_grant")


def test_a_code_that_was_asked_for_with_one_challenge_is_no_good_with_the_verifier_of_another(
    service: FlaskClient, passengers: Passengers
) -> None:
    """RFC 9700, 4.5.3: a code that somebody put into another's answer."""
    stolen = allowed(service, passengers)["code"]
    answer = exchange(service, passengers, code=stolen, code_verifier="w" * 64)
    assert answer.json["error"] == "invalid_grant"


# RFC 6750, 3.1; RFC 7009, 2.1; RFC 7662, 2.1


@pytest.mark.parametrize("shown", [None, "Basic eDp5", "Bearer", "Bearer x.y.z", "Bearer at_x", "Bearer x y"])
def test_user_facts_need_a_good_token_of_a_user(
    service: FlaskClient, passengers: Passengers, shown: str | None
) -> None:
    answer = service.get("/passengers/userinfo", headers={"Authorization": shown} if shown else {})
    assert answer.status_code == 401 and answer.headers["WWW-Authenticate"].startswith("Bearer")


def test_a_client_neither_ends_nor_reads_the_token_of_another(service: FlaskClient, passengers: Passengers) -> None:
    made = exchange(service, passengers, code=allowed(service, passengers)["code"]).json
    for kind in ("access_token", "refresh_token"):
        form = {"token": made[kind], "client_id": passengers.phone.id}
        assert service.post("/passengers/revoke", data=form).status_code in (200, 400)
        assert service.post("/passengers/introspect", data=form).status_code == 401, "a public client reads none"
    told_to_owner = service.post("/passengers/introspect", data={"token": made["access_token"]},
                                 auth=(passengers.web.id, passengers.secret))  # fmt: skip
    assert told_to_owner.json["active"]


def test_the_words_of_an_error_are_words_and_hold_nothing_that_was_sent(
    service: FlaskClient, passengers: Passengers
) -> None:
    """RFC 6749, 5.2: error_description is ASCII without quotes; what is secret is in none."""
    secret = "Kittiwake-secret-77"
    for form in ({"grant_type": "<b>\u00e9"}, {"grant_type": "refresh_token", "refresh_token": secret},
                 {"grant_type": "authorization_code", "code": secret, "code_verifier": secret * 3}):  # fmt: skip
        answer = token(service, passengers, form)
        said = answer.json.get("error_description", "")
        assert secret not in answer.text
        assert all(letter == " " or (0x21 <= ord(letter) <= 0x7E and letter not in '"\\') for letter in said)


def test_codes_of_one_directory_are_worth_nothing_at_another(
    service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    """RFC 9700, 4.4: each issuer by itself."""
    users.make_directory(world, COMMAND_LINE, "crew", "Crew", PasswordRules())
    world.commit()
    code = allowed(service, passengers)["code"]
    form = {"grant_type": CODE, "code": code, "code_verifier": VERIFIER, "redirect_uri": BACK}
    answer = service.post("/crew/token", data=form, auth=(passengers.web.id, passengers.secret))
    assert (answer.status_code, answer.json["error"]) == (401, "invalid_client")
    made = exchange(service, passengers, code=code).json
    bearer = {"Authorization": f"Bearer {made['access_token']}"}
    assert service.get("/crew/userinfo", headers=bearer).status_code == 401


def test_with_a_password_that_someone_else_set_nothing_is_seen_or_done_but_changing_it(
    service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    password = users.reset_password(world, COMMAND_LINE, passengers.user)
    world.commit()
    let_in(service, password)
    for path in ("/", "/profile", "/codes", "/device"):
        assert service.get(f"/passengers{path}").location.startswith("/passengers/password?next="), path
    for path in ("/profile", f"/applications/{passengers.web.id}/end", "/sessions/x/end", "/codes/off"):
        answer = service.post(f"/passengers{path}", data={"name": "Someone Else"})
        assert answer.location.startswith("/passengers/password"), path
    world.refresh(passengers.user)
    assert passengers.user.name == "Nell Holm"


@pytest.mark.parametrize("start", ["sign-in", "sign-up", "forgot"])
def test_forms_lead_back_to_the_client_that_a_page_is_for_and_nowhere_else(
    service: FlaskClient, passengers: Passengers, world: Session, start: str
) -> None:
    """Browsers hold the redirects after a form against `form-action` (CSP 3): who agreed before is sent straight back."""
    passengers.directory.sign_up = True
    world.add(passengers.directory)
    world.commit()

    def leads(target: str) -> str:
        page = service.get(f"/passengers/{start}", query_string={"next": target})
        found = re.search("form-action ([^;]+);", page.headers["Content-Security-Policy"])
        assert found is not None
        return found[1]

    assert leads(address(passengers)) == "'self' https://tern.example"
    assert leads(address(passengers, client_id=passengers.phone.id)) == "'self' example.tern: http://127.0.0.1:*"
    for target in (address(passengers, client_id="nobody"), "/passengers/", "/crew/authorize?client_id=x",
                   f"/passengers/device?client_id={passengers.web.id}", "https://evil.example/authorize"):  # fmt: skip
        assert leads(target) == "'self'", target
