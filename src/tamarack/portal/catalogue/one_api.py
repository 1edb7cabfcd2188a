"""What the pages of an API read: its document, its operations, and calls of them as a reader would make them."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from flask import current_app

from tamarack.core.configuration.effective import held, in_force, opened
from tamarack.core.configuration.model import Api, Operation, Version
from tamarack.core.configuration.plans import Plan
from tamarack.core.openapi.reference import OperationView, OutlineEntry, outline, tag_descriptions, view_operation
from tamarack.core.policies import AnyPolicy, kind_of
from tamarack.core.trying.credential_examples import Given, ShownWay, credential_example, ways_shown
from tamarack.core.trying.credential_examples import example_call as example_of
from tamarack.core.trying.examples import ExampleCall
from tamarack.core.trying.naming import named_by
from tamarack.portal.catalogue.kept_trees import KeptTrees
from tamarack.portal.page import me, offered_live
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.documents import queries as documents
from tamarack.store.sign_in import clients
from tamarack.store.sign_in.tables import SignInClient
from tamarack.web.application import db, environments, gateway_address, settings_of

OTHERS = "Operations"
"""Under what operations stand that have no tag."""


MOST_LISTED = 1_500
"""Operations on one page, so that no page grows beyond what a browser shows at once."""
AROUND = 60
"""Operations of a tag on each side of the one that is read."""

_TREES = KeptTrees(12_000_000)


def tree(version: Version) -> dict[str, Any]:
    """A version's document, brought to 3.x; empty where it has none, or none that was read yet. Not to be changed."""
    if not version.document:
        return {}
    key = (version.document, id(current_app.extensions["tamarack_engine"]))
    return _TREES.get(key, lambda: documents.document_tree(db(), version.document),
                      lambda: documents.tree_size(db(), version.document))  # fmt: skip


def introduction(version: Version) -> str:
    """What the document says of the API as a whole, in Markdown."""
    info = tree(version).get("info")
    return str(info.get("description") or "") if isinstance(info, dict) else ""


def by_tag(version: Version) -> dict[str, list[OutlineEntry]]:
    """The operations that are published, described or bare, by tag: those that the document orders first."""
    described = {one.call: one for one in outline(tree(version))}
    groups: dict[str, list[OutlineEntry]] = {tag: [] for tag in tag_descriptions(tree(version))}
    for operation in version.operations:
        bare = OutlineEntry(operation.call, operation.method, operation.path, operation.summary, "", False)
        one = described.get(operation.call, bare)
        groups.setdefault(one.tag or OTHERS, []).append(one)
    return {tag: found for tag, found in groups.items() if found}


@dataclass(frozen=True, slots=True)
class Group:
    """The operations under a tag, as many as are shown of them."""

    tag: str
    many: int
    operations: Sequence[OutlineEntry] = ()
    here: bool = False
    """Whether the operation that is read is one of them."""
    folded: bool = False


def groups_of(version: Version) -> list[Group]:
    """All operations by tag; of very many the first of each."""
    tags = by_tag(version)
    total = sum(len(found) for found in tags.values())
    most = total if total <= MOST_LISTED else max(5, MOST_LISTED // len(tags))
    return [Group(tag, len(found), found[:most]) for tag, found in list(tags.items())[:MOST_LISTED]]


def groups_beside(version: Version, call: str) -> list[Group]:
    """What stands beside an operation: its own tag's, and the others', folded where they are many."""
    tags = by_tag(version)
    few = sum(len(found) for found in tags.values()) <= AROUND
    made = []
    for tag, found in list(tags.items())[:MOST_LISTED]:
        place = next((at for at, one in enumerate(found) if one.call == call), None)
        if place is None:
            made.append(Group(tag, len(found), found if few else (), folded=not few))
        else:
            made.append(Group(tag, len(found), found[max(0, place - AROUND) : place + AROUND], here=True))
    return made


def view_of(version: Version, operation: Operation) -> OperationView:
    """A published operation as its document describes it, or bare."""
    found = view_operation(tree(version), operation.call)
    if found is not None:
        return found
    return OperationView(operation.call, operation.method, operation.path, operation.summary, "", (), deprecated=False)


def ways_in(api: Api, version: Version, operation: Operation | None) -> list[ShownWay]:
    """The ways in which an operation's caller may show who it is; none where it is open or closed."""
    return ways_shown(_asking(api, version, operation))


def _asking(api: Api, version: Version, operation: Operation | None) -> list[AnyPolicy]:
    rows = held(offered_live(), api, version, operation)
    return [] if opened(version, rows) else [row.policy for row in in_force(rows)]


def shown_credential(
    api: Api, version: Version, operation: Operation | None, given: Given | None = None, way: str = ""
) -> ExampleCall | None:
    """How an operation's caller shows its credential, or None where it is open or closed."""
    return credential_example(_asking(api, version, operation), given, way)


def example_call(
    api: Api,
    version: Version,
    view: OperationView,
    environment: str = "",
    given: Given | None = None,
    way: str = "",
) -> ExampleCall:
    """A call of an operation as a reader would make it: with what is given, by a way of theirs."""
    shown = shown_credential(api, version, version.operation(view.call), given, way)
    address = gateway_address(environment or environments().live) + version.base_path
    return example_of(view, address, shown, named_by(api, version, view))


def subscribed(api: str) -> list[tuple[Application, Subscription]]:
    """The applications of the reader that are subscribed to an API, with their subscriptions."""
    person = me()
    if person is None:
        return []
    products = [product.name for product in offered_live().products_with(api)]
    return subscribers.subscribed_to(db(), person, products)


def clients_for(api: Api, version: Version, operation: Operation | None) -> list[SignInClient]:
    """The reader's clients whose tokens an operation takes: each has a walk-through."""
    service = settings_of(current_app).sign_in_url
    issuers = {kind_of(policy).issuer(policy, service) for policy in _asking(api, version, operation)}
    applications = {application.id for application, _ in subscribed(api.name)}
    return [
        client
        for id in sorted(applications)
        for client in clients.clients_of(db(), id)
        if client.revoked_at is None and f"{service}/{client.directory}" in issuers
    ]


def plans_of_mine(api: Api) -> list[Plan]:
    """The plans that the reader's calls in the live environment come under."""
    keys = sorted(
        {(one.product, one.plan) for _, one in subscribed(api.name) if one.environment == environments().live}
    )
    products = [(offered_live().product(product), name) for product, name in keys]
    plans = [product.plan(name) for product, name in products if product is not None]
    return [plan for plan in plans if plan is not None]
