"""A user's own page: the applications they agreed to, and their sessions, each of which they can end."""

from typing import Any

from flask import Blueprint, redirect, request, url_for

from tamarack.sign_in.page import render, signed_in
from tamarack.sign_in.protocol.authorize import words_of
from tamarack.store.errors import NotPossible
from tamarack.store.people.sessions import end_one, sessions
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in import log, profile
from tamarack.web.application import db
from tamarack.web.people.signed_in import idle, my_session

pages = Blueprint("mine", __name__)


@pages.get("/<directory>/")
def page(directory: str) -> Any:
    found, user = signed_in(directory)
    agreed = [(consent, client, [words_of(client, scope) for scope in consent.scopes])
              for consent, client in granting.agreements(db(), user.id)]  # fmt: skip
    here = my_session()
    return render("mine.html", found, agreed=agreed, sessions=sessions(db(), "sign-in", user.id, idle()),
                  here=here.id if here is not None else "")  # fmt: skip


@pages.route("/<directory>/profile", methods=["GET", "POST"])
def own_profile(directory: str) -> Any:
    """What the user says of themselves."""
    found, user = signed_in(directory)
    typed, errors = {"name": user.name} | user.profile, {}
    if request.method == "POST":
        typed = {one: request.form.get(one, "") for one in ("name", *profile.CLAIMS)}
        try:
            profile.set_profile(db(), user, typed["name"], typed)
        except NotPossible as error:
            db().rollback()
            errors[error.field or "name"] = str(error)
        else:
            db().commit()
            return redirect(url_for("mine.page", directory=directory), code=303)
    page = render("profile.html", found, typed=typed, errors=errors, asked=profile.CLAIMS)
    return page, 422 if errors else 200


@pages.post("/<directory>/applications/<client>/end")
def take_back(directory: str, client: str) -> Any:
    """Take back what one agreed to: the application's tokens are refused within a second."""
    _, user = signed_in(directory)
    granting.end_consent(db(), user.id, client)
    address = request.remote_addr or ""
    log.note(db(), directory, "take back what was agreed", user=user, client=client, address=address)
    db().commit()
    return redirect(url_for("mine.page", directory=directory), code=303)


@pages.post("/<directory>/sessions/<id>/end")
def end(directory: str, id: str) -> Any:
    """End one of one's sessions."""
    _, user = signed_in(directory)
    end_one(db(), "sign-in", user.id, id)
    db().commit()
    return redirect(url_for("mine.page", directory=directory), code=303)
