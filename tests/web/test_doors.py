"""Doors: guessing is slow, nobody is locked out by somebody else, and what ended is over."""

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor

import pytest
from flask import Flask
from flask.testing import FlaskClient
from sqlalchemy import Engine
from sqlmodel import Session, select

from helpers import sign_in
from tamarack.console.app import make_app
from tamarack.settings import Settings
from tamarack.store.people.attempts import FREE, LONGEST_DELAY_S, SignInAttempt, TooManyAttempts, begin_attempt
from tamarack.store.people.sessions import SignedIn
from tamarack.store.people.staff import Staff
from tamarack.web.people import waiting

ADMIN = ("i.marsh@skerry.example", "larch-gold-41")


@pytest.fixture(autouse=True)
def waited(monkeypatch: pytest.MonkeyPatch) -> list[float]:
    """How long sign-ins were delayed; nothing waits here."""
    seconds: list[float] = []
    monkeypatch.setattr(waiting.time, "sleep", seconds.append)
    return seconds


@pytest.fixture
def another() -> Iterator[Callable[[Settings], FlaskClient]]:
    """Makes further browsers at the console."""
    apps: list[Flask] = []

    def make(settings: Settings) -> FlaskClient:
        apps.append(make_app(settings))
        apps[-1].config.update(WTF_CSRF_ENABLED=False)
        return apps[-1].test_client()

    yield make
    for app in apps:
        app.extensions["tamarack_engine"].dispose()


def tries(client: FlaskClient, password: str, address: str = "192.0.2.1", email: str = ADMIN[0]) -> int:
    form = {"email": email, "password": password}
    return client.post("/sign-in", data=form, environ_base={"REMOTE_ADDR": address}).status_code


def test_of_many_attempts_at_once_no_more_are_checked_than_of_one_after_the_other(engine: Engine) -> None:
    def attempt(_: int) -> bool:
        with Session(engine) as session:
            try:
                begin_attempt(session, "console", "A@x.example ", "192.0.2.1", 8)
            except TooManyAttempts:
                return False
            return True

    with ThreadPoolExecutor(24) as pool:
        assert sum(pool.map(attempt, range(24))) == 8


def test_guessing_from_elsewhere_delays_and_never_locks_the_owner_out(
    console: FlaskClient, waited: list[float]
) -> None:
    for place in range(1, 40):
        assert tries(console, "wrong-wrong-wrong", f"192.0.2.{place}") == 422
    assert (len(waited), waited[0], waited[-1]) == (39 - FREE, 0.1, LONGEST_DELAY_S)
    assert tries(console, ADMIN[1], "198.51.100.7") == 303


def test_the_owner_is_not_delayed_where_they_are_signed_in_already(
    console: FlaskClient, settings: Settings, waited: list[float], another: Callable[[Settings], FlaskClient]
) -> None:
    at_home = another(settings)
    assert tries(at_home, ADMIN[1], "198.51.100.7") == 303
    for place in range(1, 2 * FREE):
        tries(console, "wrong-wrong-wrong", f"192.0.2.{place}")
    before = len(waited)
    assert tries(another(settings), ADMIN[1], "198.51.100.7") == 303
    assert len(waited) == before


def test_guessing_from_one_place_ends_there_and_for_that_account_first(
    console: FlaskClient, settings: Settings
) -> None:
    most = settings.sign_in_attempts
    assert [tries(console, "wrong-wrong-wrong") for _ in range(most + 1)] == [422] * most + [429]
    assert tries(console, ADMIN[1]) == 429, "also the right one, from there"
    assert tries(console, "spruce-ink-17", email="o.reed@skerry.example") == 303
    for number in range(4 * most):
        tries(console, "wrong-wrong-wrong", email=f"n{number}@x.example")
    assert tries(console, "wrong-wrong-wrong", email="one-more@x.example") == 429


def test_coming_in_takes_earlier_slips_back(console: FlaskClient, world: Session) -> None:
    assert tries(console, "a slip of the hand") == 422
    assert tries(console, ADMIN[1]) == 303
    assert world.exec(select(SignInAttempt)).all() == []


def test_signing_out_ends_the_session_for_whoever_kept_its_cookie(console: FlaskClient) -> None:
    sign_in(console, *ADMIN)
    cookie = console.get_cookie("tamarack_console")
    assert cookie is not None
    console.post("/sign-out")
    console.set_cookie("tamarack_console", cookie.value)
    assert console.get("/apis/").status_code == 302


def test_a_cookie_of_one_door_opens_no_other_and_a_password_change_ends_all_others(
    console: FlaskClient, settings: Settings, world: Session, another: Callable[[Settings], FlaskClient]
) -> None:
    sign_in(console, *ADMIN)
    other = another(settings)
    sign_in(other, *ADMIN)
    page = console.get("/password/").text
    assert page.count("this browser") == 1
    assert "End all others" in page
    new = {"old": ADMIN[1], "new": "another-lamp-55"}
    assert console.post("/password/", data=new).status_code == 303
    assert console.get("/apis/").status_code == 200
    assert other.get("/apis/").status_code == 302
    row = world.exec(select(SignedIn)).one()
    row.door = "portal"
    world.add(row)
    world.commit()
    assert console.get("/apis/").status_code == 302


def test_one_ends_ones_own_sessions_and_nobody_elses(
    console: FlaskClient, settings: Settings, world: Session, another: Callable[[Settings], FlaskClient]
) -> None:
    sign_in(console, *ADMIN)
    other = another(settings)
    sign_in(other, "o.reed@skerry.example", "spruce-ink-17")
    reed = world.exec(select(Staff).where(Staff.email == "o.reed@skerry.example")).one()
    theirs = world.exec(select(SignedIn).where(SignedIn.who == reed.id)).one()
    assert console.post("/password/sessions", data={"session": theirs.id}).status_code == 404
    assert other.get("/apis/").status_code == 200
    assert other.post("/password/sessions", data={"session": theirs.id}).status_code == 303
    assert other.get("/apis/").status_code == 302


def test_behind_a_trusted_proxy_the_callers_own_address_counts(
    settings: Settings, world: Session, another: Callable[[Settings], FlaskClient]
) -> None:
    behind = another(settings.model_copy(update={"trusted_proxies": "10.0.0.0/8"}))
    for peer, said, counted in (
        ("10.0.0.1", "198.51.100.1", "198.51.100.1"), ("10.0.0.1", "6.6.6.6, 198.51.100.2", "198.51.100.2"),
        ("192.0.2.1", "198.51.100.3", "192.0.2.1"),
    ):  # fmt: skip
        form = {"email": ADMIN[0], "password": "wrong-wrong-wrong"}
        behind.post("/sign-in", data=form, headers={"X-Forwarded-For": said}, environ_base={"REMOTE_ADDR": peer})
        newest = world.exec(select(SignInAttempt).order_by(SignInAttempt.id.desc())).first()  # type: ignore[union-attr]
        assert newest is not None
        assert newest.address == counted


@pytest.mark.parametrize("path", ["/apis/?a=\x00", "/subscribers/?search=a\x07b", "/traffic/calls?call=\x1b[0m"])
def test_what_no_field_can_hold_is_refused_and_named(admin: FlaskClient, path: str) -> None:
    answer = admin.get(path)
    assert answer.status_code == 422
    assert "U+00" in answer.text


@pytest.mark.parametrize("odd", ["²", "9" * 30, "-1", "1e3", "٣", "NaN", " "])
def test_odd_numbers_are_never_an_error_of_ours(admin: FlaskClient, odd: str) -> None:
    for path in (
        f"/apis/?page={odd}",
        f"/settings/audit?before={odd}",
        f"/traffic/calls?page={odd}",
        f"/rollouts/{odd}",
    ):
        assert admin.get(path).status_code in (200, 302, 404)
    for path in ("/traffic/traces/share", "/traffic/traces/watch", "/settings/secrets/"):
        form = {"share": odd, "minutes": odd, "overlap": odd, "application": "x"}
        assert admin.post(path, data=form).status_code in (303, 404, 422)


def test_an_answer_that_changes_nothing_sets_no_cookie(admin: FlaskClient) -> None:
    """So that one that comes late does not put an older cookie in a newer one's place, and a message gets lost."""
    admin.get("/apis/")
    assert "Set-Cookie" not in admin.get("/apis/").headers
