"""What developers say of a preview, read and answered by its owner."""

from typing import Any

from flask import Blueprint, abort, current_app, request

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import the_version
from tamarack.console.page import acting, back_to, done, render, requires
from tamarack.store.errors import NotPossible
from tamarack.store.life_cycle import feedback
from tamarack.store.life_cycle.tables import Feedback
from tamarack.web.application import db, settings_of
from tamarack.web.paging import Paging

pages = Blueprint("feedback", __name__, url_prefix="/apis/<api>/<version>/feedback")

A_PAGE = 30
MOST = 1_000


def _page(api: str, version: str, typed: dict[int, str], errors: dict[int, str]) -> str:
    found, inside = the_version(api, version)
    call = request.values.get("operation", "")
    entries = feedback.of_version(db(), api, version, call or None, MOST)
    if request.values.get("open"):
        entries = [one for one in entries if one.feedback.text and not one.feedback.answer]
    paging = Paging.of_request(len(entries), A_PAGE)
    return render(
        "life_cycle/feedback.html",
        tab="feedback",
        entries=paging.cut(entries),
        paging=paging,
        tallies=feedback.tallies(db(), api, version),
        call=call,
        only_open=bool(request.values.get("open")),
        typed=typed,
        errors=errors,
        **head_values(found, inside),
    )


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    return _page(api, version, {}, {})


@pages.post("/<int:number>")
@requires("edit")
def answer(api: str, version: str, number: int) -> Any:
    """Answer a note; whoever wrote it gets it by mail."""
    found, inside = the_version(api, version)
    said = db().get(Feedback, number, with_for_update=True)
    if said is None or (said.api, said.version) != (api, version):
        abort(404, "There is no such note; whoever wrote it may have taken it back.")
    typed = request.form.get("answer", "")
    address = f"{settings_of(current_app).portal_url}/apis/{api}/{version}/"
    try:
        feedback.answer(db(), acting(), said, typed, f"{found.title} {inside.version}", address)
    except NotPossible as error:
        db().rollback()
        return _page(api, version, {number: typed}, {number: str(error)}), 422
    db().commit()
    done("Answered; whoever wrote the note gets it by mail.")
    kept = {name: value for name in ("operation", "open") if (value := request.form.get(name))}
    return back_to("feedback.page", api=api, version=version, **kept)
