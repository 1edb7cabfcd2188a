"""What every page of the sign-in service needs: the directory that its address names, and who is signed in there."""

from typing import Any, cast
from urllib.parse import urlsplit

from flask import abort, current_app, g, redirect, render_template, request, url_for

from tamarack.core.sign_in.password_rules import in_words
from tamarack.sign_in.policy import leads_to, origins_after
from tamarack.store.columns import now
from tamarack.store.people.sessions import note_use
from tamarack.store.sign_in.tables import Directory, EndUser
from tamarack.web.application import db, settings_of
from tamarack.web.people.signed_in import my_session


def directory_named(name: str) -> Directory:
    """A directory that is there and open, or 404."""
    found = db().get(Directory, name)
    if found is None or not found.active:
        abort(404, "There is nothing to sign in to at this address.")
    return found


def issuer_of(directory: Directory) -> str:
    """What a directory's tokens say of who made them."""
    return f"{settings_of(current_app).sign_in_url}/{directory.name}"


def me(directory: Directory) -> EndUser | None:
    """Who is signed in to a directory with this browser, or None."""
    if "user" not in g:
        found = my_session()
        user = db().get(EndUser, found.who) if found is not None else None
        if user is not None and found is not None:
            if not user.active or user.session_epoch != found.epoch:
                user = None
            elif note_use(db(), found):
                db().commit()
                db().refresh(user)
        g.user = user
        g.auth_at = found.made_at if found is not None else now()
    user = cast(EndUser | None, g.user)
    return user if user is not None and user.directory == directory.name else None


def to_do_first(directory: Directory, user: EndUser, then: str) -> str | None:
    """The page of what a user has to do before anything else, which leads on to `then`; None for nothing."""
    if user.must_change_password:
        return url_for("door.password", directory=directory.name, next=then)
    if directory.codes == "required" and not user.has_codes:
        return url_for("codes.set_up", directory=directory.name, next=then)
    return None


def signed_in(name: str) -> tuple[Directory, EndUser]:
    """A directory, and who is signed in there; anyone else is sent to sign in, or to what they have to do first.

    A page that was asked for is come back to afterwards; a form that was sent is not.
    """
    directory = directory_named(name)
    user = me(directory)
    then, code = (request.full_path.rstrip("?"), 302) if request.method == "GET" else ("", 303)
    if user is None:
        abort(redirect(url_for("door.form", directory=name, next=then or None), code=code))
    first = to_do_first(directory, user, then)
    if first is not None and urlsplit(first).path != request.path:
        abort(redirect(first, code=code))
    return directory, user


def render(template: str, directory: Directory, **values: Any) -> str:
    """A page of a directory. Where it goes on to `next`, its forms may lead where that leads."""
    if "next" in values:
        leads_to(origins_after(directory, values["next"]))
    return render_template(template, directory=directory, rules_in_words=in_words(directory.password_rules),
                           me=me(directory), **values)  # fmt: skip
