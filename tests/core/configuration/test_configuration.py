"""Configuration: what fits together, and errors that name the value and the mend."""

from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import pytest
from pydantic import ValidationError

from certificates import Authority
from helpers import configuration
from tamarack.core.configuration.backend import Backend
from tamarack.core.configuration.difference import difference
from tamarack.core.configuration.model import Configuration, check, check_in
from tamarack.core.types import problems_of


@pytest.mark.parametrize(
    ("changes", "field", "words"),
    [
        ({"backends": [{"name": "timetable", "targets": [{"address": "ftp://x"}]}]}, "address", "http://"),
        ({"backends": [{"name": "timetable", "targets": [{"address": "http://u:p@x"}]}]}, "address", "secret store"),
        ({"backends": [{"name": "timetable", "targets": [{"address": "http://x:99999"}]}]}, "address", "port"),
        (
            {"backends": [{"name": "timetable", "targets": [{"address": "http://x", "secret": "a"}]}]},
            "0",
            "nothing says how the gateway signs in",
        ),
        (
            {
                "backends": [
                    {
                        "name": "timetable",
                        "sign_in": "bearer",
                        "targets": [{"address": "http://x", "secret": "a"}, {"address": "http://y"}],
                    }
                ]
            },
            "0",
            "or one for each target",
        ),
        ({"backends": [{"name": "Time", "targets": [{"address": "http://x"}]}]}, "name", "lower-case"),
        ({"version": {"base_path": "sailings"}}, "base_path", "starts with /"),
        ({"version": {"base_path": "/a/../b"}}, "base_path", "cannot stand"),
        ({"version": {"operations": [{"call": "fetch /x"}]}}, "call", "method"),
        ({"version": {"operations": [{"call": "get /{a}/{a}"}]}}, "call", "twice"),
        ({"version": {"policies": [{"kind": "api-key", "header": "", "query": ""}]}}, "api-key", "name a header"),
        ({"version": {"policies": [{"kind": "api-key", "header": "host"}]}}, "header", "meaning of its own"),
        ({"version": {"policies": [{"kind": "rate-limit", "windows": []}]}}, "windows", "at least one"),
        ({"version": {"policies": [{"kind": "body-size", "at_most": "lots"}]}}, "at_most", "2 MB"),
        ({"version": {"policies": [{"kind": "moat"}]}}, "0", "'moat' is not one of"),
        ({"version": {"colour": "green"}}, "colour", "not a field here"),
    ],
)
def test_a_field_that_cannot_hold_is_named_with_the_mend(changes: dict[str, Any], field: str, words: str) -> None:
    with pytest.raises(ValidationError) as caught:
        configuration(**changes)
    problems = problems_of(caught.value)
    assert any(str(problem.path[-1]) == field and words in problem.message for problem in problems), problems


VERSION = {"version": "3", "base_path": "/sailings/v2", "backend": "timetable"}


@pytest.mark.parametrize(
    ("changes", "path", "words"),
    [
        ({"version": {"backend": "nowhere"}}, "apis.0.versions.0.backend", "no backend 'nowhere' (known: timetable)"),
        ({"everywhere": [{"kind": "open"}]}, "everywhere.0.kind", "cannot stand everywhere"),
        ({"products": [{"name": "p", "title": "P", "apis": ["x"]}]}, "products.0.apis.0", "no API 'x'"),
        (
            {"version": {"operations": [{"call": "get /{a}"}, {"call": "get /{b}"}]}},
            "apis.0.versions.0.operations.1.call",
            "match the same calls",
        ),
        (
            {"version": {"policies": [{"kind": "api-key"}, {"kind": "api-key"}]}},
            "apis.0.versions.0.policies.0.name",
            "two policies here are named",
        ),
    ],
)
def test_what_does_not_fit_together_is_found_with_its_place(changes: dict[str, Any], path: str, words: str) -> None:
    problems = check(configuration(**changes))
    assert any(problem.field == path and words in problem.message for problem in problems), problems


def test_a_base_path_is_taken_once() -> None:
    made = configuration()
    doubled = made.apis[0].model_dump() | {"name": "other", "title": "Other"}
    whole = Configuration.model_validate(made.model_dump() | {"apis": [made.apis[0].model_dump(), doubled]})
    assert [p.message for p in check(whole)] == ["/sailings/v2 is already the base path of Sailings 2"]


def test_a_backend_without_a_target_for_an_environment_keeps_it_from_being_rolled_out_there() -> None:
    targets = [{"address": "http://127.0.0.1:1", "environments": ["test"]}]
    made = configuration(backends=[{"name": "timetable", "targets": targets}])
    assert check_in(made, "test") == []
    assert "no target for production" in check_in(made, "production")[0].message


def test_what_is_written_without_defaults_reads_back_the_same() -> None:
    made = configuration(everywhere=[{"kind": "rate-limit", "windows": ["5 per second"]}])
    assert Configuration.model_validate(made.model_dump(mode="json", exclude_defaults=True)) == made


with TemporaryDirectory() as _FOLDER:
    AUTHORITY = Authority(Path(_FOLDER)).pem
BACKEND = {"name": "timetable", "targets": [{"address": "http://127.0.0.1:9"}]}
RESERVED = {"address": "http://127.0.0.1:9", "capacity": 9000}
OTHERWISE: dict[str, dict[str, Any]] = {
    "summary": {"summary": "The timetable"}, "connect_timeout_ms": {"connect_timeout_ms": 90},
    "read_timeout_ms": {"read_timeout_ms": 90}, "first_timeout_ms": {"first_timeout_ms": 90},
    "whole_timeout_ms": {"whole_timeout_ms": 90}, "verify_tls": {"verify_tls": False},
    "sharing": {"sharing": "to the fewest calls under way"}, "same_for": {"same_for": "the same caller"},
    "same_header": {"same_for": "the same value of a header", "same_header": "x-ship"},
    "sign_in": {"sign_in": "bearer", "sign_in_secret": "a"}, "sign_in_secret": {"sign_in": "bearer", "sign_in_secret": "a"},
    "sign_in_name": {"sign_in": "header", "sign_in_secret": "a", "sign_in_name": "x-a"},
    "breaker": {"breaker": {"open_s": 9}}, "health": {"health": {"path": "/health"}},
    "turned_away": {"turned_away": "ask the next target"}, "models": {"models": ["notices = quay-notices-1"]},
    "kept_for": {"targets": [RESERVED], "kept_for": ["passage/skiff"]},
    "kept_from": {"kept_from": 60},
    "authorities": {"authorities": AUTHORITY},
    "certificate_secret": {"targets": [{"address": "https://127.0.0.1:9"}], "certificate_secret": "a"},
    "targets": {"targets": [{"address": "http://127.0.0.1:9", "weight": 3, "priority": 2, "environments": ["test"],
                              "secret": "own"}], "sign_in": "bearer", "sign_in_secret": "a"},
}  # fmt: skip


@pytest.mark.parametrize("field", [name for name in Backend.model_fields if name != "name"])
def test_every_field_of_a_backend_that_changes_is_said_in_the_review(field: str) -> None:
    before = configuration(backends=[BACKEND])
    after = configuration(backends=[BACKEND | OTHERWISE[field]])
    for old, new in ((before, after), (after, before)):
        said = difference(old, new)
        assert said
        assert all(change.item == "timetable" for change in said)
    words = " ".join(change.text for change in difference(before, after))
    if field == "targets":
        assert words.endswith(
            "now serves test and has the weight 3 and has the priority 2 and is signed in to with own"
        )
    if field == "breaker":
        further = configuration(backends=[BACKEND | {"breaker": {"open_s": 8}}])
        assert [change.text for change in difference(after, further)] == ["its breaker, open s from 9 to 8"]


def test_an_answer_that_is_typed_is_a_change_of_its_operation() -> None:
    typed = {"status": 404, "media": "application/json", "name": "gone", "body": "{}"}
    before = configuration(version={"operations": [{"call": "get /a"}]})
    after = configuration(version={"operations": [{"call": "get /a", "answers": [typed]}]})
    assert [(c.what, c.text) for c in difference(before, after)] == [
        ("added", "typed answer 404 ‘gone’, application/json")
    ]
