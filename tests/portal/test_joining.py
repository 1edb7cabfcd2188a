"""Joining: sign-up with confirmation and approval, invitations, forgotten passwords, the team, and first passwords."""

import re
from datetime import timedelta

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, col, select

from helpers import sign_in
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.columns import now
from tamarack.store.joining import queries as joining
from tamarack.store.joining.tables import JoinRequest, MailLink
from tamarack.store.mail import telling
from tamarack.store.mail.tables import Mail
from tamarack.store.people.tables import Organization, Person

GOOD = "harbour-lamp-77"
FORM = {"name": "Ane Skog", "email": "Ane.Skog@tern-trips.example", "organization": "tern trips",
        "message": "I build the app"}  # fmt: skip
CHOSEN = {"password": GOOD}
LEAD = ("m.tern@tern-trips.example", "island-hopper-52")
MEMBER = ("j.gale@tern-trips.example", "north-breeze-64")


def mails(session: Session, to: str) -> list[Mail]:
    """All mail to someone, after what strangers asked for was answered, as the worker does."""
    session.expire_all()
    while (asked := joining.next_ask(session)) is not None:
        joining.answer(session, asked, "http://portal.example", "http://sign-in.example")
        session.commit()
    return list(session.exec(select(Mail).where(Mail.to == to).order_by(col(Mail.id))))


def link(session: Session, to: str) -> str:
    """The path that the newest mail to someone leads to."""
    found = re.search(r"http://[^/\s]+(/\S+)", mails(session, to)[-1].text)
    assert found is not None
    return found[1]


def signs_in(client: FlaskClient, email: str, password: str) -> bool:
    return client.post("/sign-in", data={"email": email, "password": password}).status_code == 303


def test_a_stranger_signs_up_confirms_is_let_in_by_the_lead_and_signs_in(portal: FlaskClient, world: Session) -> None:
    assert "Check your mail" in portal.post("/join", data=FORM).text
    email = "ane.skog@tern-trips.example"
    assert not signs_in(portal, email, GOOD)
    where = link(world, email)
    assert "This is my address" in portal.get(where).text
    assert "at least 12" in portal.post(where, data={"password": "short"}).text
    assert world.exec(select(JoinRequest)).one().state == "unconfirmed"  # looking confirms nothing
    assert "a lead of your organization" in portal.post(where, data=CHOSEN).text.lower()
    assert portal.post(where, data=CHOSEN).status_code == 410
    assert "asks to join Tern Trips" in mails(world, LEAD[0])[-1].subject
    sign_in(portal, *LEAD)
    page = portal.get("/team/").text
    assert "I build the app" in page
    wanted = world.exec(select(JoinRequest)).one()
    assert "Say why" in portal.post(f"/team/requests/{wanted.id}", data={"act": "decline"}, follow_redirects=True).text
    said = portal.post(f"/team/requests/{wanted.id}", data={"act": "approve"}, follow_redirects=True).text
    assert "is in, and is told by mail" in said
    assert mails(world, email)[-1].subject == "Welcome to Tern Trips"
    assert (
        "is joined" in portal.post(f"/team/requests/{wanted.id}", data={"act": "approve"}, follow_redirects=True).text
    )
    portal.post("/sign-out")
    assert signs_in(portal, email, GOOD)


def test_an_unknown_organization_is_decided_by_staff_and_may_be_made_anew(
    portal: FlaskClient, admin: FlaskClient, world: Session
) -> None:
    portal.post("/join", data=FORM | {"email": "p@puffin.example", "organization": "Puffin Works"})
    assert "platform team" in portal.post(link(world, "p@puffin.example"), data=CHOSEN).text.lower()
    assert "asks to join Puffin Works" in mails(world, "i.marsh@skerry.example")[-1].subject
    assert "Puffin Works" in admin.get("/subscribers/requests/").text
    wanted = world.exec(select(JoinRequest)).one()
    sign_in(portal, *LEAD)
    assert portal.post(f"/team/requests/{wanted.id}", data={"act": "approve"}).status_code == 404  # not theirs
    portal.post("/sign-out")
    said = admin.post(
        f"/subscribers/requests/joining/{wanted.id}", data={"role": "lead", "organization": ""}, follow_redirects=True
    )
    assert "Ane Skog is in Puffin Works" in said.text
    assert signs_in(portal, "p@puffin.example", GOOD)


def test_a_request_is_declined_with_a_reason_and_the_password_is_not_kept(
    portal: FlaskClient, admin: FlaskClient, world: Session
) -> None:
    portal.post("/join", data=FORM)
    email = FORM["email"].lower()
    portal.post(link(world, email), data=CHOSEN)
    wanted = world.exec(select(JoinRequest)).one()
    admin.post(
        f"/subscribers/requests/joining/{wanted.id}", data={"act": "decline", "reason": "use the shared account"}
    )
    assert "use the shared account" in mails(world, email)[-1].text
    world.expire_all()
    kept = world.exec(select(JoinRequest)).one()
    assert (kept.state, kept.password_hash) == ("declined", "")
    assert not signs_in(portal, email, GOOD)


def test_what_a_stranger_is_told_is_the_same_whether_an_account_exists(portal: FlaskClient, world: Session) -> None:
    known, unknown = (
        portal.post("/join", data=FORM | {"email": one}).text.replace(one, "x") for one in (LEAD[0], "n@a.example")
    )
    assert known == unknown
    assert mails(world, LEAD[0])[-1].subject == "You have an account already"
    known, unknown = (
        portal.post("/forgot", data={"email": one}).text.replace(one, "x") for one in (LEAD[0], "z@a.example")
    )
    assert known == unknown
    assert mails(world, "z@a.example") == []


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"email": "nobody"}, "is not an e-mail address"),
        ({"email": "a@b.example,c@d.example"}, "is not an e-mail address"),
        ({"name": ""}, "give your name"),
        ({"name": "=?utf-8?q?a=0Ab?="}, "encoded word of mail"),
        ({"organization": ""}, "give the organization"),
    ],
)
def test_a_wrong_sign_up_names_the_rule_and_keeps_what_was_typed(
    portal: FlaskClient, changes: dict[str, str], words: str
) -> None:
    answer = portal.post("/join", data=FORM | changes)
    assert answer.status_code == 422
    assert words in answer.text
    assert "I build the app" in answer.text


def test_what_strangers_type_reaches_pages_and_mail_as_text(
    portal: FlaskClient, admin: FlaskClient, world: Session
) -> None:
    sly = "<script>alert(1)</script>"
    portal.post("/join", data=FORM | {"name": sly, "organization": sly, "message": sly})
    portal.post(link(world, FORM["email"].lower()), data=CHOSEN)
    page = admin.get("/subscribers/requests/").text
    assert sly not in page
    assert "&lt;script&gt;" in page


def test_asking_too_often_for_someone_from_one_place_is_slowed_down_for_them_alone(
    portal: FlaskClient, world: Session
) -> None:
    codes = [portal.post("/forgot", data={"email": LEAD[0]}).status_code for _ in range(12)]
    assert codes == [200] * 10 + [429] * 2
    assert portal.post("/forgot", data={"email": MEMBER[0]}).status_code == 200
    elsewhere = {"REMOTE_ADDR": "192.0.2.9"}
    assert portal.post("/forgot", data={"email": LEAD[0]}, environ_base=elsewhere).status_code == 200
    assert len(mails(world, LEAD[0])) == joining.MOST_MAILS, "nobody's mail box is filled by strangers"


def test_the_password_is_that_of_whoever_reads_the_mail(portal: FlaskClient, world: Session) -> None:
    """However often strangers sign up with somebody's address, before and after them."""
    email = FORM["email"].lower()
    portal.post("/join", data=FORM | {"name": "A stranger", "organization": "Strangers"})
    portal.post("/join", data=FORM)
    owns = link(world, email)
    portal.post("/join", data=FORM | {"name": "Another stranger"})
    mails(world, email)
    assert portal.post(owns, data=CHOSEN).status_code == 200
    portal.post("/join", data=FORM | {"name": "A third stranger"})
    assert mails(world, email)[-1].subject == "Your request waits"
    wanted = world.exec(select(JoinRequest).where(JoinRequest.email == email)).one()
    assert (wanted.name, wanted.state) == ("Ane Skog", "waiting")


def test_a_lead_invites_a_colleague_who_chooses_name_and_password(portal: FlaskClient, world: Session) -> None:
    sign_in(portal, *LEAD)
    assert "is not an e-mail address" in portal.post("/team/invite", data={"email": "kai"}).text
    assert "has an account already" in portal.post("/team/invite", data={"email": MEMBER[0]}).text
    invited = "kai@tern-trips.example"
    for _ in range(2):
        portal.post("/team/invite", data={"email": invited, "role": "member"})
    first, second = (re.search(r"(/invitation/\S+)", mail.text)[1] for mail in mails(world, invited))  # type: ignore[index]
    assert invited in portal.get("/team/").text
    portal.post("/sign-out")
    assert portal.get(first).status_code == 410  # the newer one counts
    weak = portal.post(second, data={"name": "Kai Lund", "password": "short"})
    assert (weak.status_code, "at least 12" in weak.text, 'value="Kai Lund"' in weak.text) == (422, True, True)
    assert (
        "Welcome, Kai Lund"
        in portal.post(second, data={"name": "Kai Lund", "password": GOOD}, follow_redirects=True).text
    )
    assert "Kai Lund" in portal.get("/team/").text  # who read the mail and chose the password is in
    assert portal.get(second).status_code == 410
    portal.post("/sign-out")
    assert signs_in(portal, invited, GOOD)
    assert world.exec(select(Person).where(Person.email == invited)).one().role == "member"


def test_an_invitation_may_be_withdrawn_and_ends_by_itself(portal: FlaskClient, world: Session) -> None:
    sign_in(portal, *LEAD)
    portal.post("/team/invite", data={"email": "kai@a.example"})
    where = link(world, "kai@a.example")
    assert "is withdrawn" in portal.post("/team/withdraw", data={"email": "kai@a.example"}, follow_redirects=True).text
    assert portal.get(where).status_code == 410
    portal.post("/team/invite", data={"email": "liv@a.example"})
    where = link(world, "liv@a.example")
    for one in world.exec(select(MailLink)):
        one.expires_at = now() - timedelta(days=8)
        world.add(one)
    world.commit()
    assert portal.post(where, data={"name": "Liv", "password": GOOD}).status_code == 410
    assert joining.drop_stale(world, now() - timedelta(days=7)) == 2


def test_members_see_the_team_and_change_nothing(portal: FlaskClient, world: Session) -> None:
    sign_in(portal, *MEMBER)
    page = portal.get("/team/").text
    assert "Mette Tern" in page
    assert "Make a member" not in page
    lead = world.exec(select(Person).where(Person.email == LEAD[0])).one()
    for path, data in (("invite", {"email": "a@b.example"}), ("withdraw", {}), (f"people/{lead.id}", {"active": "no"}),
                       ("requests/x", {})):  # fmt: skip
        assert portal.post(f"/team/{path}", data=data).status_code == 403


def test_an_organization_keeps_a_lead_and_others_people_are_out_of_reach(portal: FlaskClient, world: Session) -> None:
    sign_in(portal, *LEAD)
    mine, colleague, other = (world.exec(select(Person).where(Person.email == email)).one()
                              for email in (LEAD[0], MEMBER[0], "r.crate@kelp-crate.example"))  # fmt: skip
    only = portal.post(f"/team/people/{mine.id}", data={"role": "member"}, follow_redirects=True)
    assert "is the only lead" in only.text
    assert portal.post(f"/team/people/{other.id}", data={"active": "no"}).status_code == 404
    assert (
        "is lead now" in portal.post(f"/team/people/{colleague.id}", data={"role": "lead"}, follow_redirects=True).text
    )
    portal.post(f"/team/people/{colleague.id}", data={"active": "no"})
    portal.post("/sign-out")
    assert not signs_in(portal, *MEMBER)


def test_a_forgotten_password_is_set_by_a_link_once_and_ends_every_session(portal: FlaskClient, world: Session) -> None:
    sign_in(portal, *LEAD)
    stranger = portal.application.test_client()
    stranger.post("/forgot", data={"email": LEAD[0]})
    where = link(world, LEAD[0])
    assert "at least 12" in stranger.post(where, data={"password": "short"}).text
    assert stranger.post(where, data={"password": GOOD}).status_code == 303
    assert stranger.post(where, data={"password": GOOD}).status_code == 410
    assert portal.get("/applications/").status_code == 302  # the old session is over
    assert not signs_in(stranger, *LEAD)
    assert signs_in(stranger, LEAD[0], GOOD)


def test_a_password_that_staff_chose_is_changed_before_anything_else(
    portal: FlaskClient, admin: FlaskClient, world: Session
) -> None:
    person = world.exec(select(Person).where(Person.email == MEMBER[0])).one()
    weak = admin.post(f"/subscribers/people/{person.id}", data={"password": "short"}, follow_redirects=True)
    assert "at least 12" in weak.text
    admin.post(f"/subscribers/people/{person.id}", data={"password": "chosen-by-staff-1"})
    sign_in(portal, MEMBER[0], "chosen-by-staff-1")
    for path in ("/applications/", "/team/", "/apis/sailings/2/subscribe"):
        assert portal.get(path).location == "/password/"
    assert "Someone else chose" in portal.get("/password/").text
    for typed, words in (({"old": "x", "new": GOOD}, "is not the password that you sign in with"),
                         ({"old": "chosen-by-staff-1", "new": "short"}, "at least 12"),
                         ({"old": "chosen-by-staff-1", "new": "chosen-by-staff-1"}, "is the old one")):  # fmt: skip
        assert words in portal.post("/password/", data=typed).text
    assert portal.post("/password/", data={"old": "chosen-by-staff-1", "new": GOOD}).status_code == 303
    assert portal.get("/applications/").status_code == 200
    assert "change password" in {entry.action for entry in world.exec(select(AuditEntry))}


def test_new_staff_choose_a_password_of_their_own_too(admin: FlaskClient, console: FlaskClient) -> None:
    admin.post("/settings/people", data={"email": "n.new@skerry.example", "name": "Nils New", "role": "analyst",
                                         "password": "first-of-many-9"})  # fmt: skip
    other = sign_in(console.application.test_client(), "n.new@skerry.example", "first-of-many-9")
    assert other.get("/").location == "/password/"
    assert other.post("/password/", data={"old": "first-of-many-9", "new": GOOD}).status_code == 303
    assert other.get("/").status_code == 200


def test_a_link_that_lets_someone_in_is_not_kept_once_its_mail_was_handed_over(world: Session) -> None:
    owner = world.exec(select(Organization).where(Organization.name == "tern-trips")).one()
    joining.forgot(world, LEAD[0], "http://portal.example")
    telling.tell_organization(world, owner, None, "A title", "plain words")
    secret, plain = mails(world, LEAD[0])
    assert "/reset/" in secret.text
    assert all(one.digest not in secret.text for one in world.exec(select(MailLink)))
    for mail in (secret, plain):
        telling.note_sent(world, mail)
    assert (secret.text, "plain words" in plain.text) == ("", True)
