"""Subscribers in lists: people, applications and subscriptions of every organization, searched and filtered."""

from collections.abc import Callable, Mapping
from typing import Any

from flask import Blueprint, request
from sqlmodel import Session

from tamarack.console.page import render, requires, running
from tamarack.store.applications import lists as subscriber_lists
from tamarack.store.applications.lists import Rows
from tamarack.store.joining import queries as joining
from tamarack.web.application import db, environments
from tamarack.web.paging import Paging

pages = Blueprint("subscriber_lists", __name__, url_prefix="/subscribers")

A_PAGE = 25


def filters_of(*names: str) -> dict[str, str]:
    """What the address filters a list by."""
    return {name: " ".join(request.args.get(name, "").split())[:100] for name in ("search", *names)}


def listed(
    query: Callable[[Session, Mapping[str, str], int, int], Rows], filters: Mapping[str, str]
) -> tuple[Any, Paging]:
    """The rows of the page asked for, and where it stands."""
    _, total = query(db(), filters, 0, 1)
    paging = Paging.of_request(total, A_PAGE)
    return query(db(), filters, paging.skip, A_PAGE)[0], paging


def waiting() -> int:
    """How many requests wait for a decision, for the tabs."""
    return subscriber_lists.waiting_count(db()) + len(joining.waiting(db()))


@pages.get("/people")
@requires("see")
def people() -> Any:
    filters = filters_of("role", "state")
    rows, paging = listed(subscriber_lists.people, filters)
    return render("subscribers/people.html", tab="people", rows=rows, paging=paging, filters=filters, waiting=waiting())


@pages.get("/applications")
@requires("see")
def applications() -> Any:
    filters = filters_of("state")
    rows, paging = listed(subscriber_lists.applications, filters)
    return render("subscribers/applications.html", tab="applications", rows=rows, paging=paging, filters=filters,
                  waiting=waiting())  # fmt: skip


@pages.get("/subscriptions")
@requires("see")
def subscriptions() -> Any:
    filters = filters_of("product", "plan", "environment", "state")
    rows, paging = listed(subscriber_lists.subscriptions, filters)
    products = {one.name: one for where in environments() for one in running(where)[1].products}
    return render(
        "subscribers/subscriptions.html",
        tab="subscriptions",
        rows=rows,
        paging=paging,
        filters=filters,
        products=products.values(),
        plans=sorted({plan.name for product in products.values() for plan in product.plans}),
        waiting=waiting(),
    )
