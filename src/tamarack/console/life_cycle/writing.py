"""Writing to those who still call a version: by mail and as a notice, seen before it is sent."""

from datetime import UTC, datetime
from typing import Any

from flask import Blueprint, current_app, request

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import the_version
from tamarack.console.life_cycle.versions import days_asked, people_of, span_of
from tamarack.console.page import acting, back_to, done, environment, render, requires
from tamarack.core.configuration.model import Api, Version
from tamarack.core.life_cycle.letter import proposed_text, proposed_title
from tamarack.store.errors import NotPossible
from tamarack.store.life_cycle import letters
from tamarack.store.life_cycle.letters import Addressee
from tamarack.store.traffic import last_calls as lasting
from tamarack.web.application import db, settings_of
from tamarack.web.markdown import to_html
from tamarack.web.words import counted

pages = Blueprint("writing", __name__, url_prefix="/apis/<api>/<version>/letter")


def _addressees(api: str, version: str) -> list[Addressee]:
    """The organizations of the applications that were chosen; of all that call, where none was."""
    callers = lasting.calling(db(), span_of(environment(), api, days_asked(), version))
    chosen = request.values.getlist("to")
    return letters.addressees(db(), callers, chosen or None)


def _page(
    found: Api, inside: Version, to: list[Addressee], typed: dict[str, str], errors: dict[str, str], seen: bool
) -> str:
    days = days_asked()
    return render(
        "life_cycle/letter.html",
        tab="versions",
        to=to,
        people=people_of(to),
        days=days,
        typed=typed,
        errors=errors,
        seen=seen,
        shown=to_html(letters.text_for(to[0], inside, typed["text"], days)) if to else "",
        **head_values(found, inside),
    )


@pages.get("/")
@requires("subscribers")
def form(api: str, version: str) -> Any:
    """A letter as it is proposed, with whom it reaches."""
    found, inside = the_version(api, version)
    portal = settings_of(current_app).portal_url
    typed = {
        "title": proposed_title(found, inside),
        "text": proposed_text(found, inside, portal, datetime.now(UTC)),
    }
    return _page(found, inside, _addressees(api, version), typed, {}, seen=False)


@pages.post("/")
@requires("subscribers")
def send(api: str, version: str) -> Any:
    """Send it, or show first how it reads."""
    found, inside = the_version(api, version)
    typed = {name: request.form.get(name, "") for name in ("title", "text")}
    to = _addressees(api, version) if request.form.getlist("to") else []
    try:
        if request.form.get("act") == "preview":
            typed["title"], typed["text"] = letters.checked(typed["title"], typed["text"])
            return _page(found, inside, to, typed, {}, seen=True)
        made = letters.write(
            db(), acting(), api, inside, typed["title"], typed["text"], to, days_asked(),
            settings_of(current_app).portal_url,
        )  # fmt: skip
    except NotPossible as error:
        db().rollback()
        to = letters.addressees(db(), lasting.calling(db(), span_of(environment(), api, days_asked(), version)),
                                request.form.getlist("to"))  # fmt: skip
        return _page(found, inside, to, typed, {error.field: str(error)}, seen=False), 422
    db().commit()
    done(f"Written about {counted(len(made.applications), 'application')}; mail to {made.mailed} is on its way.")
    return back_to("versions.page", api=api, version=version)
