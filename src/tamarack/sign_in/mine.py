"""A user's own page: the applications they agreed to, and their sessions, each of which they can end."""

from typing import Any

from flask import Blueprint, redirect, request, url_for
from sqlmodel import select

from tamarack.sign_in.authorize import words_of
from tamarack.sign_in.page import directory_named, me, render
from tamarack.store.people.sessions import end_one, sessions
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in import log
from tamarack.store.sign_in.tables import Consent, SignInClient
from tamarack.web.application import db
from tamarack.web.people.signed_in import idle, my_session

pages = Blueprint("mine", __name__)


@pages.get("/<directory>/")
def page(directory: str) -> Any:
    found = directory_named(directory)
    user = me(found)
    if user is None:
        return redirect(url_for("door.form", directory=directory))
    if user.must_change_password:
        return redirect(url_for("door.password", directory=directory))
    query = select(Consent, SignInClient).where(Consent.client_id == SignInClient.id, Consent.user_id == user.id)
    agreed = [(consent, client, [words_of(client, scope) for scope in consent.scopes])
              for consent, client in db().exec(query)]  # fmt: skip
    here = my_session()
    return render("mine.html", found, agreed=agreed, sessions=sessions(db(), "sign-in", user.id, idle()),
                  here=here.id if here is not None else "")  # fmt: skip


@pages.post("/<directory>/applications/<client>/end")
def take_back(directory: str, client: str) -> Any:
    """Take back what one agreed to: the application's tokens are refused within a second."""
    user = me(directory_named(directory))
    if user is not None:
        granting.end_consent(db(), user.id, client)
        log.note(
            db(), directory, "take back what was agreed", user=user, client=client, address=request.remote_addr or ""
        )
        db().commit()
    return redirect(url_for("mine.page", directory=directory), code=303)


@pages.post("/<directory>/sessions/<id>/end")
def end(directory: str, id: str) -> Any:
    """End one of one's sessions."""
    user = me(directory_named(directory))
    if user is not None:
        end_one(db(), "sign-in", user.id, id)
        db().commit()
    return redirect(url_for("mine.page", directory=directory), code=303)
