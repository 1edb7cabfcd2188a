"""Notices: what the platform team tells, and what happened to the own organization's subscriptions."""

from typing import Any

from flask import Blueprint

from tamarack.portal.page import offered_live, reader, render, requires, viewer
from tamarack.store.announcements import queries as announcing
from tamarack.store.mail import telling
from tamarack.web.application import db
from tamarack.web.markdown import to_html
from tamarack.web.paging import Paging

pages = Blueprint("notices", __name__, url_prefix="/notices")

A_PAGE = 15


@pages.get("/")
@requires("see")
def index() -> Any:
    configuration = offered_live()
    seen = {api.name: api.title for api in configuration.apis}
    products = {product for product, _ in viewer().holds}
    subscribed = {api for product in configuration.products if product.name in products for api in product.apis}
    _, total = announcing.readable(db(), seen, subscribed, most=1)
    paging = Paging.of_request(total, A_PAGE)
    entries, _ = announcing.readable(db(), seen, subscribed, paging.skip, A_PAGE)
    return render(
        "notices/index.html",
        entries=entries,
        paging=paging,
        titles=seen,
        versions={api.name: [version.version for version in api.versions] for api in configuration.apis},
        notices=telling.notices(db(), reader(), most=12),
        to_html=to_html,
    )
