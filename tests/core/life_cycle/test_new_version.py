"""A new version as a copy: what it takes over, what it leaves, and the names that are suggested."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from core.life_cycle.test_ending import api_of, whole
from tamarack.core.configuration.model import Api, check
from tamarack.core.life_cycle.new_version import copy_of, next_base_path, next_label

END = {"state": "deprecated", "deprecated_on": "2026-11-05", "sunset_on": "2027-02-28", "successor": "2"}


def test_a_copy_is_a_draft_with_all_but_the_end_of_what_was_copied() -> None:
    api = api_of(END, {})
    made = copy_of(api.versions[0], "3", "/sailings/v3", "timetable", on_mocks=False)
    assert (made.state, made.deprecated_on, made.sunset_on, made.successor) == ("draft", None, None, "")
    assert (made.operations, made.policies, made.document) == (
        api.versions[0].operations, api.versions[0].policies, api.versions[0].document)  # fmt: skip
    assert check(whole(api.model_copy(update={"versions": (*api.versions, made)}))) == []


def test_on_mocks_it_needs_no_backend_and_has_one_mock() -> None:
    first = copy_of(api_of({}).versions[0], "2", "/sailings/v2", "", on_mocks=True)
    again = copy_of(first, "3", "/sailings/v3", "", on_mocks=True)
    for made in (first, again):
        assert made.backend == ""
        assert [policy.kind for policy in made.policies] == ["open", "mock"]


@pytest.mark.parametrize(("policies", "answers"), [(True, False), (False, True), (False, False)])
def test_policies_and_answers_may_be_left_behind(policies: bool, answers: bool) -> None:
    operation = {"call": "get /sailings", "policies": [{"kind": "open"}], "answers": [{"status": 200, "body": "{}"}]}
    version = api_of({"operations": [operation]}).versions[0]
    made = copy_of(version, "3", "/sailings/v3", "timetable", False, policies, answers)
    assert (bool(made.policies), bool(made.operations[0].policies)) == (policies, policies)
    assert bool(made.operations[0].answers) is answers
    assert version.operations[0].answers != ()


@pytest.mark.parametrize(("label", "path"), [("", "/x"), ("a b", "/x"), ("3", "x"), ("3", "/a/../b")])
def test_names_that_cannot_be_are_refused(label: str, path: str) -> None:
    with pytest.raises(ValidationError):
        copy_of(api_of({}).versions[0], label, path, "timetable", on_mocks=False)


@pytest.mark.parametrize(
    ("label", "path", "following"),
    [
        ("2", "/sailings/v2", "/sailings/v9"),
        ("2", "/sailings/2", "/sailings/9"),
        ("2", "/sailings", ""),
        ("2", "/sailings/v12", ""),
        ("1.2", "/sailings/v1.2", "/sailings/v9"),
        ("2", "/v2/sailings", ""),
    ],
)
def test_the_base_path_is_suggested_where_the_label_stands_at_its_end(label: str, path: str, following: str) -> None:
    api = api_of({"version": label, "base_path": path})
    assert next_base_path(api, api.versions[0], "9") == following
    named = Api.model_validate(api.model_dump() | {"naming": {"by": "header"}})
    assert next_base_path(named, named.versions[0], "9") == path


@given(labels=st.lists(st.integers(0, 999_999), min_size=1, max_size=6, unique=True))
def test_the_next_label_is_none_that_is_there(labels: list[int]) -> None:
    api = api_of(*({"version": str(label)} for label in labels))
    assert int(next_label(api)) == max(labels) + 1
    assert next_label(api_of({"version": "2026-11"})) == ""
