"""Operations edited in place and documents replaced: the description and the draft stay in step, and nothing is lost."""

from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session

from console.life_cycle.test_steps import words
from core.openapi.test_editing import SHARED
from helpers import read_now
from tamarack.core.configuration.model import Version
from tamarack.core.documents.yaml_text import to_yaml
from tamarack.demo.seed import CONFIGURATION
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting

PAGE = "/apis/sailings/2/operations/"
OLD = (CONFIGURATION / "documents" / "sailings-1.yaml").read_text() + "# as it was\n"
AS_IT_IS = {"was": "get /sailings", "method": "get", "path": "/sailings", "summary": "Find sailings",
            "was-0": "query day", "name-0": "day", "place-0": "query", "kind-0": "date",
            "was-1": "query from", "name-1": "from", "place-1": "query", "kind-1": "as described",
            "was-2": "query to", "name-2": "to", "place-2": "query", "kind-2": "as described"}  # fmt: skip


def version(world: Session, name: str = "2") -> Version:
    world.expire_all()
    api = drafting.load_configuration(world).api("sailings")
    found = api.version(name) if api is not None else None
    assert found is not None
    return found


def described(world: Session, path: str, method: str) -> dict[str, Any]:
    found: dict[str, Any] = documents.document_tree(world, version(world).document)["paths"][path][method]
    return found


def test_the_form_shows_the_operation_as_it_is_described(admin: FlaskClient, world: Session) -> None:
    page = admin.get(f"{PAGE}?operation=get%20/sailings").text
    assert page.count('name="was-') == 5
    assert 'value="Day of departure; today where it is left out"' in page
    assert "GET" not in words(admin.get("/apis/fares/1/operations/?new=yes").text)[:100]
    assert "OpenAPI has no words" not in page


def test_a_parameter_taken_out_and_one_added_are_in_the_document_too(admin: FlaskClient, world: Session) -> None:
    was = version(world)
    typed = AS_IT_IS | {"gone-2": "yes", "name-3": "tide", "place-3": "query", "kind-3": "number", "required-3": "yes"}
    assert admin.post(PAGE, data=typed).status_code == 303
    named = [(one["name"], one.get("required", False)) for one in described(world, "/sailings", "get")["parameters"]]
    assert named == [("day", False), ("from", False), ("tide", True)]
    operation = version(world).operation("get /sailings")
    assert operation is not None
    assert operation.summary == "Find sailings"
    assert operation.policies == was.operations[0].policies
    compared = words(admin.get("/apis/sailings/2/compare/?against=running").text)
    assert "parameter to in query is gone" in compared
    assert "parameter tide in query" in compared
    change = drafting.history(world, "api", "sailings")[0]
    assert change.summary == "edited get /sailings in Sailings 2"
    assert change.id is not None
    assert admin.post(f"/undo/{change.id}").status_code == 303
    assert version(world) == was


def test_an_operation_that_moves_keeps_its_rules(admin: FlaskClient, world: Session) -> None:
    was = version(world).operations[0]
    assert admin.post(PAGE, data=AS_IT_IS | {"path": "/crossings/{line}"}).status_code == 303
    now = version(world).operations[0]
    assert (now.call, now.policies) == ("get /crossings/{line}", was.policies)
    assert described(world, "/crossings/{line}", "get")["parameters"][0]["name"] == "line"


def test_an_operation_is_added_and_taken_out_again(admin: FlaskClient, world: Session) -> None:
    typed = {"was": "", "method": "get", "path": "/vessels", "summary": "The fleet"}
    assert admin.post(PAGE, data=typed).status_code == 303
    assert version(world).operations[-1].call == "get /vessels"
    assert described(world, "/vessels", "get")["summary"] == "The fleet"
    assert admin.post(f"{PAGE}remove", data={"operation": "get /vessels"}).status_code == 303
    assert version(world).operation("get /vessels") is None
    assert "/vessels" not in documents.document_tree(world, version(world).document)["paths"]
    assert admin.post(f"{PAGE}remove", data={"operation": "get /vessels"}).status_code == 303  # says that it is gone


@pytest.mark.parametrize(
    ("changes", "error"),
    [
        ({"path": "sailings"}, "does not start with /"),
        ({"path": "/ports"}, "is described already"),
        ({"path": "/sailings/{number}"}, "match the same calls"),
        ({"name-3": "from", "place-3": "query"}, "two parameters of the query are named"),
        ({"summary": "x" * 301}, "at most 300 fit"),
        ({"kind-0": "colour"}, "is no kind of value"),
    ],
)
def test_what_cannot_be_is_shown_again_as_it_was_typed(
    admin: FlaskClient, world: Session, changes: dict[str, str], error: str
) -> None:
    was = version(world)
    answer = admin.post(PAGE, data=AS_IT_IS | {"description": "What I typed"} | changes)
    assert (answer.status_code, error in answer.text, "What I typed" in answer.text) == (422, True, True)
    assert version(world) == was


def test_an_operation_that_a_plan_speaks_of_is_not_taken_away_under_it(admin: FlaskClient, world: Session) -> None:
    product = drafting.load_configuration(world).product("passage")
    assert product is not None
    part = {"api": "sailings", "operation": "post /sailings/search", "limits": ["5 per second"]}
    plan = type(product.plans[0]).model_validate(product.plans[0].model_dump() | {"parts": [part]})
    changed = product.model_copy(update={"plans": (plan, *product.plans[1:])})
    drafting.save(world, drafting.auditing.Actor("a", "b"), "product", "passage", changed, "a part")
    world.commit()
    typed = {"was": "post /sailings/search", "method": "post", "path": "/crossings"}
    answer = admin.post(PAGE, data=typed)
    assert (answer.status_code, "has no operation" in answer.text) == (422, True)
    admin.post(f"{PAGE}remove", data={"operation": "post /sailings/search"})
    assert version(world).operation("post /sailings/search") is not None


def test_another_document_shows_what_it_changes_and_then_takes_the_place(admin: FlaskClient, world: Session) -> None:
    assert "choose a file" in admin.post("/apis/sailings/2/redescribe/", data={"text": " "}).text
    answer = admin.post("/apis/sailings/2/redescribe/", data={"text": OLD})
    assert answer.status_code == 303
    assert "Waiting to be read" in admin.get(answer.location).text
    read_now(world, OLD)
    world.commit()
    page = words(admin.get(answer.location).text)
    assert "Operations that go get /sailings/{id}/stops post /sailings/search get /ports/{code}/board" in page
    assert "Breaks callers" in page
    assert "Breaks callers" in words(admin.get(f"{answer.location}?against=running").text)
    was = version(world)
    assert admin.post(answer.location).status_code == 303
    now = version(world)
    assert [one.call for one in now.operations] == ["get /sailings", "get /sailings/{id}", "get /ports"]
    assert now.operations[0].policies == was.operations[0].policies
    assert "It is the document that version 2 has." in admin.get(answer.location).text
    assert admin.get("/apis/sailings/2/redescribe/nothing").status_code == 404


def test_a_document_with_errors_takes_nobodys_place(admin: FlaskClient, world: Session) -> None:
    text = to_yaml(SHARED | {"paths": {"no-slash": {}}, "openapi": "3.1.0"}).replace("title: Berths", "titel: Berths")
    answer = admin.post("/apis/sailings/2/redescribe/", data={"text": text})
    read_now(world, text)
    world.commit()
    assert "It cannot be used yet" in admin.get(answer.location).text
    was = version(world)
    assert admin.post(answer.location).status_code == 422
    assert version(world) == was
