"""The portal's own look: its style sheet, its logo, and the pictures of applications."""

import hashlib
from typing import Any

from flask import Blueprint, Response, abort, request
from sqlmodel import select

from tamarack.core.portal.branding import style_of
from tamarack.portal.page import me
from tamarack.store.applications.sharing import seen_by
from tamarack.store.applications.tables import Application
from tamarack.store.portal.branding import look_of
from tamarack.store.portal.picture import Picture
from tamarack.web.application import db

pages = Blueprint("branding", __name__)


def _kept(response: Response, mark: str) -> Any:
    """An answer that browsers keep for as long as it stays the same."""
    response.headers["Cache-Control"] = "private, no-cache"
    response.set_etag(mark)
    return response.make_conditional(request)


@pages.get("/look.css")
def style() -> Any:
    text = style_of(look_of(db()))
    return _kept(Response(text, mimetype="text/css"), hashlib.sha256(text.encode()).hexdigest()[:16])


@pages.get("/logo.png")
def logo() -> Any:
    return _picture(look_of(db()).logo)


@pages.get("/pictures/<sha256>.png")
def picture(sha256: str) -> Any:
    """The picture of an application that the reader looks after."""
    person = me()
    query = select(Application.id).where(Application.picture == sha256)
    if person is None or db().exec(query.where(seen_by(person))).first() is None:
        abort(404, "There is no such picture.")
    return _picture(sha256)


def _picture(sha256: str) -> Any:
    found = db().get(Picture, sha256) if sha256 else None
    if found is None:
        abort(404, "There is no such picture.")
    return _kept(Response(found.data, mimetype="image/png"), sha256[:16])
