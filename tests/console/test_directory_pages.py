"""Directories and users in the console: made, found, locked, reset, told in the audit log, and by whom."""

import html
import re

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, col, select

from helpers import sign_in
from sign_in.passengers import PASSWORD, Passengers
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.sign_in import users
from tamarack.store.sign_in.tables import Directory, EndUser

PEOPLE = "/directories/passengers"
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
    refused = admin.post("/directories/", data={"name": "Not a name", "title": ""})
    assert refused.status_code == 422 and "lower-case letters" in refused.text and "give it 1 to 120" in refused.text
    assert admin.post("/directories/", data={"name": "crew", "title": "Crew"}).location == "/directories/crew/"
    assert "already" in admin.post("/directories/", data={"name": "crew", "title": "Crew"}).text
    changed = admin.post("/directories/crew/", data=RULES | {"sign": "yes"})
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
    assert console.post("/directories/", data={"name": "x", "title": "X"}).status_code == 403
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
