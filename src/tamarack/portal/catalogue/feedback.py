"""Feedback on previews: what a reader thinks of one, or of an operation of it, and what its owner answered."""

from typing import Any

from flask import Blueprint, abort, request

from tamarack.core.configuration.model import Api, Version
from tamarack.portal.page import acting, back_to, done, me, reader, render, requires, shown_version
from tamarack.store.errors import NotPossible
from tamarack.store.life_cycle import feedback
from tamarack.store.life_cycle.tables import Feedback
from tamarack.web.application import db, wants_part

pages = Blueprint("feedback", __name__, url_prefix="/apis/<api>/<version>/feedback")


def feedback_values(version: Version, api: Api, call: str = "") -> dict[str, Any]:
    """What the block of feedback shows of a preview, or of one operation of it; nothing of other versions."""
    person = me()
    if version.state != "preview":
        return {"feedback_of": None}
    said = feedback.of_organization(db(), person.organization_id, api.name, version.version, call) if person else ()
    return {
        "feedback_of": call,
        "said": said,
        "told": person is not None and feedback.wants_to_know(db(), person, api.name, version.version),
        "typed": {},
        "errors": {},
    }


def _part(api: Api, version: Version, call: str, typed: dict[str, str], errors: dict[str, str]) -> str:
    template = "catalogue/reference/feedback_part.html" if wants_part() else "catalogue/reference/feedback_page.html"
    values = feedback_values(version, api, call) | {"typed": typed, "errors": errors}
    return render(template, api=api, version=version, **values)


def _where(api: str, version: str, call: str) -> Any:
    if call:
        return back_to("reference.operation", api=api, version=version, call=call)
    return back_to("reference.page", api=api, version=version)


@pages.post("/")
@requires("see")
def say(api: str, version: str) -> Any:
    """Say what one thinks."""
    found, inside = shown_version(api, version)
    typed = {name: request.form.get(name, "") for name in ("call", "thumb", "text", "tell")}
    try:
        feedback.say(db(), acting(), reader(), found, inside, typed["call"], typed["thumb"], typed["text"])
        if typed["tell"]:
            feedback.tell_when_published(db(), reader(), api, version, True)
    except NotPossible as error:
        db().rollback()
        return _part(found, inside, typed["call"], typed, {error.field or "text": str(error)}), 422
    db().commit()
    if wants_part():
        return _part(found, inside, typed["call"], {}, {})
    done("Thank you. What you said is with the team; its answer comes by mail.")
    return _where(api, version, typed["call"])


@pages.post("/<int:number>/take-back")
@requires("see")
def take_back(api: str, version: str, number: int) -> Any:
    """Take back what one said."""
    found, inside = shown_version(api, version)
    said = db().get(Feedback, number)
    if said is None or said.person_id != reader().id or (said.api, said.version) != (api, version):
        abort(404, "There is no such note of yours.")
    call = said.call
    feedback.take_back(db(), acting(), said)
    db().commit()
    return _part(found, inside, call, {}, {}) if wants_part() else _where(api, version, call)


@pages.post("/tell")
@requires("see")
def tell(api: str, version: str) -> Any:
    """Be told when the preview is published, or no more."""
    found, inside = shown_version(api, version)
    call, wanted = request.form.get("call", ""), request.form.get("wanted") == "yes"
    if wanted and inside.state != "preview":
        abort(409, f"{found.title} {version} is {inside.state} already.")
    feedback.tell_when_published(db(), reader(), api, version, wanted)
    db().commit()
    return _part(found, inside, call, {}, {}) if wants_part() else _where(api, version, call)
