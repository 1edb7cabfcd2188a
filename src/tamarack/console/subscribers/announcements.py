"""Announcements: news for all who use the portal, and the change log of each API."""

from typing import Any

from flask import Blueprint, abort, current_app, request

from tamarack.console.page import acting, back_to, done, render, requires, running
from tamarack.console.subscribers.lists import A_PAGE, waiting
from tamarack.store.announcements import queries as announcing
from tamarack.store.announcements.tables import Announcement
from tamarack.store.errors import NotPossible
from tamarack.web.application import db, environments, settings_of
from tamarack.web.markdown import to_html
from tamarack.web.paging import Paging

pages = Blueprint("announcements", __name__, url_prefix="/subscribers/notices")

FIELDS = ("about", "title", "text", "readers", "mail")


def _page(typed: dict[str, str], errors: dict[str, str], preview: bool = False) -> str:
    _, total = announcing.everything(db(), most=1)
    paging = Paging.of_request(total, A_PAGE)
    entries, _ = announcing.everything(db(), paging.skip, A_PAGE)
    api = typed.get("about", "").partition("/")[0]
    return render(
        "subscribers/notices.html",
        tab="notices",
        entries=entries,
        paging=paging,
        typed=typed,
        errors=errors,
        apis=running(environments().live)[1].apis,
        preview=to_html(typed.get("text", "")) if preview else "",
        reaches=len(announcing.concerned(db(), running(environments().live)[1], api)) if preview else None,
        to_html=to_html,
        waiting=waiting(),
    )


@pages.get("/")
@requires("see")
def index() -> Any:
    return _page({"about": request.args.get("about", ""), "readers": "everyone", "mail": "yes"}, {})


@pages.post("/")
@requires("subscribers")
def announce() -> Any:
    typed = {name: request.form.get(name, "").strip() for name in FIELDS}
    if request.form.get("act") == "preview":
        return _page(typed, {}, preview=True)
    api, _, version = typed["about"].partition("/")
    try:
        made = announcing.announce(
            db(), acting(), running(environments().live)[1], api, version, typed["title"], typed["text"],
            typed["readers"], typed["mail"] == "yes", settings_of(current_app).portal_url,
        )  # fmt: skip
    except NotPossible as error:
        db().rollback()
        field = "about" if error.field in ("api", "version") else error.field
        return _page(typed, {field or "title": str(error)}, preview=True), 422
    db().commit()
    done(f"‘{made.title}’ is told; mail to {made.mailed} is on its way." if made.mailed else f"‘{made.title}’ is told.")
    return back_to("announcements.index")


@pages.post("/<int:number>/withdraw")
@requires("subscribers")
def withdraw(number: int) -> Any:
    found = db().get(Announcement, number)
    if found is None:
        abort(404, "There is no such notice.")
    announcing.withdraw(db(), acting(), found)
    db().commit()
    done(f"‘{found.title}’ is withdrawn. Mail that has been sent cannot be recalled.")
    return back_to("announcements.index")
