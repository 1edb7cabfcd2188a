"""The sign-in log: who signed in, what was granted and refused, for which reason, as staff read it; and no secret in it."""

import re
from datetime import timedelta

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from sign_in.passengers import PASSWORD, Passengers
from sign_in.test_code_grant import allowed, exchange, let_in
from tamarack.store.columns import now
from tamarack.store.sign_in import log
from tamarack.store.sign_in.tables import SignInEvent

LOG = "/settings/directories/passengers/log"


def happened(world: Session) -> list[tuple[str, bool, str]]:
    """What the log says, the oldest first."""
    world.expire_all()
    found, _ = log.events(world, "passengers")
    return [(one.what, one.refused, one.why) for one in reversed(found)]


def test_what_a_user_and_a_client_do_is_told_in_order(
    service: FlaskClient, world: Session, passengers: Passengers
) -> None:
    back = allowed(service, passengers)
    exchange(service, passengers, code=back["code"])
    exchange(service, passengers, code=back["code"])
    assert happened(world) == [
        ("sign in", False, ""),
        ("let an application in", False, ""),
        ("get tokens for a user", False, ""),
        ("get tokens for a user", True, "invalid_grant: Invalid 'code' in request."),
    ]
    tokens = log.events(world, "passengers")[0][1]
    assert (tokens.who, tokens.client_id) == ("nell@holm.example", passengers.web.id)


def test_why_a_sign_in_was_refused_is_told_to_staff_and_to_nobody_else(
    service: FlaskClient, world: Session, passengers: Passengers
) -> None:
    pages = [let_in(service, "wrong").text]
    nobody = {"email": "nobody@holm.example", "password": PASSWORD}
    pages.append(service.post("/passengers/sign-in", data=nobody).text.replace("nobody@", "nell@"))
    passengers.user.active = False
    world.add(passengers.user)
    world.commit()
    pages.append(let_in(service).text)
    told = {re.sub('name="csrf_token" value="[^"]*"', "", page) for page in pages}
    assert len(told) == 1
    assert [why for _, refused, why in happened(world) if refused] == [
        "wrong password",
        "no such user",
        "locked, or wrong password",
    ]


def test_staff_find_what_was_refused_by_user_client_or_address(
    admin: FlaskClient, service: FlaskClient, passengers: Passengers
) -> None:
    assert "Nobody has signed in yet." in admin.get(LOG).text
    let_in(service)
    let_in(service, "wrong")
    every = admin.get(LOG).text
    assert "2 entries" in every and "wrong password" in every
    assert "1 entry" in admin.get(f"{LOG}?show=refused&q=NELL").text
    assert "Nothing is found." in admin.get(f"{LOG}?q=%25").text
    assert "wrong password" in admin.get(f"/settings/directories/passengers/users/{passengers.user.id}").text


def test_no_password_code_or_token_is_in_it(service: FlaskClient, world: Session, passengers: Passengers) -> None:
    back = allowed(service, passengers)
    made = exchange(service, passengers, code=back["code"]).json
    exchange(service, passengers, code="a-code-that-is-wrong")
    let_in(service, "a-password-that-is-wrong")
    kept = str([one.model_dump() for one in world.exec(select(SignInEvent))])
    secrets = (PASSWORD, passengers.secret, back["code"], made["access_token"], made["refresh_token"], "that-is-wrong")
    assert not [one for one in secrets if one in kept]


def test_what_people_type_is_one_line_of_bounded_length(
    service: FlaskClient, world: Session, passengers: Passengers
) -> None:
    typed = "x" * 500 + "@holm.example\r\nsign in"
    service.post("/passengers/sign-in", data={"email": typed, "password": "x"})
    kept = world.exec(select(SignInEvent)).one()
    assert len(kept.who) <= log.LONGEST and kept.who.isprintable()


def test_a_request_that_is_too_large_is_refused_unread(
    service: FlaskClient, world: Session, passengers: Passengers
) -> None:
    refused = service.post("/passengers/token", data={"grant_type": "x" * 30_000})
    assert refused.json["error_description"] == "The request is too large." and happened(world) == []


def test_the_log_is_bounded_in_time_and_number(
    world: Session, passengers: Passengers, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(log, "MOST_KEPT", 3)
    for number in range(6):
        log.note(world, "passengers", f"event {number}")
    old = world.exec(select(SignInEvent).where(SignInEvent.what == "event 5")).one()
    old.at = now() - log.KEPT - timedelta(seconds=1)
    world.add(old)
    world.flush()
    log.drop_old(world)
    assert [what for what, _, _ in happened(world)] == ["event 2", "event 3", "event 4"]
