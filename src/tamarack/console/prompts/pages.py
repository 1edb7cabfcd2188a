"""The log of prompts: what callers wrote to models and what those answered, where a policy keeps it."""

from typing import Any

from flask import Blueprint, abort, request

from tamarack.console.page import acting, back_to, done, draft, environment, may, refuse, render, requires
from tamarack.store.prompts import queries as logging
from tamarack.store.prompts.queries import Wanted
from tamarack.web.application import db
from tamarack.web.paging import Paging

pages = Blueprint("logged_prompts", __name__, url_prefix="/traffic/prompts")

A_PAGE = 25
LONGEST_SEARCH = 100


def _wanted() -> Wanted:
    given = {name: request.values.get(name, "").strip()[:LONGEST_SEARCH] for name in ("api", "application", "search")}
    return Wanted(environment(), **given)


@pages.get("/")
@requires("prompts")
def index() -> Any:
    wanted = _wanted()
    paging = Paging.of_request(logging.many(db(), wanted), A_PAGE)
    rows = logging.found(db(), wanted, paging.skip, paging.size)
    if rows:
        logging.note_reading(db(), acting(), wanted)
        db().commit()
    return render(
        "prompts/list.html",
        rows=rows,
        paging=paging,
        wanted=wanted,
        apis=sorted(api.name for api in draft().apis),
        applications=logging.applications(db(), wanted.environment),
        deleting=may("edit"),
    )


@pages.get("/<call>")
@requires("prompts")
def entry(call: str) -> Any:
    found = logging.of_call(db(), call)
    if found is None:
        abort(404, f"No prompt is kept of the call {call}. A policy says which are, and for how many days.")
    application = f"{found.organization}/{found.application}"
    logging.note_reading(db(), acting(), Wanted(found.environment, found.api, application), call)
    db().commit()
    return render("prompts/entry.html", entry=found)


@pages.post("/forget")
@requires("prompts")
def forget() -> Any:
    """Delete what the list shows, or all."""
    wanted = _wanted()
    if not may("edit"):
        abort(403, "Your role may read prompts, and may not delete them.")
    if request.form.get("sure") != str(logging.many(db(), wanted)):
        refuse("More prompts came meanwhile, or some are gone. Look at the list again, then delete.")
    else:
        gone = logging.forget(db(), acting(), wanted)
        db().commit()
        done(f"{gone} prompt{'' if gone == 1 else 's'} deleted, with their answers.")
    return back_to("logged_prompts.index", api=wanted.api, application=wanted.application, search=wanted.search)
