"""End users by mail: signing up, invitations, forgotten passwords; and that strangers learn nothing."""

import html
import re
from datetime import timedelta

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, col, select

from helpers import sign_in
from sign_in.passengers import PASSWORD, Passengers
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.columns import now
from tamarack.store.joining import queries as joining
from tamarack.store.joining.tables import MailLink
from tamarack.store.mail.tables import Mail
from tamarack.store.sign_in.tables import Directory, EndUser

GOOD = "Lantern-and-Pier-9"
NEW = {"name": "Ida Strand", "email": "Ida@Strand.example"}
ASKED = "/passengers/authorize?client_id=c&scope=openid+profile"


def newest(world: Session, to: str) -> Mail | None:
    """The newest mail to someone, after the worker answered what strangers asked for."""
    world.expire_all()
    while (asked := joining.next_ask(world)) is not None:
        joining.answer(world, asked, "http://portal.example", "http://sign-in.example")
        world.commit()
    return world.exec(select(Mail).where(Mail.to == to).order_by(col(Mail.id).desc())).first()


def link(world: Session, to: str) -> str:
    """The path that the newest mail to someone leads to."""
    mail = newest(world, to)
    assert mail is not None and mail.secret
    found = re.search(r"http://sign-in.example(/\S+)", mail.text)
    assert found is not None
    return found[1]


def user(world: Session, email: str) -> EndUser | None:
    world.expire_all()
    return world.exec(select(EndUser).where(EndUser.email == email)).first()


@pytest.fixture
def open_to_all(world: Session, passengers: Passengers) -> Directory:
    passengers.directory.sign_up = True
    world.add(passengers.directory)
    world.commit()
    return passengers.directory


def test_someone_signs_up_chooses_a_password_where_the_mail_leads_and_goes_on(
    service: FlaskClient, world: Session, open_to_all: Directory
) -> None:
    assert ">Sign up</a>" in service.get("/passengers/sign-in").text
    assert "Check your mail" in service.post("/passengers/sign-up", data=NEW | {"next": ASKED}).text
    assert user(world, "ida@strand.example") is None
    where = link(world, "ida@strand.example")
    page = service.get(where)
    assert "Welcome, Ida Strand" in page.text
    refused = service.post(where, data={"password": "gulls"})
    assert refused.status_code == 422
    assert "needs at least 12 characters; this has 5" in refused.text
    assert "needs a digit" in refused.text and user(world, "ida@strand.example") is None
    taken = service.post(where, data={"password": GOOD})
    assert taken.status_code == 303 and taken.location == ASKED
    made = user(world, "ida@strand.example")
    assert made is not None and made.email_confirmed and not made.must_change_password
    assert service.get("/passengers/").status_code == 200  # signed in
    assert service.get(where).status_code == 410


def test_who_has_an_account_reads_so_in_the_mail_and_nobody_else_does(
    service: FlaskClient, world: Session, open_to_all: Directory
) -> None:
    words = [
        service.post("/passengers/sign-up", data={"name": "X", "email": email}).text.replace(email, "")
        for email in ("nell@holm.example", "nobody@holm.example")
    ]
    assert words[0] == words[1]
    mail = newest(world, "nell@holm.example")
    assert mail is not None and mail.subject == "You have an account already"


def test_where_a_directory_is_not_open_nobody_signs_up(
    service: FlaskClient, world: Session, passengers: Passengers, open_to_all: Directory
) -> None:
    service.post("/passengers/sign-up", data=NEW)
    where = link(world, "ida@strand.example")
    open_to_all.sign_up = False
    world.add(open_to_all)
    world.commit()
    assert service.get("/passengers/sign-up").status_code == 404
    assert service.post("/passengers/sign-up", data=NEW).status_code == 404
    assert service.post(where, data={"password": GOOD}).status_code == 410
    assert ">Sign up</a>" not in service.get("/passengers/sign-in").text


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"name": ""}, "give it 1 to 120 characters"),
        ({"name": "Ida\r\nBcc: all@strand.example"}, "cannot stand in one line"),
        ({"email": "nowhere"}, "nowhere"),
    ],
)
def test_mistakes_are_said_and_what_was_typed_stays(
    service: FlaskClient, world: Session, open_to_all: Directory, changes: dict[str, str], said: str
) -> None:
    refused = service.post("/passengers/sign-up", data=NEW | changes | {"next": ASKED})
    assert refused.status_code == 422 and said in html.unescape(refused.text)
    assert f'name="next" value="{html.escape(ASKED)}"' in refused.text
    assert joining.next_ask(world) is None


def test_a_forgotten_password_is_set_anew_and_everything_that_was_open_ends(
    service: FlaskClient, world: Session, passengers: Passengers
) -> None:
    service.post("/passengers/sign-in", data={"email": "nell@holm.example", "password": PASSWORD})
    assert "Check your mail" in service.post("/passengers/forgot", data={"email": "Nell@holm.example"}).text
    where = link(world, "nell@holm.example")
    assert service.post(where, data={"password": "nell-is-here-7"}).status_code == 422  # holds her name
    assert service.get(where).status_code == 200  # the link is good still
    assert service.post(where, data={"password": GOOD}).status_code == 303
    assert service.get("/passengers/").status_code == 302  # signed out
    assert service.post(where, data={"password": GOOD + "x"}).status_code == 410
    typed = {"email": "nell@holm.example", "password": GOOD}
    assert service.post("/passengers/sign-in", data=typed).status_code == 303
    kept = user(world, "nell@holm.example")
    assert kept is not None and kept.email_confirmed
    entry = world.exec(select(AuditEntry).order_by(col(AuditEntry.id).desc())).first()
    assert entry is not None and entry.action == "set forgotten password of user" and GOOD not in str(entry)


def test_asking_for_a_forgotten_password_tells_a_stranger_nothing(
    service: FlaskClient, world: Session, passengers: Passengers
) -> None:
    emails = ("nell@holm.example", "nobody@holm.example")
    words = [service.post("/passengers/forgot", data={"email": one}).text.replace(one, "") for one in emails]
    assert words[0] == words[1]
    assert newest(world, "nobody@holm.example") is None


def test_links_are_over_in_time_and_a_newer_one_ends_the_one_before(
    service: FlaskClient, world: Session, passengers: Passengers
) -> None:
    service.post("/passengers/forgot", data={"email": "nell@holm.example"})
    first = link(world, "nell@holm.example")
    service.post("/passengers/forgot", data={"email": "nell@holm.example"})
    second = link(world, "nell@holm.example")
    assert (service.get(first).status_code, service.get(second).status_code) == (410, 200)
    for one in world.exec(select(MailLink)):
        one.expires_at = now() - timedelta(seconds=1)
        world.add(one)
    world.commit()
    assert service.get(second).status_code == 410


def test_a_link_of_one_directory_or_purpose_is_none_of_another(
    service: FlaskClient, world: Session, passengers: Passengers
) -> None:
    world.add(Directory(name="crew", title="Crew", rules=passengers.directory.rules, sign_up=True))
    world.commit()
    service.post("/passengers/forgot", data={"email": "nell@holm.example"})
    where = link(world, "nell@holm.example")
    assert service.get(where.replace("/passengers/", "/crew/")).status_code == 410
    assert service.get(where.replace("/reset/", "/join/")).status_code == 410


@pytest.mark.parametrize("target", ["https://evil.example/", "//evil.example", "/crew/", "/passengers/" + "x" * 2_000])
def test_a_mail_leads_on_to_nowhere_else(
    service: FlaskClient, world: Session, open_to_all: Directory, target: str
) -> None:
    service.post("/passengers/sign-up", data=NEW | {"next": target})
    taken = service.post(link(world, "ida@strand.example"), data={"password": GOOD})
    assert taken.location == "/passengers/"


def test_mail_without_end_is_not_sent(service: FlaskClient, world: Session, passengers: Passengers) -> None:
    said = [service.post("/passengers/forgot", data={"email": "nell@holm.example"}).status_code for _ in range(12)]
    assert said[0] == 200 and said[-1] == 429
    newest(world, "nell@holm.example")
    sent = world.exec(select(Mail).where(Mail.to == "nell@holm.example")).all()
    assert len(sent) == joining.MOST_MAILS


def test_staff_ask_someone_in_by_mail(
    console: FlaskClient, service: FlaskClient, world: Session, passengers: Passengers
) -> None:
    sign_in(console, "s.heath@skerry.example", "lichen-grey-23")
    typed = {"user": "Jon Vik", "email": "jon@vik.example", "how": "invite"}
    page = console.post("/settings/directories/passengers/users", data=typed, follow_redirects=True)
    assert "jon@vik.example is asked in by mail" in page.text
    mail = newest(world, "jon@vik.example")
    assert mail is not None
    where = re.search(r"http://[^/]+(/passengers/join/\S+)", mail.text)
    assert where is not None
    assert service.post(where[1], data={"password": GOOD}).status_code == 303
    assert user(world, "jon@vik.example") is not None
    again = console.post("/settings/directories/passengers/users", data=typed)
    assert again.status_code == 422 and "has a user jon@vik.example already" in again.text


def test_an_address_that_was_confirmed_says_so_in_tokens(world: Session, passengers: Passengers) -> None:
    from tamarack.sign_in.protocol.tokens import facts_of

    assert facts_of(passengers.user, ["email"])["email_verified"] is False
    passengers.user.email_confirmed = True
    assert facts_of(passengers.user, ["email"])["email_verified"] is True
