"""Misfits of a version: what callers ask for and backends answer that its description does not know."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from flask import Blueprint, request

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import the_version
from tamarack.console.page import draft, environment, render, requires, running
from tamarack.core.checking.describing import Describer
from tamarack.core.configuration.effective import held, in_force
from tamarack.core.configuration.model import Api, Version
from tamarack.core.openapi.editing import PLACES
from tamarack.core.policies import kind_of
from tamarack.store.documents import queries as documents
from tamarack.store.misfits.queries import MisfitSum, misfits_of
from tamarack.web.application import db
from tamarack.web.paging import Paging

pages = Blueprint("misfits", __name__, url_prefix="/apis/<api>/<version>/misfits")

SPANS = (1, 7, 30)
A_PAGE = 50
MOST = 2_000


@dataclass(frozen=True, slots=True)
class Row:
    """A misfit with where it is mended."""

    seen: MisfitSum
    call: str = ""
    """For a path that no operation is at: the operation that could be added, like `get /ports/{id}`."""
    parameter: str = ""
    """For a parameter that is not described: its place and name."""

    @property
    def where(self) -> str:
        """Its place, in words."""
        seen = self.seen
        if seen.place == "body":
            return f"{seen.side} body {seen.field}".strip()
        return f"{seen.side} {seen.place} {seen.field}" if seen.field else ""


def _row(seen: MisfitSum, inside: Version) -> Row:
    if seen.place == "operation":
        method, _, path = seen.field.partition(" ")
        call = f"{method.lower()} {path}"
        return Row(seen, call="" if inside.operation(call) is not None else call)
    addable = seen.undescribed and seen.side == "request" and seen.place in PLACES and len(seen.field) <= 100
    return Row(seen, parameter=f"{seen.place} {seen.field}" if addable else "")


@dataclass(frozen=True, slots=True)
class Checked:
    """How far a version is checked."""

    requests: int
    answers: int
    operations: int
    unusable: Sequence[str]
    """What of the description cannot be checked."""


def _checked(found: Api, inside: Version) -> Checked:
    """How many operations of what runs have their requests and answers checked."""
    _, live = running(environment())
    there = live.api(found.name)
    runs = there.version(inside.version) if there is not None else None
    if there is None or runs is None:
        return Checked(0, 0, 0, ())
    many = {"request-check": 0, "answer-check": 0}
    describer = Describer(documents.document_tree(db(), runs.document) or {})
    for operation in runs.operations:
        kinds = {
            row.policy.kind for row in in_force(held(live, there, runs, operation)) if kind_of(row.policy).describes
        }
        if kinds and describer.messages(operation.call) is not None:
            for kind in kinds:
                many[kind] += 1
    return Checked(many["request-check"], many["answer-check"], len(runs.operations), describer.schemas().unusable)


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    asked = request.args.get("days", "7")
    days = int(asked) if asked in map(str, SPANS) else 7
    rows = [_row(one, inside) for one in misfits_of(db(), environment(), api, version, days, MOST)]
    unknown = [row for row in rows if row.seen.place == "operation"]
    others = [row for row in rows if row.seen.place != "operation"]
    operations = sorted({row.seen.operation for row in others})
    chosen = request.args.get("operation", "")
    if chosen in operations:
        others = [row for row in others if row.seen.operation == chosen]
    paging = Paging.of_request(len(others), A_PAGE)
    return render(
        "misfits/page.html",
        tab="misfits",
        days=days,
        spans=SPANS,
        unknown=unknown[:A_PAGE],
        more_unknown=max(0, len(unknown) - A_PAGE),
        rows=paging.cut(others),
        paging=paging,
        operations=operations,
        chosen=chosen if chosen in operations else "",
        checked=_checked(found, inside),
        described=bool(inside.document),
        drafted=_drafted(found, inside),
        **head_values(found, inside),
    )


def _drafted(found: Api, inside: Version) -> bool:
    """Whether the draft has a check that holds somewhere in the version."""
    rows = held(draft(), found, inside)
    own = [policy for operation in inside.operations for policy in operation.policies]
    return any(kind_of(policy).describes and not policy.off for policy in (*(row.policy for row in rows), *own))
