"""The reference: schemas in words, documents as they are published, calls from forms, reasons that can come up."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from openapi_spec_validator import OpenAPIV30SpecValidator, OpenAPIV31SpecValidator

from tamarack.core.carrying.refusals import REASONS
from tamarack.core.configuration.explain import explain_outside
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.possible_refusals import possible_refusals
from tamarack.core.openapi.publish import published, security_scheme
from tamarack.core.openapi.read import describe
from tamarack.core.openapi.reference import OperationView, outline, view_operation, view_schema
from tamarack.core.policies import KINDS
from tamarack.core.trying.examples import ExampleCall
from tamarack.core.trying.filled_in import Missing, call_path, header_lines
from tamarack.core.trying.limits_left import limits_left
from tamarack.demo.seed import CONFIGURATION, shipped_configuration

BERTH = {
    "components": {
        "schemas": {
            "Port": {"type": "object", "required": ["name"], "properties": {"name": {"type": "string", "minLength": 2}}},
            "Berth": {
                "allOf": [
                    {"$ref": "#/components/schemas/Port"},
                    {"type": "object", "required": ["length"], "properties": {"length": {"type": "integer"}}},
                ],
                "required": ["name"],
            },
            "Vessel": {
                "type": "object",
                "properties": {
                    "sister": {"$ref": "#/components/schemas/Vessel"},
                    "moored": {"oneOf": [{"$ref": "#/components/schemas/Berth"}, {"type": "null"}],
                               "discriminator": {"propertyName": "kind"}},
                    "flags": {"type": "array", "items": {"enum": ["blue", "yellow"]}, "uniqueItems": True},
                    "names": {"type": "object", "additionalProperties": {"type": "string", "maxLength": 40}},
                    "draught": {"type": ["number", "null"], "exclusiveMinimum": 0, "maximum": 12, "readOnly": True},
                    "built": {"type": "string", "format": "date", "deprecated": True},
                    "anything": {},
                },
            },
        }
    }
}  # fmt: skip


def inside(name: str) -> dict[str, Any]:
    view = view_schema(BERTH, {"$ref": f"#/components/schemas/{name}"})
    return {prop: (must, inner) for prop, must, inner in view.properties}


def test_what_every_part_of_an_all_of_says_holds() -> None:
    berth = inside("Berth")
    assert list(berth) == ["name", "length"]
    assert berth["name"][0]
    assert berth["length"][0]
    assert berth["name"][1].rules == ("at least 2 characters",)


def test_a_schema_in_words_with_what_is_inside() -> None:
    vessel = inside("Vessel")
    assert vessel["sister"][1].circular
    assert not vessel["sister"][1].properties
    moored = vessel["moored"][1]
    assert moored.variants_words == "exactly one of (`kind` tells which)"
    assert [one.words for one in moored.variants] == ["Berth", "null"]
    flags = vessel["flags"][1]
    assert (flags.words, flags.enum, flags.rules) == ("list of string", ("blue", "yellow"), ("no item twice",))
    assert vessel["names"][1].others.words == "string"
    assert vessel["draught"][1].words == "number or null"
    assert set(vessel["draught"][1].rules) == {"more than 0", "at most 12", "only in answers"}
    assert (vessel["built"][1].words, vessel["built"][1].deprecated) == ("string, date", True)
    assert vessel["anything"][1].words == "anything"


schemas = st.recursive(
    st.sampled_from(
        [{"type": "string"}, {"type": "integer", "minimum": 1}, {"$ref": "#/a"}, True, {}, {"enum": [1, "x"]}]
    ),
    lambda inner: st.one_of(
        st.dictionaries(st.sampled_from("abc"), inner, max_size=3).map(lambda p: {"type": "object", "properties": p}),
        inner.map(lambda one: {"type": "array", "items": one}),
        st.lists(inner, min_size=1, max_size=3).map(lambda many: {"oneOf": many}),
        st.lists(inner, min_size=1, max_size=3).map(lambda many: {"allOf": many}),
        inner.map(lambda one: {"additionalProperties": one}),
    ),
    max_leaves=12,
)


@given(schemas)
def test_any_schema_is_laid_out_also_one_that_holds_itself(schema: Any) -> None:
    def count(view: Any, depth: int = 0) -> int:
        assert depth < 40
        inner = [one for _, _, one in view.properties] + view.variants + ([view.others] if view.others else [])
        return 1 + sum(count(one, depth + 1) for one in inner)

    assert count(view_schema({"a": schema}, schema)) >= 1


DOCUMENT = (CONFIGURATION / "documents/sailings-2.yaml").read_text()
KEY = {"type": "apiKey", "in": "header", "name": "x-skerry-key"}


def test_a_published_document_holds_the_gateways_addresses_and_only_what_is_published() -> None:
    tree = describe(DOCUMENT).document
    made = published(
        tree, "Sailings", "2", [("http://127.0.0.1:7402/sailings/v2", "production")],
        {"get /sailings": KEY, "get /ports": None, "get /extra": KEY, "get /rest/*": KEY},
    )  # fmt: skip
    assert made["servers"] == [{"url": "http://127.0.0.1:7402/sailings/v2", "description": "production"}]
    assert list(made["paths"]) == ["/sailings", "/ports", "/extra"]
    assert "skerry.example" not in str(made["servers"])
    assert made["components"]["securitySchemes"] == {"gateway": KEY}
    assert made["paths"]["/sailings"]["get"]["security"] == [{"gateway": []}]
    assert made["paths"]["/ports"]["get"]["security"] == []
    assert made["paths"]["/extra"]["get"]["responses"]["default"]
    assert "post" not in made["paths"]["/sailings"]
    assert "/sailings/search" in tree["paths"], "the kept tree is as it was"


@pytest.mark.parametrize("path", sorted((CONFIGURATION / "documents").iterdir()), ids=lambda path: path.name)
def test_the_published_document_of_each_api_is_a_valid_one(path: Any) -> None:
    tree = describe(path.read_text()).document
    calls = {one.call: KEY for one in outline(tree)}
    made = published(tree, "T", "1", [("http://127.0.0.1:1/x", "production")], calls)
    validator = OpenAPIV31SpecValidator if made["openapi"].startswith("3.1") else OpenAPIV30SpecValidator
    assert [error.message for error in validator(made).iter_errors()] == []
    assert {one.call for one in outline(made)} == set(calls)


@pytest.mark.parametrize(
    ("shown", "scheme"),
    [
        (ExampleCall("", "", {"x-skerry-key": "k"}), KEY),
        (ExampleCall("", "key=k"), {"type": "apiKey", "in": "query", "name": "key"}),
        (ExampleCall("", "", basic=("id", "secret")), {"type": "http", "scheme": "basic"}),
        (ExampleCall("", "", {"Authorization": "Bearer t"}), {"type": "http", "scheme": "bearer"}),
    ],
)
def test_a_credential_is_told_as_a_security_scheme(shown: ExampleCall, scheme: dict[str, str]) -> None:
    assert security_scheme(shown) == scheme


def operation(call: str) -> OperationView:
    found = view_operation(describe(DOCUMENT).document, call)
    assert found is not None
    return found


def test_a_call_is_put_together_from_a_form() -> None:
    one = operation("get /sailings/{id}")
    assert call_path("/sailings/v2", one, {"path.id": "G 07/45?#"}) == "/sailings/v2/sailings/G%2007%2F45%3F%23"
    many = operation("get /sailings")
    values = {"query.day": "2026-11-23", "query.from": "", "query.to": "a&b=c"}
    assert call_path("/sailings/v2", many, values) == "/sailings/v2/sailings?day=2026-11-23&to=a%26b%3Dc"
    with pytest.raises(Missing, match=r"id has to be given, like") as missing:
        call_path("/sailings/v2", one, {})
    assert missing.value.name == "path.id"
    rest = OperationView("get /*", "get", "/*", "", "", (), deprecated=False)
    assert call_path("/x", rest, {"path.*": "a/b c"}) == "/x/a/b%20c"
    assert header_lines(many, {}, "application/json") == ["content-type: application/json"]


@given(st.text(max_size=40))
def test_what_is_typed_stays_within_its_place_in_the_path(typed: str) -> None:
    one = operation("get /sailings/{id}")
    if not typed:
        return
    path = call_path("/sailings/v2", one, {"path.id": typed})
    assert path.count("/") == "/sailings/v2/sailings/{id}".count("/")
    assert "?" not in path
    assert "#" not in path
    assert path.isascii()


def test_what_is_left_is_read_from_the_fields_of_an_answer() -> None:
    headers = [
        ("RateLimit-Policy", '"cutter-second";q=20;w=1, "quota";q=1000;w=86400'),
        ("RateLimit", '"cutter-second";r=19;t=1, "quota";r=7'),
    ]
    assert [(one.name, one.in_words) for one in limits_left(headers)] == [
        ("cutter-second", "19 of 20 left, reset in 1 s"),
        ("quota", "7 of 1,000 left"),
    ]
    assert limits_left([("ratelimit", "unreadable"), ("x", "y")]) == []


def test_every_kind_of_policy_says_why_it_may_refuse() -> None:
    assert {code for kind in KINDS.values() for code in kind.reasons} <= set(REASONS)


def demo() -> Configuration:
    return shipped_configuration(7400).configuration


def test_the_reasons_of_an_operation_follow_its_rules() -> None:
    whole = demo()
    sailings = whole.api("sailings")
    assert sailings is not None
    version = sailings.version("2")
    assert version is not None
    closed = {one.code for one in possible_refusals(whole, sailings, version, version.operation("get /sailings"))}
    opened = {one.code for one in possible_refusals(whole, sailings, version, version.operation("get /ports"))}
    assert {"no-credential", "unknown-credential", "not-subscribed", "over-plan", "over-quota"} <= closed
    assert not {"no-credential", "not-subscribed", "over-plan", "over-quota"} & opened
    assert {"backend-slow", "too-large"} <= opened


def test_developers_read_nothing_that_is_the_business_of_others() -> None:
    whole = demo()
    said = " ".join(
        sentence.text
        for api in whole.apis
        for version in api.versions
        for one in version.operations
        for sentence in explain_outside(whole, api, version, one)
    )
    for secret in ("lantern-bay", "tern-trips", "harbour-register", "all callers together", "takes the connection"):
        assert secret not in said
    assert "x-skerry-key" in said


def test_the_security_of_a_download_is_the_gateways_alone() -> None:
    own = {"security": [{"backend-key": []}], "responses": {"200": {"description": "ok"}}}
    call = {
        "post": {**own, "requestBody": {"content": {"application/json": {"schema": {"properties": {"security": {}}}}}}}
    }
    tree = {
        "openapi": "3.1.0", "info": {}, "security": [{"backend-key": []}], "webhooks": {"sailed": call},
        "paths": {"/a": {"get": {**own, "callbacks": {"told": {"{$url}": call}}}}},
        "components": {"securitySchemes": {"backend-key": {}}, "pathItems": {"P": call}, "callbacks": {"C": {"x": call}}},
    }  # fmt: skip
    made = published(tree, "T", "1", [], {"get /a": KEY})
    assert "backend-key" not in str(made)
    assert made["paths"]["/a"]["get"]["security"] == [{"gateway": []}]
    kept = made["webhooks"]["sailed"]["post"]["requestBody"]["content"]["application/json"]["schema"]
    assert kept == {"properties": {"security": {}}}
