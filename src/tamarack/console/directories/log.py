"""The sign-in log of a directory."""

from typing import Any

from flask import Blueprint, request

from tamarack.console.directories.pages import A_PAGE, directory_of
from tamarack.console.page import render, requires
from tamarack.store.sign_in import log
from tamarack.web.application import db
from tamarack.web.paging import Paging

pages = Blueprint("sign_in_log", __name__, url_prefix="/settings/directories")


@pages.get("/<name>/log")
@requires("see")
def page(name: str) -> Any:
    """What happened, the newest first; all of it, or what was refused, of a user, client or address."""
    directory, text = directory_of(name), request.args.get("q", "").strip()[:100]
    refused = request.args.get("show") == "refused"
    _, total = log.events(db(), name, text, refused, most=1)
    paging = Paging.of_request(total, A_PAGE)
    found, _ = log.events(db(), name, text, refused, most=A_PAGE, skip=paging.skip)
    return render("directories/log.html", tab="directories", directory=directory, events=found, paging=paging, q=text,
                  refused=refused)  # fmt: skip
