"""What OpenAPI says of a view is true of its answers, and stays so when the schema changes or the view is published."""

from typing import Any

import jsonschema_rs
import pytest
from graphql import parse, validate
from hypothesis import assume, given, settings

from core.graphql.fleet import SDL
from core.graphql.test_documents import GRAPH, documents
from core.graphql.test_rest_view import HOLD, VESSEL
from core.graphql.test_withheld import Service, without_conflicts
from tamarack.core.documents.yaml_text import to_yaml
from tamarack.core.graphql.described import SCHEMA, graphql_description
from tamarack.core.graphql.handed_in import described
from tamarack.core.graphql.schema import graph_of
from tamarack.core.graphql.views.rest_described import check_views, described_view, with_view
from tamarack.core.graphql.views.rest_view import MOST_FIELDS, VIEW, ViewProblem, view_of, views_in
from tamarack.core.openapi.publish import published
from tamarack.core.openapi.read import describe


def answer_schema(text: str, gives: str = "data") -> Any:
    view = view_of("get /x", text, gives, GRAPH, whole=False)
    return described_view(view, GRAPH, "")["responses"]["200"]["content"]["application/json"]["schema"]


@settings(max_examples=30)
@given(documents().map(without_conflicts))
def test_whatever_a_service_answers_fits_what_is_said_of_it(text: str) -> None:
    assume(not validate(GRAPH.schema, parse(text)))
    try:
        schema = answer_schema(text)
    except ViewProblem as problem:
        assert str(MOST_FIELDS) in str(problem)
        return
    jsonschema_rs.validate(schema, Service().run(text)["data"])


def test_what_does_not_fit_is_not_described_as_if_it_did() -> None:
    schema = answer_schema(VESSEL, "value")
    assert jsonschema_rs.is_valid(schema, {"name": "tern", "crossings": [{"id": "a"}]})
    for wrong in (None, {"name": 7, "crossings": []}, {"crossings": []}, {"name": "a", "crossings": [{}]}):
        assert not jsonschema_rs.is_valid(schema, wrong)


def test_parameters_are_described_by_their_place_and_type() -> None:
    schema = "enum Side { A B } input In { side: Side! many: [Int] deep: In } type Query { q(l: [ID!], s: Side, i: In!): Int }"
    graph = graph_of(schema)
    text = "query Q($l: [ID!], $s: Side = A) { q(l: $l, s: $s, i: {side: A}) }"
    told = described_view(view_of("get /q", text, "value", graph), graph, "Ask")
    assert told["parameters"] == [
        {"name": "l", "in": "query", "schema": {"type": "array", "items": {"type": "string"}}},
        {"name": "s", "in": "query", "schema": {"type": "string", "enum": ["A", "B"], "default": "A"}},
    ]
    body = described_view(view_of("post /q", "query Q($i: In!) { q(i: $i) }", "value", graph), graph, "")["requestBody"]
    shape = body["content"]["application/json"]["schema"]
    assert (body["required"], shape["required"]) == (True, ["i"])
    inner = shape["properties"]["i"]
    assert inner["required"] == ["side"] and inner["properties"]["many"]["type"] == ["array", "null"]


def test_a_described_view_is_a_valid_description_that_is_published_without_schema_and_document() -> None:
    tree = graphql_description("Fleet", "1", "", SDL, "{ __typename }")
    for call, text in (("get /vessels/{name}", VESSEL), ("post /holds", HOLD)):
        tree = with_view(tree, described_view(view_of(call, text, "value", GRAPH), GRAPH, "words"), call)
    read = describe(to_yaml(tree))
    assert not read.problems and {"get /vessels/{name}", "post /holds"} <= {one.call for one in read.operations}
    assert views_in(tree)["post /holds"] == (HOLD, "value") and check_views(tree, GRAPH) == []
    shown = to_yaml(published(tree, "Fleet", "1", [], {"get /vessels/{name}": None, "post /": None}))
    assert SCHEMA not in shown and VIEW not in shown and "Vessel" not in shown


def test_views_stay_when_the_schema_is_handed_in_anew_and_one_that_fits_no_more_is_named() -> None:
    tree = graphql_description("Fleet", "1", "", SDL, "{ __typename }")
    tree = with_view(
        tree, described_view(view_of("get /v/{name}", VESSEL, "value", GRAPH), GRAPH, "words"), "get /v/{name}"
    )
    kept = describe(described(SDL.replace("oldName", "formerName"), "Fleet", "1", "", tree))
    assert views_in(kept.document) == views_in(tree) and kept.operations[-1].summary == "words"
    with pytest.raises(ViewProblem, match=r"the view get /v/\{name\}: line 1: Vessel has no field 'name'"):
        described(SDL.replace("name: ID! oldName", "oldName"), "Fleet", "1", "", tree)
    assert check_views(tree, graph_of("type Query { a: Int }"))[0].startswith("get /v/{name}: line 1: ")
    assert "schema is not known" in check_views(tree, None)[0]
