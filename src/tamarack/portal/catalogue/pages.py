"""The catalogue: every API that the reader may see, by what it is for; searched in words, filtered, page by page."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from flask import Blueprint, request
from markupsafe import Markup, escape

from tamarack.core.configuration.model import Api, Version
from tamarack.core.configuration.plans import Product
from tamarack.core.configuration.seen import SHOWN_STATES
from tamarack.portal.page import offered_live, render
from tamarack.store.portal import search as catalogue
from tamarack.store.portal.search import MARK_FROM, MARK_TO, Hit
from tamarack.web.application import db
from tamarack.web.markdown import to_html
from tamarack.web.paging import Paging

pages = Blueprint("catalogue", __name__)

A_PAGE = 20
MOST_HITS = 5
"""Operations and pages shown under an API that a search found."""


@dataclass(slots=True)
class Entry:
    """An API in the catalogue, with what of it a search found."""

    api: Api
    newest: Version
    products: tuple[Product, ...]
    hits: list[tuple[Hit, Markup]] = field(default_factory=list)


def _marked(excerpt: str) -> Markup:
    """An excerpt with what was found marked; the text itself escaped."""
    return Markup(  # noqa: S704 - escaped in this very line
        str(escape(excerpt)).replace(MARK_FROM, "<mark>").replace(MARK_TO, "</mark>")
    )


@pages.get("/")
def index() -> Any:
    search = " ".join(request.args.get("search", "").split())[:100]
    state, style = request.args.get("state", ""), request.args.get("style", "")
    configuration = offered_live()
    styled = [api for api in configuration.apis if not style or api.style == style]
    entries = {
        api.name: Entry(api, _newest(api), configuration.products_with(api.name))
        for api in styled
        if any(search or version.state != "preview" for version in api.versions if state in ("", version.state))
    }
    if search:
        entries = _found(entries, search)
    paging = Paging.of_request(len(entries), A_PAGE)
    there = {version.state for api in configuration.apis for version in api.versions} | {state}
    return render(
        "catalogue/index.html",
        entries=list(entries.values())[paging.skip : paging.skip + A_PAGE],
        paging=paging,
        previews=_previews(styled) if not search and state in ("", "preview") and paging.number == 1 else [],
        search=search,
        state=state,
        style=style,
        states=[one for one in SHOWN_STATES if one in there],
        styles=sorted({api.style for api in configuration.apis}),
        front=to_html,
        anything=bool(configuration.apis),
    )


def _previews(apis: Sequence[Api]) -> list[tuple[Api, Version]]:
    """The versions that may be tried before they are published; they stand in a part of their own."""
    return [(api, version) for api in apis for version in api.versions if version.state == "preview"][:A_PAGE]


def _newest(api: Api) -> Version:
    return next((v for v in reversed(api.versions) if v.state == "published"), api.versions[-1])


def _found(entries: dict[str, Entry], search: str) -> dict[str, Entry]:
    """Those in which something matches, the best first, each with what it was."""
    found: dict[str, Entry] = {}
    for hit in catalogue.search(db(), search, list(entries)):
        entry = entries[hit.api]
        if hit.version and entry.api.version(hit.version) is None:
            continue
        found.setdefault(hit.api, entry)
        if hit.kind != "api" and len(entry.hits) < MOST_HITS:
            entry.hits.append((hit, _marked(hit.excerpt)))
    return found
