"""The team: people of the own organization, those who ask to join, and those who are invited."""

from typing import Any

from flask import Blueprint, abort, current_app, request

from tamarack.core.identity.mail_address import email_problem
from tamarack.portal.page import act, acting, back_to, done, me, my_organization, reader, render, requires
from tamarack.store.applications import queries as subscribers
from tamarack.store.errors import NotPossible
from tamarack.store.joining import queries as joining
from tamarack.store.joining.tables import JoinRequest
from tamarack.store.mail import telling
from tamarack.store.people.tables import Person
from tamarack.web.application import db, settings_of
from tamarack.web.paging import Paging

A_PAGE = 40

pages = Blueprint("team", __name__, url_prefix="/team")


def _page(typed: dict[str, str], errors: dict[str, str]) -> str:
    organization = my_organization()
    people = subscribers.people_of(db(), organization)
    paging = Paging.of_request(len(people), A_PAGE)
    return render(
        "joining/team/page.html",
        people=paging.cut(people),
        active=sum(1 for one in people if one.active),
        paging=paging,
        waiting=joining.waiting(db(), organization),
        invitations=joining.invitations(db(), organization),
        notices=telling.notices(db(), reader()),
        typed=typed,
        errors=errors,
    )


@pages.get("/")
@requires("see")
def page() -> Any:
    return _page({}, {})


@pages.post("/invite")
@requires("team")
def invite() -> Any:
    typed = {"email": request.form.get("email", "").strip().lower(), "role": request.form.get("role", "member")}
    problem = email_problem(typed["email"])
    if problem:
        return _page(typed, {"email": problem}), 422
    try:
        address = settings_of(current_app).portal_url
        joining.invite(db(), acting(), my_organization(), typed["email"], typed["role"], address)
    except NotPossible as error:
        db().rollback()
        return _page(typed, {error.field or "email": str(error)}), 422
    db().commit()
    done(f"An invitation is on its way to {typed['email']}. It is good for seven days.")
    return back_to("team.page")


@pages.post("/withdraw")
@requires("team")
def withdraw() -> Any:
    email = request.form.get("email", "")
    return _done(lambda: joining.withdraw(db(), acting(), my_organization(), email),
                 f"The invitation to {email} is withdrawn.")  # fmt: skip


@pages.post("/requests/<id>")
@requires("team")
def decide(id: str) -> Any:
    """Let someone in who asked, or turn them down."""
    wanted = db().get(JoinRequest, id)
    organization = my_organization()
    if wanted is None or wanted.organization_id != organization.id:
        abort(404, "Nobody asks that, here.")
    if request.form.get("act") == "decline":
        return _done(lambda: joining.decline(db(), acting(), wanted, request.form.get("reason", "")),
                     f"{wanted.name} is told that the request was declined.")  # fmt: skip
    address = settings_of(current_app).portal_url
    role = request.form.get("role", "member")
    return _done(lambda: joining.approve(db(), acting(), wanted, organization, role, address),
                 f"{wanted.name} is in, and is told by mail.")  # fmt: skip


@pages.post("/people/<id>")
@requires("team")
def change(id: str) -> Any:
    """Change a colleague's role, or whether they may sign in."""
    person, mine = db().get(Person, id), me()
    if person is None or mine is None or person.organization_id != mine.organization_id:
        abort(404, "There is no such person in your organization.")
    role = request.form.get("role", person.role)
    active = request.form.get("active", "yes" if person.active else "no") == "yes"
    words = f"{person.name} is {role} now." if active else f"{person.name} may not sign in any more."
    return _done(lambda: joining.change_person(db(), acting(), person, role, active), words)


def _done(change: Any, words: str) -> Any:
    act(change, words)
    return back_to("team.page")
