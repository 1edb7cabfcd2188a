"""Settings: the steady export of records to an outside collector."""

from typing import Any

from flask import Blueprint, request

from tamarack.console.page import act, acting, back_to, render, requires
from tamarack.store.export import queries as exporting
from tamarack.store.secrets.queries import all_secrets
from tamarack.web.application import db

pages = Blueprint("exports", __name__, url_prefix="/settings/export")


@pages.get("/")
@requires("see")
def page() -> Any:
    template = "team/export_state.html" if request.args.get("part") == "state" else "team/export.html"
    return render(template, tab="export", standing=exporting.standing(db()), secrets=all_secrets(db()))


@pages.post("/")
@requires("secrets")
def change() -> Any:
    form = request.form
    on = form.get("on") == "yes"
    act(
        lambda: exporting.set_up(
            db(), acting(), form.get("address", ""), on, form.get("header", ""), form.get("secret", "")
        ),
        "Records are exported from now on." if on else "Nothing is exported.",
    )
    return back_to("exports.page")
