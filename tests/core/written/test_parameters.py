"""Parameters of written kinds: each type with its rule, default and words; placed, they are checked fields of a form."""

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from tamarack.core.policies.written import model_of
from tamarack.core.types import problems_of
from tamarack.core.written.kind import WrittenKind
from tamarack.core.written.parameters import Parameter, checker, seconds_of


def made(**fields: Any) -> Parameter:
    return Parameter.model_validate({"name": "p", "required": True} | fields)


@pytest.mark.parametrize(
    ("fields", "typed", "kept"),
    [
        ({"type": "text", "rule": "[A-Z]{3}"}, " HBR ", "HBR"),
        ({"type": "whole number", "rule": "1..50"}, "7", 7),
        ({"type": "number", "rule": "0.5.."}, "7.25", 7.25),
        ({"type": "choice", "rule": "near, far"}, "far", "far"),
        ({"type": "list", "rule": "[a-z]+"}, "a\n\n b ", ("a", "b")),
        ({"type": "duration", "rule": "1 s..5 min"}, "90 s", "90 s"),
        ({"type": "JSON"}, ' {"a": [1]} ', '{"a": [1]}'),
        ({"type": "JSON"}, {"a": 1}, '{"a": 1}'),
        ({"type": "yes or no"}, "yes", True),
    ],
)
def test_a_value_is_read_as_its_type_has_it(fields: dict[str, Any], typed: Any, kept: Any) -> None:
    assert checker(made(**fields))(typed) == kept


@pytest.mark.parametrize(
    ("fields", "typed", "words"),
    [
        ({"type": "text", "rule": "[A-Z]{3}"}, "HBR2", "'HBR2' does not match [A-Z]{3}"),
        ({"type": "text"}, "", "is required"),
        ({"type": "text"}, "a\nb", "holds a line end"),
        ({"type": "whole number"}, "7.5", "'7.5' is not a whole number"),
        ({"type": "whole number", "rule": "1..50"}, "51", "51 is not within 1..50"),
        ({"type": "number"}, "nan", "is too large a number"),
        ({"type": "number"}, True, "is not a number"),
        ({"type": "choice", "rule": "near, far"}, "off", "is not one of near and far"),
        ({"type": "list", "rule": "[a-z]+"}, "a\nB", "'B' does not match"),
        ({"type": "list"}, ["x"] * 101, "at most 100 fit"),
        ({"type": "duration"}, "soon", "is not a duration"),
        ({"type": "duration", "rule": "1 s..5 min"}, "1 h", "is not within"),
        ({"type": "JSON"}, "{a}", "is not JSON"),
        ({"type": "JSON"}, "[" * 5_000, "is not JSON"),
    ],
)
def test_a_wrong_value_is_refused_in_words(fields: dict[str, Any], typed: Any, words: str) -> None:
    with pytest.raises(ValueError) as refused:
        checker(made(**fields))(typed)
    assert words in str(refused.value)


@pytest.mark.parametrize(
    ("fields", "words"),
    [
        ({"name": "kind"}, "is a field of every policy"),
        ({"name": "With-Hyphen"}, "name"),
        ({"type": "choice", "rule": "one"}, "at least two choices"),
        ({"type": "whole number", "rule": "1-50"}, "is not a range"),
        ({"type": "number", "rule": "5..1"}, "ends before it begins"),
        ({"type": "text", "rule": "(?=x)"}, "is not a pattern"),
        ({"type": "yes or no", "rule": "x"}, "has no rule"),
        ({"type": "whole number", "rule": "1..5", "default": "9"}, "the default of p: 9 is not within 1..5"),
        ({"type": "secret", "default": "x"}, "leave its default empty"),
        ({"type": "number", "required": False}, "neither required nor has a default"),
    ],
)
def test_a_parameter_that_cannot_be_is_refused_when_the_kind_is_saved(fields: dict[str, Any], words: str) -> None:
    with pytest.raises(ValidationError) as refused:
        made(**fields)
    assert words in str(refused.value)


@given(st.floats(0.001, 9_999), st.sampled_from(["ms", "s", "min", "h", "d"]))
def test_durations_come_to_seconds(number: float, unit: str) -> None:
    size = {"ms": 0.001, "s": 1, "min": 60, "h": 3_600, "d": 86_400}[unit]
    written = f"{number:.4f}"
    assert seconds_of(f"{written} {unit}") == pytest.approx(float(written) * size)


KIND = WrittenKind.model_validate(
    {
        "name": "long-cars",
        "title": "Long cars",
        "parameters": [
            {"name": "most", "type": "whole number", "rule": "1..50", "default": "6", "help": "In metres"},
            {"name": "port", "required": True, "rule": "[A-Z]{3}"},
            {"name": "strict", "type": "yes or no", "default": "yes"},
        ],
        "request": "when params.strict\n  set header X-Most = string(params.most)",
    }
)


def test_placed_it_is_a_form_with_the_parameters_as_fields() -> None:
    fields = model_of(KIND).model_fields
    assert [name for name in fields if name not in ("kind", "off")] == ["name", "most", "port", "strict"]
    assert (fields["most"].title, fields["most"].description) == ("Most", "In metres")
    policy = model_of(KIND).model_validate({"kind": KIND.kind, "port": "HBR", "most": ""})
    assert (policy.name, policy.most, policy.strict) == ("long-cars", 6, True)  # type: ignore[attr-defined]


def test_each_wrong_value_is_told_beside_its_field() -> None:
    with pytest.raises(ValidationError) as refused:
        model_of(KIND).model_validate({"kind": KIND.kind, "port": "hbr", "most": "99", "odd": 1})
    told = {problem.field: problem.message for problem in problems_of(refused.value)}
    assert set(told) == {"port", "most", "odd"} and "does not match" in told["port"]
