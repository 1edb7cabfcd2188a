"""The pictures of applications."""

from typing import Any

from flask import Blueprint, abort
from sqlmodel import select

from tamarack.portal.page import me
from tamarack.store.applications.sharing import seen_by
from tamarack.store.applications.tables import Application
from tamarack.web.application import db
from tamarack.web.pictures.look import picture_named

pages = Blueprint("pictures", __name__)


@pages.get("/pictures/<sha256>.png")
def picture(sha256: str) -> Any:
    """The picture of an application that the reader looks after."""
    person = me()
    query = select(Application.id).where(Application.picture == sha256)
    if person is None or db().exec(query.where(seen_by(person))).first() is None:
        abort(404, "There is no such picture.")
    return picture_named(sha256)
