"""OpenAPI documents: understood in three dialects, every problem with its line, nothing fetched."""

from pathlib import Path
from typing import Any

import pytest

from tamarack.core.openapi.read import describe
from tamarack.core.openapi.reference import OperationView, example_of, outline, view_operation, view_schema
from tamarack.demo.seed import CONFIGURATION


def lay_out(document: dict[str, Any]) -> list[OperationView]:
    """Every operation of a document, in full."""
    found = [view_operation(document, entry.call) for entry in outline(document)]
    assert None not in found
    return [view for view in found if view is not None]


HEAD = 'openapi: 3.0.3\ninfo: {title: Sailings, version: "2"}\n'
ANSWER = '{responses: {"200": {description: ok}}}'


@pytest.mark.parametrize("path", sorted((CONFIGURATION / "documents").iterdir()), ids=lambda path: path.name)
def test_the_demos_documents_have_no_problem(path: Path) -> None:
    described = describe(path.read_text())
    assert described.problems == []
    assert described.usable
    assert described.operations
    assert all(view.answers for view in lay_out(described.document))


def test_a_2_0_document_says_the_same_as_3_0() -> None:
    text = (CONFIGURATION / "documents/sailings-1.yaml").read_text()
    described = describe(text)
    assert described.dialect == "2.0"
    assert described.servers == ("https://timetable.skerry.example/v1",)
    sailing = lay_out(described.document)[1]
    assert [(p.name, p.place, p.required) for p in sailing.parameters] == [("id", "path", True)]
    assert sailing.answers[0].bodies[0].schema.words == "Sailing"
    assert '"departs": "07:45"' in sailing.answers[0].bodies[0].example


def test_forms_and_bodies_of_2_0_become_request_bodies() -> None:
    text = """
swagger: "2.0"
info: {title: T, version: "1"}
consumes: [application/json]
parameters:
  Whole: {name: body, in: body, required: true, schema: {type: object, properties: {day: {type: string}}}}
paths:
  /a: {post: {parameters: [{$ref: "#/parameters/Whole"}], responses: {"200": {description: ok}}}}
  /b: {post: {parameters: [{name: file, in: formData, type: file}], responses: {"200": {description: ok}}}}
"""
    whole, form = lay_out(describe(text).document)
    assert whole.body is not None
    assert [name for name, _, _ in whole.body.schema.properties] == ["day"]
    assert form.body is not None
    assert form.body.media == "multipart/form-data", "no other form takes a file"


@pytest.mark.parametrize(
    ("text", "severity", "line", "words"),
    [
        ("", "error", 1, "empty"),
        ("a: [1,\nb: }", "error", 2, "cannot be read"),
        ("- 1", "error", 1, "no mapping"),
        ("title: x", "error", 1, "add the field `openapi`"),
        ('openapi: "4.0.0"\npaths: {}', "error", 1, "4.0.0 is not read here"),
        (HEAD + "paths: {}", "error", 3, "no paths"),
        (HEAD + f"paths:\n  /a:\n    get: {ANSWER}\n  b:\n    get: {ANSWER}", "warning", 6, "does not start with /"),
        (HEAD + f"paths:\n  /a/{{id}}:\n    get: {ANSWER}", "warning", 5, "no parameter describes it"),
        (HEAD + f"paths:\n  /a:\n    get: {ANSWER}\n    get: {ANSWER}", "warning", 6, "stands twice"),
        (
            HEAD + 'paths:\n  /a:\n    get:\n      responses: {"200": {$ref: "#/components/responses/No"}}',
            "warning",
            6,
            "leads to nothing",
        ),
        (
            HEAD + 'paths:\n  /a:\n    get:\n      responses: {"200": {$ref: "http://127.0.0.1:1/x"}}',
            "warning",
            6,
            "leads out of the document",
        ),
    ],
)
def test_a_problem_is_told_with_its_line(text: str, severity: str, line: int, words: str) -> None:
    problems = describe(text).problems
    assert any(p.severity == severity and p.line == line and words in p.message for p in problems), problems


def test_a_file_reference_is_never_opened(tmp_path: Path) -> None:
    (tmp_path / "secret.yaml").write_text("type: object")
    text = (
        HEAD
        + f'paths:\n  /a:\n    get: {ANSWER}\ncomponents: {{schemas: {{A: {{$ref: "file://{tmp_path}/secret.yaml"}}}}}}'
    )
    described = describe(text)
    assert described.document["components"]["schemas"]["A"] == {}
    assert described.usable


def test_aliases_cannot_blow_a_small_document_up() -> None:
    lines = ["a0: &a0 [x, x, x, x, x, x, x, x, x, x]"]
    lines += [f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 10)}]" for n in range(1, 9)]
    problem = describe("\n".join(lines)).problems[0]
    assert "more than" in problem.message


def test_dates_and_yes_stay_text() -> None:
    described = describe(HEAD + f"paths:\n  /a:\n    get: {ANSWER}\nx-a: 2026-11-23\nx-b: yes\nx-c: 1e3")
    assert (described.document["x-a"], described.document["x-b"], described.document["x-c"]) == (
        "2026-11-23",
        "yes",
        1000.0,
    )


FLEET = {
    "components": {
        "schemas": {
            "Vessel": {
                "type": "object",
                "required": ["name"],
                "properties": {
                    "name": {"type": "string", "minLength": 2},
                    "sister": {"$ref": "#/components/schemas/Vessel"},
                    "berths": {"type": "array", "items": {"$ref": "#/components/schemas/Berth"}},
                },
            },
            "Berth": {"oneOf": [{"type": "string"}, {"type": "integer"}]},
        }
    }
}


def test_a_schema_that_holds_itself_is_named_and_not_opened_again() -> None:
    view = view_schema(FLEET, {"$ref": "#/components/schemas/Vessel"})
    name, sister, berths = (inner for _, _, inner in view.properties)
    assert view.words == "Vessel"
    assert name.rules == ("at least 2 characters",)
    assert sister.circular
    assert berths.words.startswith("list of")


def test_an_example_is_made_where_none_is_given_and_ends_in_circles() -> None:
    made = example_of(FLEET, {"$ref": "#/components/schemas/Vessel"})
    assert made["name"] == "text"
    assert made["berths"] == ["text"]
