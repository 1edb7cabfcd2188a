"""What each refusal means and how to mend it: the page that a problem's `type` leads to."""

from typing import Any

from flask import Blueprint, abort

from tamarack.core.carrying.refusals import REASONS
from tamarack.portal.page import render

pages = Blueprint("reasons", __name__, url_prefix="/reasons")


@pages.get("/")
def index() -> Any:
    return render("reasons/index.html", reasons=REASONS.values())


@pages.get("/<code>")
def page(code: str) -> Any:
    reason = REASONS.get(code)
    if reason is None:
        abort(404, f"There is no reason {code}.")
    return render("reasons/page.html", reason=reason)
