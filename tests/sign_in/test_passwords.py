"""Passwords of end users: rules that are named, a first change that is forced, a door that guesses do not open."""

import re
from datetime import timedelta

import pytest
from flask.testing import FlaskClient
from hypothesis import given
from hypothesis import strategies as st
from sqlmodel import Session, func, select

from sign_in.passengers import PASSWORD, Passengers
from tamarack.core.sign_in.password_rules import PasswordRules, broken_rules, in_words
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.columns import now
from tamarack.store.rollouts.tables import FeedItem
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in import users

ALL = PasswordRules(shortest=10, digit=True, upper=True, lower=True, sign=True)


@pytest.mark.parametrize(
    ("password", "broken"),
    [
        ("Gull-and-77-x", []),
        ("short", ["shortest", "digit", "upper", "sign"]),
        ("gullandtide77", ["upper", "sign"]),
        ("GULL-AND-TIDE-77", ["lower"]),
        ("Gull-and-tide", ["digit"]),
        ("Passw0rd-12", ["well-known"]),
        ("Aa1-Aa1-Aa1-", ["well-known"]),
        ("Nell-holm-1977", ["personal"]),
        ("x" * 300, ["longest", "digit", "upper", "sign", "well-known"]),
    ],
)
def test_every_rule_that_a_password_breaks_is_named(password: str, broken: list[str]) -> None:
    assert [one.rule for one in broken_rules(password, ALL, ("nell@holm.example", "Nell Holm"))] == broken


@given(st.text(max_size=40))
def test_a_password_that_breaks_no_rule_has_all_that_is_asked_for(password: str) -> None:
    if not broken_rules(password, ALL):
        assert len(password) >= 10 and any(one.isdigit() for one in password) and any(one.isupper() for one in password)


@given(
    st.builds(PasswordRules, shortest=st.integers(8, 64), digit=st.booleans(), upper=st.booleans(), lower=st.booleans())
)
def test_a_temporary_password_keeps_the_rules_of_its_directory(rules: PasswordRules) -> None:
    assert broken_rules(users.temporary_password(rules), rules) == []
    assert str(rules.shortest) in in_words(rules)


def temporary(world: Session, passengers: Passengers) -> str:
    password = users.reset_password(world, COMMAND_LINE, passengers.user)
    world.commit()
    return password


def test_whoever_has_a_password_that_staff_set_chooses_one_first(
    service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    password = temporary(world, passengers)
    typed = {"email": "nell@holm.example", "password": password, "next": "/passengers/authorize?x=1"}
    first = service.post("/passengers/sign-in", data=typed)
    assert first.location.startswith("/passengers/password?next=")
    assert service.get("/passengers/").location.startswith("/passengers/password")
    change = {"old": password, "new": "gull-and-tides", "next": "/passengers/"}
    refused = service.post("/passengers/password", data=change)
    assert refused.status_code == 422 and "needs a digit" in refused.text and 'value="/passengers/"' in refused.text
    assert service.post("/passengers/password", data=change | {"old": "wrong"}).status_code == 422
    assert "is the one you have" in service.post("/passengers/password", data=change | {"new": password}).text
    done = service.post("/passengers/password", data=change | {"new": PASSWORD})
    assert (done.status_code, done.location) == (303, "/passengers/")
    assert service.get("/passengers/").status_code == 200


def test_a_program_changes_it_and_is_told_each_rule_that_failed(
    service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    password = temporary(world, passengers)
    sent = {"email": "nell@holm.example", "password": password, "new": "tidal"}
    told = service.post("/passengers/password.json", json=sent)
    assert told.status_code == 422
    assert [one["rule"] for one in told.json["errors"]] == ["shortest", "digit"]
    assert "needs a digit" in told.json["errors"][1]["detail"]
    assert service.post("/passengers/password.json", json=sent | {"password": "wrong"}).status_code == 401
    assert service.post("/passengers/password.json", data="{").status_code == 400
    assert service.post("/passengers/password.json", json=sent | {"new": PASSWORD}).json == {"changed": True}
    assert service.post("/passengers/password.json", json=sent | {"new": PASSWORD}).status_code == 401


def test_a_password_that_was_reset_ends_sessions_and_tokens(
    service: FlaskClient, passengers: Passengers, world: Session
) -> None:
    service.post("/passengers/sign-in", data={"email": "nell@holm.example", "password": PASSWORD})
    assert service.get("/passengers/").status_code == 200
    temporary(world, passengers)
    assert service.get("/passengers/").status_code == 302


def test_guesses_are_bounded_and_an_unknown_account_answers_like_a_known_one(
    service: FlaskClient, passengers: Passengers
) -> None:
    answers = [
        service.post("/passengers/sign-in", data={"email": email, "password": "wrong"})
        for email in ("nell@holm.example", "nobody@holm.example")
    ]
    assert [one.status_code for one in answers] == [422, 422]
    first, second = (re.sub(r'name="csrf_token" value="[^"]*"', "", one.text) for one in answers)
    assert first.replace("nell@", "nobody@") == second
    for _ in range(12):
        last = service.post("/passengers/sign-in", data={"email": "nell@holm.example", "password": "wrong"})
    assert last.status_code == 429
    assert service.post("/passengers/password.json",
                        json={"email": "nell@holm.example", "password": PASSWORD, "new": "x"}).status_code == 429  # fmt: skip


@pytest.mark.parametrize(
    "target", ["https://evil.example/", "//evil.example", "/other/authorize", "/\\evil", "/passengersx/"]
)
def test_signing_in_leads_nowhere_else(service: FlaskClient, passengers: Passengers, target: str) -> None:
    typed = {"email": "nell@holm.example", "password": PASSWORD, "next": target}
    assert service.post("/passengers/sign-in", data=typed).location == "/passengers/"


def test_what_is_over_is_forgotten_but_never_the_number_that_the_feed_counts_from(
    passengers: Passengers, world: Session
) -> None:
    for _ in range(3):
        grant = granting.new_grant(world, passengers.web, passengers.user.id, ["openid"])
        granting.lives_until(world, grant, now() + timedelta(hours=1))
        granting.end_grant(world, grant, "a test")
    long_ago = (now() - timedelta(days=3)).timestamp()
    for item in world.exec(select(FeedItem).where(FeedItem.kind == "ended-grant")):
        item.body = {"until": long_ago, "at": long_ago}
        world.add(item)
    newest = world.exec(select(func.max(FeedItem.seq))).one()
    granting.drop_ended(world)
    assert [one.seq for one in world.exec(select(FeedItem).where(FeedItem.kind == "ended-grant"))] == [newest]
