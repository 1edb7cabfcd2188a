"""Two descriptions compared: each single edit judged as its rule says, and other spellings of the same no difference."""

import json
from collections.abc import Callable
from copy import deepcopy
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tamarack.core.comparing.compare import compare, worst
from tamarack.core.comparing.rules import RULES
from tamarack.core.comparing.schemas import MOST_LOOKED_INTO, Schemas
from tamarack.core.openapi.read import describe
from tamarack.core.openapi.references import resolve

Document = dict[str, Any]
DEMO = Path(__file__).parents[3] / "src/tamarack/demo/configuration/documents"

BASE: Document = {
    "openapi": "3.1.0",
    "components": {
        "securitySchemes": {"key": {"type": "apiKey", "in": "header", "name": "X-Key"}, "sso": {"type": "oauth2", "flows": {}}},
        "schemas": {
            "Sailing": {
                "type": "object",
                "required": ["id", "port"],
                "properties": {
                    "id": {"type": "string", "readOnly": True},
                    "port": {"type": "string", "enum": ["corran", "eskholm"]},
                    "metres": {"type": "number", "minimum": 1, "maximum": 30},
                    "notes": {"type": "array", "items": {"type": "string", "maxLength": 80}, "maxItems": 5},
                    "via": {"$ref": "#/components/schemas/Sailing"},
                    "secret": {"type": "string", "writeOnly": True},
                    "cargo": {"oneOf": [{"$ref": "#/components/schemas/Crate"}, {"$ref": "#/components/schemas/Animal"}]},
                },
            },
            "Crate": {"type": "object", "properties": {"weight": {"type": "integer"}}, "required": ["weight"]},
            "Animal": {"type": "object", "properties": {"kind": {"type": "string"}}, "required": ["kind"],
                       "additionalProperties": False},
        },
    },
    "security": [{"key": []}],
    "paths": {
        "/sailings/{id}": {
            "parameters": [{"name": "id", "in": "path", "required": True, "schema": {"type": "string"}}],
            "get": {
                "parameters": [
                    {"name": "day", "in": "query", "schema": {"type": "string", "format": "date"}},
                    {"name": "X-Ship", "in": "header", "required": True, "schema": {"type": "string"}},
                ],
                "responses": {
                    "200": {
                        "description": "it",
                        "headers": {"X-Left": {"schema": {"type": "integer"}}},
                        "content": {"application/json": {"schema": {"$ref": "#/components/schemas/Sailing"}}},
                    },
                    "404": {"description": "none"},
                },
            },
            "put": {
                "requestBody": {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/Sailing"}}}},
                "responses": {"204": {"description": "done"}},
                "security": [{"sso": ["sailings:write"]}],
            },
        }
    },
}  # fmt: skip

GET, PUT = ("paths", "/sailings/{id}", "get"), ("paths", "/sailings/{id}", "put")
SCHEMA = ("components", "schemas", "Sailing")
PROPERTIES = (*SCHEMA, "properties")
DAY = (*GET, "parameters", 0)


def put(*path: Any, to: Any) -> Callable[[Document], None]:
    """An edit that sets a value at a path."""

    def edit(document: Document) -> None:
        holder: Any = document
        for part in path[:-1]:
            holder = holder[part]
        holder[path[-1]] = to

    return edit


def drop(*path: Any) -> Callable[[Document], None]:
    """An edit that takes away what stands at a path."""

    def edit(document: Document) -> None:
        holder: Any = document
        for part in path[:-1]:
            holder = holder[part]
        del holder[path[-1]]

    return edit


EDITS: list[tuple[str, Callable[[Document], None], set[str]]] = [
    ("an operation goes", drop(*PUT), {"operation-removed"}),
    ("an operation comes", put("paths", "/sailings/{id}", "delete", to={"responses": {}}), {"operation-added"}),
    ("a path comes", put("paths", "/ports", to={"get": {"responses": {}}}), {"operation-added"}),
    ("an operation is deprecated", put(*GET, "deprecated", to=True), {"operation-deprecated"}),
    ("a path parameter is renamed", lambda d: (
        d["paths"].update({"/sailings/{sailing}": d["paths"].pop("/sailings/{id}")}),
        d["paths"]["/sailings/{sailing}"]["parameters"][0].update(name="sailing"))[0], set()),
    ("a parameter goes", drop(*DAY), {"parameter-removed"}),
    ("a required parameter comes", lambda d: d["paths"]["/sailings/{id}"]["get"]["parameters"].append(
        {"name": "n", "in": "query", "required": True}), {"required-parameter-added"}),
    ("an optional parameter comes", lambda d: d["paths"]["/sailings/{id}"]["get"]["parameters"].append(
        {"name": "n", "in": "query"}), {"parameter-added"}),
    ("a parameter becomes required", put(*DAY, "required", to=True), {"parameter-required"}),
    ("a header becomes optional", drop(*GET, "parameters", 1, "required"), {"parameter-optional"}),
    ("a header is spelled otherwise", put(*GET, "parameters", 1, "name", to="x-SHIP"), set()),
    ("a parameter moves", put(*DAY, "in", to="cookie"), {"parameter-removed", "parameter-added"}),
    ("a parameter's style", put(*DAY, "style", to="pipeDelimited"), {"parameter-style"}),
    ("a parameter's usual style is written out", put(*DAY, "style", to="form"), set()),
    ("a parameter's format", put(*DAY, "schema", "format", to="date-time"), {"request-other"}),
    ("a parameter gets a pattern", put(*DAY, "schema", "pattern", to="^2"), {"request-narrower"}),
    ("a parameter's type", put(*DAY, "schema", "type", to="integer"), {"request-replaced"}),
    ("an answer's property is replaced", put(*PROPERTIES, "notes", to={"type": "string"}), {"request-replaced", "answer-replaced"}),
    ("a parameter takes null too", put(*DAY, "schema", "type", to=["string", "null"]), {"request-wider"}),
    ("a parameter is described", put(*DAY, "description", to="The day"), set()),
    ("a body becomes required", put(*PUT, "requestBody", "required", to=True), {"body-required"}),
    ("a body goes", drop(*PUT, "requestBody"), {"body-removed"}),
    ("a body comes", put(*GET, "requestBody", to={"content": {}}), {"body-added"}),
    ("a required body comes", put(*GET, "requestBody", to={"required": True, "content": {}}), {"required-body-added"}),
    ("a body's type comes", put(*PUT, "requestBody", "content", "application/xml", to={}), {"request-media-added"}),
    ("a body's type goes", drop(*PUT, "requestBody", "content", "application/json"), {"request-media-removed"}),
    ("an answer's type comes", put(*GET, "responses", "200", "content", "application/xml", to={}), {"answer-media-added"}),
    ("an answer's type goes", drop(*GET, "responses", "200", "content", "application/json"), {"answer-media-removed"}),
    ("a success goes", drop(*GET, "responses", "200"), {"success-removed"}),
    ("a success comes", put(*GET, "responses", "202", to={}), {"success-added"}),
    ("an error goes", drop(*GET, "responses", "404"), {"error-removed"}),
    ("an error comes", put(*GET, "responses", "409", to={}), {"error-added"}),
    ("an answer's header goes", drop(*GET, "responses", "200", "headers", "X-Left"), {"header-removed"}),
    ("an answer's header comes", put(*GET, "responses", "200", "headers", "X-Tide", to={}), {"header-added"}),
    ("an answer's header is promised", put(*GET, "responses", "200", "headers", "X-Left", "required", to=True), {"header-required"}),
    ("an answer's header widens", put(*GET, "responses", "200", "headers", "X-Left", "schema", "type", to="number"), {"answer-wider"}),
    ("an answer's format", put(*GET, "responses", "200", "headers", "X-Left", "schema", "format", to="int64"), {"answer-other"}),
    ("security by another way", put("security", to=[{"sso": []}]), {"security-added", "security-removed"}),
    ("security goes", put("security", to=[]), {"security-removed"}),
    ("security becomes optional", put("security", to=[{"key": []}, {}]), {"security-removed"}),
    ("security comes", put(*GET, "security", to=[{"key": []}, {"sso": []}]), {"security-removed"}),
    ("a scheme is renamed", lambda d: (
        d["components"]["securitySchemes"].update(other=d["components"]["securitySchemes"].pop("key")),
        d.update(security=[{"other": []}]))[0], set()),
    ("a scope comes", put(*PUT, "security", to=[{"sso": ["sailings:write", "sailings:read"]}]), {"scopes-added"}),
    ("a property comes", put(*PROPERTIES, "berth", to={"type": "string"}), {"answer-property-added", "request-property-added"}),
    ("a property goes", drop(*PROPERTIES, "metres"), {"answer-property-removed", "request-property-removed"}),
    ("a property becomes required", put(*SCHEMA, "required", to=["id", "port", "metres"]), {"property-required", "answer-property-required"}),
    ("a property becomes optional", put(*SCHEMA, "required", to=["id"]), {"property-optional", "answer-property-optional"}),
    ("a required property comes", lambda d: (
        d["components"]["schemas"]["Sailing"]["properties"].update(quay={"type": "string"}),
        d["components"]["schemas"]["Sailing"]["required"].append("quay"))[0], {"required-property-added", "answer-property-added"}),
    ("what only answers hold goes", drop(*PROPERTIES, "id"), {"answer-property-removed"}),
    ("what only requests hold changes", put(*PROPERTIES, "secret", "maxLength", to=8), {"request-narrower"}),
    ("a value comes", put(*PROPERTIES, "port", "enum", to=["corran", "eskholm", "finnvik"]), {"request-wider", "answer-values-added"}),
    ("a value goes", put(*PROPERTIES, "port", "enum", to=["corran"]), {"request-narrower", "answer-narrower"}),
    ("a number becomes whole", put(*PROPERTIES, "metres", "type", to="integer"), {"request-narrower", "answer-narrower"}),
    ("a maximum falls", put(*PROPERTIES, "metres", "maximum", to=20), {"request-narrower", "answer-narrower"}),
    ("a maximum goes", drop(*PROPERTIES, "metres", "maximum"), {"request-wider", "answer-wider"}),
    ("a minimum rises", put(*PROPERTIES, "metres", "minimum", to=2), {"request-narrower", "answer-narrower"}),
    ("a minimum falls", put(*PROPERTIES, "metres", "minimum", to=0), {"request-wider", "answer-wider"}),
    ("items may be longer", put(*PROPERTIES, "notes", "items", "maxLength", to=200), {"request-wider", "answer-wider"}),
    ("a list may hold more", put(*PROPERTIES, "notes", "maxItems", to=9), {"request-wider", "answer-wider"}),
    ("a list's items have to differ", put(*PROPERTIES, "notes", "uniqueItems", to=True), {"request-narrower", "answer-narrower"}),
    ("further properties are closed", put(*SCHEMA, "additionalProperties", to=False), {"request-narrower", "answer-narrower"}),
    ("further properties open", drop("components", "schemas", "Animal", "additionalProperties"), {"request-wider", "answer-wider"}),
    ("a variant goes", drop(*PROPERTIES, "cargo", "oneOf", 1), {"request-narrower", "answer-narrower"}),
    ("a variant comes", lambda d: d["components"]["schemas"]["Sailing"]["properties"]["cargo"]["oneOf"].append(
        {"type": "string"}), {"request-wider", "answer-wider"}),
    ("a variant's bound", put("components", "schemas", "Crate", "properties", "weight", "minimum", to=1), {"request-narrower", "answer-narrower"}),
    ("variants change places", put(*PROPERTIES, "cargo", "oneOf", to=[
        {"$ref": "#/components/schemas/Animal"}, {"$ref": "#/components/schemas/Crate"}]), set()),
    ("a schema is renamed", lambda d: d.update(json.loads(json.dumps(d).replace("Sailing", "Crossing"))), set()),
    ("a schema in parts", put(*SCHEMA, to={"allOf": [
        {"type": "object", "required": ["id"], "properties": {
            k: v for k, v in BASE["components"]["schemas"]["Sailing"]["properties"].items() if k in ("id", "port")}},
        {"required": ["port"], "properties": {
            k: v for k, v in BASE["components"]["schemas"]["Sailing"]["properties"].items() if k not in ("id", "port")}}]}), set()),
]  # fmt: skip


@pytest.mark.parametrize(("name", "edit", "rules"), EDITS, ids=[one[0] for one in EDITS])
def test_each_single_edit_is_judged_as_its_rule_says(
    name: str, edit: Callable[[Document], None], rules: set[str]
) -> None:
    after = deepcopy(BASE)
    edit(after)
    found = compare(BASE, after)
    assert {one.rule for one in found} == rules, [(one.where, one.what) for one in found]
    assert all(one.what and one.why for one in found)
    back = compare(after, BASE)
    assert bool(back) == bool(found)
    turned = {
        "request-narrower": {"request-wider"},
        "answer-narrower": {"answer-wider", "answer-values-added"},
        "request-wider": {"request-narrower"},
    }
    for rule in rules & turned.keys():
        assert turned[rule] & {one.rule for one in back}


def test_every_rule_is_met_by_some_edit_here_or_back() -> None:
    met = set()
    for _, edit, _ in EDITS:
        after = deepcopy(BASE)
        edit(after)
        met |= {one.rule for one in (*compare(BASE, after), *compare(after, BASE))}
    of_graphs = {rule for rule in RULES if rule.startswith("graph-")}  # in `test_graphs`
    assert RULES.keys() - met - of_graphs <= {"closed-property-removed", "required-header-removed"}


def test_a_property_that_goes_where_others_are_refused_breaks_those_who_send_it() -> None:
    before = deepcopy(BASE)
    before["components"]["schemas"]["Animal"]["properties"]["age"] = {"type": "integer"}
    rules = {one.rule for one in compare(before, BASE)}
    assert rules == {"closed-property-removed", "answer-property-removed"}


def test_the_gravest_comes_first_and_has_its_place() -> None:
    after = deepcopy(BASE)
    put(*PROPERTIES, "metres", "maximum", to=20)(after)
    put(*GET, "deprecated", to=True)(after)
    found = compare(BASE, after)
    assert [one.verdict for one in found] == ["breaking", "harmless", "harmless"]
    assert (found[0].call, found[0].where, found[0].side) == (
        "put /sailings/{id}", "request body, application/json, /metres", "requests",
    )  # fmt: skip
    assert found[0].what == "has maximum 20 instead of 30"
    assert (worst(found), worst([])) == ("breaking", "none")


def inlined(document: Document, value: Any, depth: int = 0) -> Any:
    """A document with references replaced by what they lead to, as far as that ends."""
    if isinstance(value, dict) and isinstance(value.get("$ref"), str) and depth < 6:
        return inlined(document, resolve(document, value), depth + 1)
    if isinstance(value, dict):
        return {key: inlined(document, inner, depth) for key, inner in value.items()}
    return [inlined(document, inner, depth) for inner in value] if isinstance(value, list) else value


def shuffled(value: Any, draw: Any) -> Any:
    """The same with its mappings in another order."""
    if isinstance(value, dict):
        keys = list(value)
        draw.shuffle(keys)
        return {key: shuffled(value[key], draw) for key in keys}
    return [shuffled(one, draw) for one in value] if isinstance(value, list) else value


@pytest.mark.parametrize("path", sorted(DEMO.glob("*")), ids=lambda path: path.name)
def test_a_document_has_no_difference_from_itself_however_it_is_written(path: Path) -> None:
    document = describe(path.read_text()).document
    assert document is not None
    assert compare(document, deepcopy(document)) == []
    assert compare(document, inlined(document, document)) == []
    assert compare(inlined(document, document), document) == []


@given(st.randoms(use_true_random=False))
@settings(max_examples=15)
def test_order_makes_no_difference(draw: Any) -> None:
    assert compare(BASE, shuffled(BASE, draw)) == []


def test_what_older_documents_say_is_the_same_as_what_newer_ones_say() -> None:
    def with_schema(schema: Document) -> Document:
        made = deepcopy(BASE)
        put(*PROPERTIES, "metres", to=schema)(made)
        return made

    old = with_schema({"type": "number", "nullable": True, "minimum": 1, "exclusiveMinimum": True})
    new = with_schema({"type": ["number", "null"], "exclusiveMinimum": 1})
    assert compare(old, new) == []


def document_of(schemas: Document, *answers: str) -> Document:
    """A document with an operation for each of some schemas, which it answers with."""
    paths: Document = {
        f"/{name}": {"get": {"responses": {"200": {"description": "it", "content": {
            "application/json": {"schema": {"$ref": f"#/components/schemas/{name}"}}}}}}}
        for name in answers
    }  # fmt: skip
    return {"openapi": "3.1.0", "components": {"schemas": schemas}, "paths": paths}


def leading_to(**schemas: str) -> Document:
    return {name: {"$ref": f"#/components/schemas/{other}"} for name, other in schemas.items()}


@pytest.mark.parametrize("answers", [("A", "B"), ("B", "A")])
@pytest.mark.parametrize("variants", [False, True])
def test_what_changes_within_a_circle_is_told_wherever_the_circle_is_entered(
    answers: tuple[str, str], variants: bool
) -> None:
    def circle(most: int) -> Document:
        back: Document = leading_to(a="A")["a"]
        schemas: Document = {
            "A": {"type": "object", "properties": leading_to(b="B") | {"x": {"type": "integer", "maximum": most}}},
            "B": {"type": "object", "properties": {"a": {"oneOf": [back, {"type": "null"}]} if variants else back}},
        }
        return document_of(schemas, *answers)

    found = compare(circle(5), circle(9))
    assert sorted(one.call for one in found if "maximum" in one.what or "variant" in one.what) == ["get /A", "get /B"]
    assert compare(circle(5), circle(5)) == []


@pytest.fixture
def looked_at(monkeypatch: pytest.MonkeyPatch) -> list[object]:
    """What pairs of schemas were looked into."""
    looked: list[object] = []
    differences = Schemas._differences

    def noting(self: Schemas, *pair: Any) -> Any:
        looked.append(pair)
        return differences(self, *pair)

    monkeypatch.setattr(Schemas, "_differences", noting)
    return looked


def test_a_schema_that_is_met_on_many_ways_is_looked_into_once(looked_at: list[object]) -> None:
    def deep(most: int) -> Document:
        schemas = {
            f"L{n}": {"type": "object", "properties": leading_to(left=f"L{n + 1}", right=f"L{n + 1}")}
            for n in range(24)
        }
        return document_of({**schemas, "L24": {"type": "integer", "maximum": most}}, "L0")

    (found,) = compare(deep(5), deep(9))
    assert found.where.endswith("/left" * 24)
    assert len(looked_at) <= 25


def test_parts_of_schemas_that_hold_each_other_or_themselves_come_to_an_end(looked_at: list[object]) -> None:
    def tangled(most: int) -> Document:
        ref = leading_to(**{f"L{n}": f"L{n}" for n in range(26)}) | leading_to(Self="Self", Base="Base")
        parts = {f"L{n}": {"allOf": [ref[f"L{n + 1}"], {"required": [f"r{n}"]}, ref[f"L{n + 1}"]]} for n in range(24)}
        return document_of({
            **parts, "L24": {"type": "object", "properties": {"x": {"type": "integer", "maximum": most}}},
            "Self": {"allOf": [ref["Self"], ref["Self"], ref["L0"]]},
            "Base": {"allOf": [
                {"type": "object", "properties": {"left": ref["Base"], "right": {"allOf": [ref["Base"]]}}},
                {"properties": {"left": {"allOf": [ref["Base"]]}, "right": ref["Base"], "x": {"maximum": most}}},
            ]},
        }, "Self", "Base")  # fmt: skip

    found = compare(tangled(5), tangled(9))
    assert {one.call for one in found} == {"get /Self", "get /Base"}
    assert any("maximum 9 instead of 5" in one.what for one in found)
    assert len(looked_at) <= 2 * (MOST_LOOKED_INTO + 1)


@pytest.mark.parametrize("bound", ["MOST_LOOKED_INTO", "MOST_IN_ALL"])
def test_what_is_too_much_to_compare_is_never_called_the_same(monkeypatch: pytest.MonkeyPatch, bound: str) -> None:
    monkeypatch.setattr(f"tamarack.core.comparing.schemas.{bound}", 3)
    (found,) = compare(BASE, deepcopy(BASE))[:1]
    assert (found.verdict, "too large or too deep" in found.what) == ("maybe", True)


def test_what_lies_too_deep_to_compare_is_never_called_the_same() -> None:
    chain = {f"L{n}": {"allOf": [leading_to(next=f"L{n + 1}")["next"]]} for n in range(400)}
    nested = {f"N{n}": {"type": "object", "properties": leading_to(next=f"N{n + 1}")} for n in range(400)}
    last = {"L400": {"type": "string"}, "N400": {"type": "string"}}
    found = compare(*(document_of({**chain, **nested, **last}, "L0", "L1", "N0") for _ in range(2)))
    assert [(one.call, one.verdict) for one in found] == [(f"get /{name}", "maybe") for name in ("L0", "L1", "N0")]


def test_what_breaks_is_kept_where_there_is_more_than_can_be_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("tamarack.core.comparing.compare.MOST_DIFFERENCES", 1)
    after = deepcopy(BASE)
    paths = after["paths"]
    after["paths"] = {"/new": deepcopy(paths["/sailings/{id}"]), **paths}
    del after["paths"]["/sailings/{id}"]["get"]
    (found,) = compare(BASE, after)
    assert found.verdict == "breaking"


def test_a_large_document_is_looked_into_as_often_as_it_is_large(looked_at: list[object]) -> None:
    def large(many: int) -> Document:
        made = deepcopy(BASE)
        item = made["paths"].pop("/sailings/{id}")
        made["paths"] = {f"/sailings{number}/{{id}}": deepcopy(item) for number in range(many)}
        return made

    def looks(many: int) -> int:
        before, after = large(many), large(many)
        put(*PROPERTIES, "metres", "maximum", to=20)(after)
        looked_at.clear()
        assert len(compare(before, after)) == many * 2
        return len(looked_at)

    assert looks(400) <= 8 * looks(50)
