"""The look that the platform team gave the portal, which the sign-in service wears too: style sheet and logo."""

import hashlib
from typing import Any

from flask import Blueprint, Response, abort, request

from tamarack.core.portal.branding import style_of
from tamarack.store.portal.branding import look_of
from tamarack.store.portal.picture import Picture
from tamarack.web.application import db

pages = Blueprint("look", __name__)


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
    return picture_named(look_of(db()).logo)


def picture_named(sha256: str) -> Any:
    """A picture that is kept here, or 404."""
    found = db().get(Picture, sha256) if sha256 else None
    if found is None:
        abort(404, "There is no such picture.")
    return _kept(Response(found.data, mimetype="image/png"), sha256[:16])
