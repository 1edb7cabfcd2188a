"""Finding an API and reading it: search, filters, the reference, pages, the document, examples."""

import json
from datetime import timedelta

import pytest
import yaml
from flask.testing import FlaskClient
from openapi_spec_validator import OpenAPIV30SpecValidator
from sqlmodel import Session, select

from helpers import read_now
from tamarack.core.configuration.model import Api
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Application, Credential, Subscription
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.store.portal import search as catalogue
from tamarack.store.portal.search_table import CatalogueEntry
from tamarack.store.rollouts import queries as rolling


@pytest.mark.parametrize(
    ("typed", "found", "missing"),
    [
        ("tariffs", "List the tariffs", "Live departures"),
        ("quoting", "Quote a passage", "Every vessel"),  # the same word in another form
        ("depart", "Live departures of a port", "Quote a passage"),  # a word's beginning
        ("muster list", "About quotes", "Live departures"),  # a page's text
        ("vessels name", "One vessel", "Quote a passage"),  # words of different places
        ("getBoard", "Live departures of a port", "Quote a passage"),  # the operation's id
    ],
)
def test_search_looks_through_names_summaries_operations_and_pages(
    portal: FlaskClient, typed: str, found: str, missing: str
) -> None:
    page = portal.get("/", query_string={"search": typed}).text
    assert found in page
    assert missing not in page


@pytest.mark.parametrize("typed", ["'", "a & | !", "):*", "<script>alert(1)</script>", "%", "a" * 400])
def test_search_takes_whatever_is_typed_as_words(portal: FlaskClient, typed: str) -> None:
    answer = portal.get("/", query_string={"search": typed})
    assert answer.status_code == 200
    assert "<script>alert" not in answer.text


def test_found_words_are_marked_and_the_text_around_them_is_escaped(portal: FlaskClient, world: Session) -> None:
    text = "The **gangway** is at <img src=x onerror=alert(1)> berth four."
    _with_page(world, text)
    page = portal.get("/?search=gangway").text
    assert "<mark>gangway</mark>" in page
    assert "<img src=x" not in page


def _with_page(session: Session, text: str) -> None:
    draft = drafting.load_configuration(session).api("fares")
    assert draft is not None
    page = {"name": "berth-four", "title": "Berth four", "document": documents.keep_page(session, text)}
    changed = Api.model_validate({**draft.model_dump(), "pages": [page]})
    drafting.save(session, COMMAND_LINE, "api", "fares", changed, "a page")
    rolling.roll_out(session, COMMAND_LINE, "production")
    session.commit()


def test_what_is_not_rolled_out_is_not_found_and_what_is_taken_out_neither(portal: FlaskClient, world: Session) -> None:
    assert "About quotes" in portal.get("/?search=muster").text
    _with_page(world, "Nothing but seaweed.")
    assert "About quotes" not in portal.get("/?search=muster").text
    assert portal.get("/apis/fares/1/pages/quotes").status_code == 404
    for entry in world.exec(select(CatalogueEntry)):
        world.delete(entry)
    world.commit()
    catalogue.index_if_missing(world)
    assert catalogue.search(world, "seaweed", ["fares"])[0].title == "Berth four"
    assert catalogue.search(world, "seaweed", ["sailings"]) == []


def test_the_catalogue_is_filtered_by_state_and_shows_deprecated_versions_to_subscribers(
    lead: FlaskClient, world: Session
) -> None:
    assert "No API is deprecated" in lead.get("/?state=deprecated").text
    assert lead.get("/apis/sailings/1/").status_code == 404
    assert "version 1" not in lead.get("/?search=listSailings").text
    _subscribed(world, "skiff")
    assert "Sailings" not in lead.get("/?state=deprecated").text  # it was closed to new ones before
    for subscription in world.exec(select(Subscription)):
        subscription.made_at -= timedelta(days=30)
        world.add(subscription)
    world.commit()
    deprecated = lead.get("/?state=deprecated").text
    assert "Sailings" in deprecated
    assert "What a passage costs" not in deprecated
    preview = lead.get("/?state=preview").text
    assert ("Freight Bookings" in preview, "What a passage costs" in preview) == (True, False)
    ended = lead.get("/apis/sailings/1/").text
    assert "Version 1 is deprecated from" in ended
    assert "answers until" in ended
    assert "takes its place, at <code>/sailings/v2</code>" in " ".join(ended.split())
    assert "version 1" in lead.get("/?search=listSailings").text


def test_a_page_is_read_without_anything_that_could_run(portal: FlaskClient, world: Session) -> None:
    _with_page(world, "# Berth\n\n<script>alert(1)</script> [go](javascript:alert(1)) **well**")
    page = portal.get("/apis/fares/1/pages/berth-four").text
    assert "<strong>well</strong>" in page
    assert "<script>alert" not in page
    assert 'href="javascript' not in page


def test_the_document_has_the_gateways_addresses_and_security_in_both_forms(portal: FlaskClient) -> None:
    answer = portal.get("/apis/sailings/2/openapi.json")
    assert answer.headers["Content-Disposition"] == 'attachment; filename="sailings-2.json"'
    document = json.loads(answer.text)
    assert document == yaml.safe_load(portal.get("/apis/sailings/2/openapi.yaml").text)
    assert [server["description"] for server in document["servers"]] == ["production", "test"]
    assert all(server["url"].endswith("/sailings/v2") for server in document["servers"])
    assert document["components"]["securitySchemes"]["gateway"]["name"] == "x-skerry-key"
    assert document["paths"]["/ports"]["get"]["security"] == []
    assert list(OpenAPIV30SpecValidator(document).iter_errors()) == []
    assert "timetable.skerry.example" not in answer.text
    assert portal.get("/apis/sailings/2/openapi.xml").status_code == 404


def test_an_operation_shows_what_holds_for_the_readers_own_plan(lead: FlaskClient, world: Session) -> None:
    where = "/apis/fares/1/operation?call=post /quotes"
    assert "Under your plan" not in lead.get(where).text
    _subscribed(world, "cutter")
    page = lead.get(where).text
    assert "Under your plan Cutter, a subscription may call 10 times a second" in page
    assert "over-quota" in page


def _subscribed(session: Session, plan: str) -> Application:
    owner = subscribers.organization_named(session, "tern-trips")
    assert owner is not None
    made = subscribing.make_application(session, COMMAND_LINE, owner, "Night Planner")
    offered = rolling.running_configuration(session, "production")
    subscribing.subscribe(session, COMMAND_LINE, offered, made, "passage", plan, "production")
    session.commit()
    return made


def test_an_example_takes_the_readers_own_key_where_its_value_was_kept_and_the_look_is_recorded(
    lead: FlaskClient, world: Session
) -> None:
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    subscribing.set_may_look_again(world, COMMAND_LINE, owner, True)
    application = _subscribed(world, "cutter")
    lead.post(f"/applications/{application.id}/credentials/", data={"environment": "production", "label": "kept"})
    credential = world.exec(select(Credential)).one()
    where = "/apis/sailings/2/operation"
    assert credential.hint in lead.get(f"{where}?call=get /sailings").text
    part = lead.post(f"{where}/examples", data={"call": "get /sailings", "credential": credential.id}).text
    assert "x-skerry-key: tmk_" in part
    assert "YOUR-KEY" not in part
    assert world.exec(select(AuditEntry).where(AuditEntry.action == "look at credential")).one()
    other = lead.post(f"{where}/examples", data={"call": "get /sailings", "credential": "x"})
    assert other.status_code == 404


def test_a_document_of_a_thousand_operations_lists_all_and_opens_one_at_a_time(
    portal: FlaskClient, world: Session
) -> None:
    calls = [f"get /legs/{number}" for number in range(1_000)]
    paths = {call.split(" ")[1]: {"get": {"summary": f"Leg {call[10:]}", "tags": [f"day {int(call[10:]) % 7}"],
                                          "responses": {"200": {"description": "ok"}}}} for call in calls}  # fmt: skip
    text = json.dumps({"openapi": "3.1.0", "info": {"title": "Legs", "version": "1"}, "paths": paths})
    api = Api.model_validate(
        {"name": "legs", "title": "Legs", "versions": [
            {"version": "1", "base_path": "/legs", "backend": "timetable",
             "document": read_now(world, text), "operations": [{"call": call} for call in calls]}
        ]}
    )  # fmt: skip
    drafting.save(world, COMMAND_LINE, "api", "legs", api, "large")
    rolling.roll_out(world, COMMAND_LINE, "production")
    world.commit()
    page = portal.get("/apis/legs/1/").text
    assert page.count('class="method"') == 1_000
    one = portal.get("/apis/legs/1/operation?call=get /legs/500").text
    assert "Leg 500" in one
    assert "get /legs/499" in one
    assert "get /legs/501" in one
