"""An API's pages: what it is, its operations one by one, its owner's pages, and its document to download."""

import json
from datetime import UTC, datetime
from typing import Any

from flask import Blueprint, Response, abort, current_app, request, url_for

from tamarack.core.configuration.effective import held, is_open, opened, tried_freely
from tamarack.core.configuration.explain import explain_outside, explain_ways
from tamarack.core.configuration.model import Api, Version
from tamarack.core.configuration.models_shown import models_shown
from tamarack.core.configuration.possible_refusals import possible_refusals
from tamarack.core.documents.yaml_text import to_yaml
from tamarack.core.life_cycle.brown_outs import still_to_come
from tamarack.core.life_cycle.ending import ending_of, standing_successor
from tamarack.core.openapi.publish import published, security_scheme
from tamarack.core.openapi.reference import more_at, tag_descriptions, view_at, webhooks
from tamarack.core.trying.credential_examples import Given, way_for
from tamarack.core.trying.examples import as_curl, as_javascript, as_python
from tamarack.portal.catalogue.feedback import feedback_values
from tamarack.portal.catalogue.one_api import (
    Group,
    by_tag,
    clients_for,
    example_call,
    groups_beside,
    groups_of,
    introduction,
    plans_of_mine,
    shown_credential,
    subscribed,
    tree,
    view_of,
    ways_in,
)
from tamarack.portal.catalogue.trying import blank_try
from tamarack.portal.page import acting, my_application, offered, offered_live, refuse, render, requires, shown_version
from tamarack.store.announcements import queries as announcing
from tamarack.store.applications import credentials
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Credential
from tamarack.store.documents import queries as documents
from tamarack.store.errors import NotPossible
from tamarack.web.application import db, environments, gateway_address, settings_of
from tamarack.web.markdown import to_html
from tamarack.web.paging import Paging

A_PAGE = 20
"""Entries of a change log on a page."""
A_PAGE_OF_OPERATIONS = 500

pages = Blueprint("reference", __name__, url_prefix="/apis/<api>/<version>")


def head_values(api: Api, version: Version) -> dict[str, Any]:
    """What every page of a version shows around its own part."""
    return {
        "api": api,
        "version": version,
        "products": offered_live().products_with(api.name),
        "subscribed": subscribed(api.name),
        "address": gateway_address(environments().live),
        "ending": ending_of(version),
        "successor": standing_successor(api, version),
        "brown_outs": still_to_come(version.brown_outs, datetime.now(UTC)) if version.state == "deprecated" else [],
    }


@pages.get("/")
def page(api: str, version: str) -> Any:
    found, inside = shown_version(api, version)
    configuration = offered_live()
    return render(
        "catalogue/reference/page.html",
        models=models_shown(configuration, found, inside),
        tab="operations",
        introduction=to_html(introduction(inside)),
        **_listed(inside),
        more_at=more_at(tree(inside)),
        webhooks=webhooks(tree(inside)),
        tag_words={tag: to_html(words) for tag, words in tag_descriptions(tree(inside)).items() if words},
        ways=explain_ways(configuration, found, inside) if not tried_freely(inside) else [],
        changes=announcing.change_log(db(), found.name, bool(subscribed(api)), most=3),
        **feedback_values(inside, found),
        open_calls={o.call for o in inside.operations if is_open(held(configuration, found, inside, o))},
        **head_values(found, inside),
    )


def _listed(version: Version) -> dict[str, Any]:
    """The operations that the page lists: by tag, or all of one tag, page by page."""
    tag = request.args.get("tag", "")
    if not tag:
        return {"groups": groups_of(version), "only": "", "paging": None}
    found = by_tag(version).get(tag)
    if found is None:
        abort(404, f"No operation has the tag {tag!r}.")
    paging = Paging.of_request(len(found), A_PAGE_OF_OPERATIONS)
    return {"groups": [Group(tag, len(found), paging.cut(found))], "only": tag, "paging": paging}


@pages.get("/schema")
def schema(api: str, version: str) -> Any:
    """What is inside a schema of the document, laid out from there on."""
    _, inside = shown_version(api, version)
    view = view_at(tree(inside), request.args.get("at", ""))
    if view is None:
        abort(404, "The document has no schema there.")
    where = url_for("reference.schema", api=api, version=version)
    return render("catalogue/reference/schema_part.html", view=view, where=where)


@pages.get("/operation")
def operation(api: str, version: str) -> Any:
    """One operation in full: words, example, what holds, and trying it."""
    found, inside = shown_version(api, version)
    wanted = inside.operation(request.args.get("call", ""))
    if wanted is None:
        abort(404, f"{found.title} {inside.version} has no operation {request.args.get('call', '')!r}.")
    configuration = offered_live()
    view = view_of(inside, wanted)
    plans = plans_of_mine(found)
    ways = ways_in(found, inside, wanted)
    way = way_for(ways, name=request.args.get("way", ""))
    calls = [operation.call for operation in inside.operations]
    place = calls.index(wanted.call)
    return render(
        "catalogue/reference/operation.html",
        tab="operations",
        view=view,
        description=to_html(view.description),
        beside=groups_beside(inside, wanted.call),
        examples=_examples(found, inside, wanted.call, way=way.name if way is not None else ""),
        rules=explain_outside(configuration, found, inside, wanted, plans),
        refusals=possible_refusals(configuration, found, inside, wanted, plans),
        is_open=opened(inside, held(configuration, found, inside, wanted)),
        before=calls[place - 1] if place else "",
        after=calls[place + 1] if place + 1 < len(calls) else "",
        ways=ways,
        way=way,
        kept=_kept_keys(found, way.credential) if way is not None else [],
        clients=clients_for(found, inside, wanted),
        trying=blank_try(found, inside, view),
        **feedback_values(inside, found, wanted.call),
        **head_values(found, inside),
    )


def _examples(api: Api, version: Version, call: str, given: Given | None = None, way: str = "") -> dict[str, str]:
    operation = version.operation(call)
    assert operation is not None
    made = example_call(api, version, view_of(version, operation), given=given, way=way)
    return {"curl": as_curl(made), "Python": as_python(made), "JavaScript": as_javascript(made)}


def _kept_keys(api: Api, kind: str) -> list[tuple[Credential, str]]:
    """The reader's credentials of a kind whose values were kept, so that an example can carry one; with their
    applications' titles."""
    return [
        (credential, application.title)
        for application, subscription in subscribed(api.name)
        if subscription.environment == environments().live
        for credential in subscribers.credentials_of(db(), application)
        if credential.kind == kind
        and credential.sealed
        and credential.environment == environments().live
        and credential.revoked_at is None
    ]


@pages.post("/operation/examples")
@requires("credentials")
def examples(api: str, version: str) -> Any:
    """The examples of an operation with one of the reader's own keys in them; the look is recorded."""
    found, inside = shown_version(api, version)
    call = request.form.get("call", "")
    credential = db().get(Credential, request.form.get("credential", ""))
    if inside.operation(call) is None or credential is None:
        abort(404, "There is no such operation or credential.")
    my_application(credential.application_id)
    given = None
    try:
        value = credentials.look_again(db(), acting(), settings_of(current_app).keys.credentials, credential)
        db().commit()
        given = Given(f"{credential.public}:{value}" if credential.kind == "client-secret" else value, credential.kind)
    except NotPossible as error:
        refuse(str(error))
    return render("catalogue/reference/examples.html", examples=_examples(found, inside, call, given))


@pages.get("/pages/<name>")
def documentation(api: str, version: str, name: str) -> Any:
    """A page that the API's owner wrote."""
    found, inside = shown_version(api, version)
    wanted = found.page(name)
    text = documents.document_text(db(), wanted.document) if wanted is not None else None
    if wanted is None or text is None:
        abort(404, f"{found.title} has no page {name!r}.")
    return render("catalogue/reference/documentation.html", tab=name, page=wanted, text=to_html(text),
                  **head_values(found, inside))  # fmt: skip


@pages.get("/changes")
def changes(api: str, version: str) -> Any:
    """The API's change log."""
    found, inside = shown_version(api, version)
    entries = announcing.change_log(db(), found.name, bool(subscribed(api)), most=1_000)
    paging = Paging.of_request(len(entries), A_PAGE)
    return render(
        "catalogue/reference/changes.html",
        tab="changes",
        changes=paging.cut(entries),
        paging=paging,
        to_html=to_html,
        **head_values(found, inside),
    )


@pages.get("/openapi.<ending>")
def document(api: str, version: str, ending: str) -> Any:
    """The OpenAPI document: what is published, at the gateway's addresses, with the gateway's credentials."""
    if ending not in ("json", "yaml"):
        abort(404, "The document is there as .json and .yaml.")
    found, inside = shown_version(api, version)
    servers = [
        (f"{gateway_address(where)}{inside.base_path}", where)
        for where in reversed(environments().on_portal)
        if (there := offered(where).api(api)) is not None and there.version(version) is not None
    ]
    schemes = {}
    for one in inside.operations:
        shown = shown_credential(found, inside, one)
        schemes[one.call] = security_scheme(shown) if shown is not None else None
    made = published(tree(inside), found.title, inside.version, servers, schemes)
    # Not by a faster writer: whole numbers may have more than 64 bits.
    text = json.dumps(made, indent=2, ensure_ascii=False) if ending == "json" else to_yaml(made, fast=True)
    fields = {"Content-Disposition": f'attachment; filename="{api}-{version}.{ending}"'}
    media = {"json": "application/openapi+json", "yaml": "application/openapi+yaml"}[ending]
    return Response(text, mimetype=media, headers=fields)
