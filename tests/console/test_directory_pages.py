"""Directories and users in the console: made, found, locked, reset, told in the audit log, and by whom."""

import html
import re
from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, col, select

from helpers import sign_in
from sign_in.flow import allowed, exchange, let_in
from sign_in.passengers import PASSWORD, Passengers
from tamarack.core.identity.jose import peek
from tamarack.demo.world import STAFF
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.people.staff import Staff
from tamarack.store.sign_in import users
from tamarack.store.sign_in.tables import Directory, EndUser, SignInClient

PEOPLE = "/settings/directories/passengers"
RULES = {
    "title": "Passengers",
    "shortest": "10",
    "digit": "yes",
    "access_minutes": "60",
    "refresh_days": "30",
    "active": "yes",
}


def user(world: Session, passengers: Passengers) -> EndUser:
    world.expire_all()
    found = world.get(EndUser, passengers.user.id)
    assert found is not None
    return found


def test_a_directory_is_made_with_rules_that_new_passwords_keep(admin: FlaskClient, world: Session) -> None:
    refused = admin.post("/settings/directories/", data={"name": "Not a name", "title": ""})
    assert refused.status_code == 422 and "lower-case letters" in refused.text and "give it 1 to 120" in refused.text
    assert (
        admin.post("/settings/directories/", data={"name": "crew", "title": "Crew"}).location
        == "/settings/directories/crew/"
    )
    assert "already" in admin.post("/settings/directories/", data={"name": "crew", "title": "Crew"}).text
    changed = admin.post("/settings/directories/crew/", data=RULES | {"sign": "yes"})
    assert changed.status_code == 303
    found = world.get(Directory, "crew")
    assert found is not None
    assert (found.password_rules.shortest, found.password_rules.sign, found.password_rules.upper) == (10, True, False)


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"shortest": "3"}, "greater than or equal to 8"),
        ({"access_minutes": "0"}, "is not a number from 1 to 1,440"),
        ({"refresh_days": "soon"}, "'soon' is not a number from 1 to 365"),
        ({"title": ""}, "give it 1 to 120 characters"),
    ],
)
def test_rules_that_cannot_be_are_said_beside_their_field(
    admin: FlaskClient, passengers: Passengers, changes: dict[str, str], said: str
) -> None:
    refused = admin.post(f"{PEOPLE}/", data=RULES | changes)
    assert refused.status_code == 422 and said in html.unescape(refused.text)


def test_a_user_is_made_with_a_password_that_is_shown_once(
    admin: FlaskClient, service: FlaskClient, passengers: Passengers
) -> None:
    made = admin.post(f"{PEOPLE}/users", data={"user": "Jon Vik", "email": "J.Vik@vik.example"}, follow_redirects=True)
    shown = re.search(r"shown this once:</b> <code>([^<]+)</code>", made.text)
    assert shown is not None
    signed = service.post("/passengers/sign-in", data={"email": "j.vik@vik.example", "password": shown[1]})
    assert signed.location.startswith("/passengers/password")
    for typed, said in (({"user": "Jon", "email": "j.vik@vik.example"}, "has a user j.vik@vik.example already"),
                        ({"user": "", "email": "x@y.example"}, "give it 1 to 120 characters"),
                        ({"user": "Jon", "email": "nowhere"}, "nowhere")):  # fmt: skip
        refused = admin.post(f"{PEOPLE}/users", data=typed)
        assert refused.status_code == 422 and said in html.unescape(refused.text)


def test_users_are_found_by_part_of_name_or_address(admin: FlaskClient, passengers: Passengers) -> None:
    assert "Nell Holm" in admin.get(f"{PEOPLE}/?q=holm").text
    assert "Nobody is found." in admin.get(f"{PEOPLE}/?q=%25").text


def test_a_locked_user_is_out_at_once_and_may_be_let_in_again(
    admin: FlaskClient, service: FlaskClient, passengers: Passengers
) -> None:
    typed = {"email": "nell@holm.example", "password": PASSWORD}
    service.post("/passengers/sign-in", data=typed)
    assert service.get("/passengers/").status_code == 200
    page = f"{PEOPLE}/users/{passengers.user.id}"
    admin.post(f"{page}/state", data={"active": "no"})
    assert service.get("/passengers/").status_code == 302
    assert service.post("/passengers/sign-in", data=typed).status_code == 422
    admin.post(f"{page}/state", data={"active": "yes"})
    assert service.post("/passengers/sign-in", data=typed).status_code == 303


def test_groups_and_claims_are_set_by_staff_and_none_that_the_service_says_itself(
    admin: FlaskClient, world: Session, passengers: Passengers
) -> None:
    page = f"{PEOPLE}/users/{passengers.user.id}/facts"
    assert admin.post(page, data={"groups": "crew\ncrew\n", "claims": '{"loyalty": "gold"}'}).status_code == 303
    kept = user(world, passengers)
    assert (kept.groups, kept.claims) == (["crew"], {"loyalty": "gold"})
    for claims, said in (
        ('{"sub": "x"}', "'sub' is what the service itself says"),
        ("{", "is not JSON"),
        ("[1]", "is no object"),
    ):
        refused = admin.post(page, data={"groups": "mine", "claims": claims})
        assert refused.status_code == 422 and said in html.unescape(refused.text) and "mine" in refused.text
    assert user(world, passengers).groups == ["crew"]


def test_who_did_what_is_in_the_audit_log_and_no_password(
    admin: FlaskClient, world: Session, passengers: Passengers
) -> None:
    page = f"{PEOPLE}/users/{passengers.user.id}"
    shown = admin.post(f"{page}/password", follow_redirects=True).text
    admin.post(f"{page}/state", data={"active": "no"})
    entries = world.exec(
        select(AuditEntry).where(AuditEntry.subject == passengers.user.id).order_by(col(AuditEntry.id))
    ).all()
    assert [one.action for one in entries[-2:]] == ["reset password of user", "lock user"]
    password = re.search(r"shown this once:</b> <code>([^<]+)</code>", shown)
    assert password is not None and all(password[1] not in str(one) for one in entries)


def test_support_cares_for_users_and_leaves_the_rules_alone(
    console: FlaskClient, world: Session, passengers: Passengers
) -> None:
    sign_in(console, "s.heath@skerry.example", "lichen-grey-23")
    assert console.get(f"{PEOPLE}/").status_code == 200
    assert console.post("/settings/directories/", data={"name": "x", "title": "X"}).status_code == 403
    assert console.post(f"{PEOPLE}/", data=RULES).status_code == 403
    assert console.post(f"{PEOPLE}/users", data={"user": "Jon", "email": "jon@vik.example"}).status_code == 303


def test_a_directory_that_is_closed_signs_nobody_in(
    admin: FlaskClient, service: FlaskClient, passengers: Passengers
) -> None:
    admin.post(f"{PEOPLE}/", data={name: value for name, value in RULES.items() if name != "active"})
    for path in ("sign-in", "authorize", "jwks.json", ".well-known/openid-configuration"):
        assert service.get(f"/passengers/{path}").status_code == 404
    assert service.post("/passengers/token").status_code == 404


def test_a_password_of_someone_else_is_never_asked_for_by_staff(world: Session, passengers: Passengers) -> None:
    """What staff set has to be changed: they know no password that goes on being good."""
    assert users.sign_in_user(world, "passengers", "nell@holm.example", PASSWORD) is not None
    assert not user(world, passengers).must_change_password


# what staff do with a user at once


def test_staff_require_another_password_and_sign_a_user_out(
    admin: FlaskClient, service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    there = f"{PEOPLE}/users/{passengers.user.id}"
    let_in(service)
    assert service.get("/passengers/").status_code == 200
    admin.post(f"{there}/act", data={"act": "require"})
    assert service.get("/passengers/").location.startswith("/passengers/sign-in"), "sessions have ended"
    assert let_in(service).location.startswith("/passengers/password")
    assert "has to change the password" in admin.get(there).text
    admin.post(f"{there}/act", data={"act": "end"})
    assert service.get("/passengers/").status_code == 302
    assert admin.post(f"{there}/act", data={"act": "rename"}).status_code == 400
    done = list(world.exec(select(AuditEntry.action).order_by(col(AuditEntry.id).desc()).limit(2)))
    assert done == ["end sessions of user", "require new password of user"]


def test_staff_end_one_session_and_take_back_one_agreement(
    admin: FlaskClient, service: FlaskClient, passengers: Passengers
) -> None:
    made = exchange(service, passengers, code=allowed(service, passengers)["code"]).json
    there = f"{PEOPLE}/users/{passengers.user.id}"
    page = admin.get(there).text
    session_id = re.search(rf"{there}/sessions/([^/]+)/end", page)
    assert session_id is not None and "Tern on the web" in page
    admin.post(f"{there}/sessions/{session_id[1]}/end")
    assert service.get("/passengers/").status_code == 302
    admin.post(f"{there}/applications/{passengers.web.id}/end")
    bearer = {"Authorization": f"Bearer {made['access_token']}"}
    assert service.get("/passengers/userinfo", headers=bearer).status_code == 401


# clients


def test_staff_make_a_client_for_an_application_change_it_and_end_its_tokens(
    admin: FlaskClient, service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    typed = {"application": "tern-web", "title": "Tern Desk", "environment": "test", "confidential": "yes",
             "grants": ["client_credentials"], "access_minutes": "15"}  # fmt: skip
    made = admin.post(f"{PEOPLE}/clients/", data=typed)
    page = admin.get(made.location).text
    secret = re.search(r"shown this once:</b> <code>([^<]+)</code>", page)
    assert secret is not None and "15 minutes" in page
    client = made.location.rpartition("/")[2]

    def asked() -> Any:
        return service.post("/passengers/token", data={"grant_type": "client_credentials"}, auth=(client, secret[1]))

    token = asked().json
    assert token["expires_in"] == 900
    assert "Tern Desk" in admin.get(f"{PEOPLE}/clients/?q=desk").text
    assert "No client is found" in admin.get(f"{PEOPLE}/clients/?q=%25").text
    refused = admin.post(made.location, data=typed | {"grants": [], "title": "Other"})
    assert refused.status_code == 422 and "choose what the client does" in refused.text and "Other" in refused.text
    assert admin.post(made.location, data=typed | {"access_minutes": "", "title": "Desk"}).status_code == 303
    assert asked().json["expires_in"] == 3600
    admin.post(f"{made.location}/act", data={"act": "end-tokens"})
    told = service.post("/passengers/introspect", data={"token": token["access_token"]}, auth=(client, secret[1]))
    assert told.json == {"active": False}
    assert admin.post(f"{made.location}/act", data={"act": "rename"}).status_code == 400
    admin.post(f"{made.location}/act", data={"act": "revoke"})
    assert asked().status_code == 401
    entry = world.exec(select(AuditEntry).where(AuditEntry.action == "change client")).one()
    assert "title" in str(entry.details) and "access_minutes" in str(entry.details)


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"application": "nobody"}, "there is no application 'nobody'"),
        ({"application": ""}, "there is no application ''"),
        ({"access_minutes": "soon"}, "'soon' is no number of minutes"),
        ({"access_minutes": "9999"}, "write minutes from 1 to 1,440"),
        ({"after_sign_out": "http://tern.example/"}, "is not encrypted"),
        ({"scopes": ["fleet:sink"]}, "is no scope that an API here offers"),
    ],
)
def test_a_client_that_cannot_be_made_is_told_and_nothing_typed_is_lost(
    admin: FlaskClient, passengers: Passengers, changes: dict[str, Any], said: str
) -> None:
    typed = {"application": "tern-web", "title": "Tern Desk", "environment": "test", "confidential": "yes",
             "grants": ["client_credentials"]} | changes  # fmt: skip
    refused = admin.post(f"{PEOPLE}/clients/", data=typed)
    assert refused.status_code == 422 and said in html.unescape(refused.text) and "Tern Desk" in refused.text


def test_whoever_may_not_changes_no_client(console: FlaskClient, passengers: Passengers, world: Session) -> None:
    support = next(one for one in STAFF if one.role == "support")
    looks_only = world.exec(select(Staff).where(Staff.email == support.email)).one()
    looks_only.role = "analyst"
    world.add(looks_only)
    world.commit()
    sign_in(console, support.email, support.password)
    there = f"{PEOPLE}/clients/{passengers.web.id}"
    for path in (f"{PEOPLE}/clients/", there, f"{there}/secret", f"{there}/act"):
        assert console.post(path).status_code == 403, path
    assert console.get(there).status_code == 200
    world.expire_all()
    assert world.get_one(SignInClient, passengers.web.id).revoked_at is None


# keys


def test_token_keys_are_rotated_by_algorithm_and_what_a_retired_one_signed_is_refused(
    admin: FlaskClient, service: FlaskClient, passengers: Passengers
) -> None:
    made = exchange(service, passengers, code=allowed(service, passengers)["code"]).json
    first = service.get("/passengers/jwks.json").json["keys"][0]
    for algorithm, type_ in (("RS256", "RSA"), ("Ed25519", "OKP"), ("ES256", "EC")):
        assert admin.post("/settings/keys/rotate", data={"purpose": "token", "algorithm": algorithm}).status_code == 303
        key = service.get("/passengers/jwks.json").json["keys"][0]
        assert (key["kty"], key["alg"]) == (type_, algorithm) and "d" not in key and "p" not in key
        newer = exchange(service, passengers, code=allowed(service, passengers)["code"]).json
        for token in (newer["access_token"], newer["id_token"]):
            header, _ = peek(token.encode())
            assert (header["alg"], header["kid"]) == (algorithm, key["kid"])
        bearer = {"Authorization": f"Bearer {newer['access_token']}"}
        assert service.get("/passengers/userinfo", headers=bearer).status_code == 200
    assert admin.post("/settings/keys/rotate", data={"purpose": "token", "algorithm": "none"}).status_code == 400
    bearer = {"Authorization": f"Bearer {made['access_token']}"}
    assert service.get("/passengers/userinfo", headers=bearer).status_code == 200
    admin.post(f"/settings/keys/{first['kid']}/retire")
    assert service.get("/passengers/userinfo", headers=bearer).status_code == 401
    assert first["kid"] not in [one["kid"] for one in service.get("/passengers/jwks.json").json["keys"]]


def test_directories_are_read_as_a_file_without_secrets(admin: FlaskClient, passengers: Passengers) -> None:
    assert "All of them as a file" in admin.get("/settings/directories/").text
    file = admin.get("/settings/directories/directories.yaml")
    assert file.mimetype == "application/yaml" and passengers.web.id in file.text
    assert passengers.web.secret_digest not in file.text and "nell@" not in file.text
