"""A version with another document: what stays keeps its rules, what goes and what comes is named."""

from core.life_cycle.test_ending import api_of
from tamarack.core.configuration.model import Version
from tamarack.core.life_cycle.redescribed import redescribed

OPEN = {"kind": "open"}


def version() -> Version:
    operations = [
        {"call": "get /sailings", "summary": "All", "policies": [OPEN]},
        {"call": "get /sailings/{id}", "summary": "One", "answers": [{"status": 200, "body": "{}"}]},
        {"call": "delete /sailings/{id}"},
        {"call": "any /*", "summary": "Everything else"},
    ]
    return api_of({"operations": operations}).versions[0]


def test_operations_meet_by_method_and_path_whatever_parameters_are_called() -> None:
    before = ["get /sailings", "get /sailings/{id}", "delete /sailings/{id}"]
    made = redescribed(version(), "abc", before, [("get /sailings/{number}", ""), ("post /sailings", "New"),
                                                  ("get /sailings", "All of a day")])  # fmt: skip
    assert made.version.document == "abc"
    assert [(one.call, one.summary) for one in made.version.operations] == [
        ("get /sailings/{number}", "One"), ("post /sailings", "New"), ("get /sailings", "All of a day"),
        ("any /*", "Everything else"),
    ]  # fmt: skip
    assert made.version.operations[0].answers == version().operations[1].answers
    assert made.version.operations[2].policies == version().operations[0].policies
    assert [one.call for one in made.new] == ["post /sailings"]
    assert [one.call for one in made.gone] == ["delete /sailings/{id}"]
    assert made.gone_with_rules == ()


def test_what_goes_with_rules_of_its_own_is_told_apart() -> None:
    made = redescribed(version(), "abc", ["get /sailings", "delete /sailings/{id}"], [])
    assert [one.call for one in made.gone] == ["get /sailings", "delete /sailings/{id}"]
    assert [one.call for one in made.gone_with_rules] == ["get /sailings"]
    assert [one.call for one in made.version.operations] == ["get /sailings/{id}", "any /*"]
