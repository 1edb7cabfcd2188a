"""Placements: what replaces what, and that drawing, sentences and gateway see the same."""

from typing import Any

import pytest

from helpers import configuration
from tamarack.core.configuration.difference import difference
from tamarack.core.configuration.effective import held, in_force, is_closed, is_open
from tamarack.core.configuration.explain import explain
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.review import risks
from tamarack.core.configuration.snapshot import Snapshot, SnapshotTarget, compile_snapshot
from tamarack.core.policies import KINDS

STEADY = {"kind": "rate-limit", "name": "steady", "windows": ["20 per second"]}


def rows(made: Configuration, call: str | None = None) -> list[Any]:
    api = made.apis[0]
    version = api.versions[0]
    return held(made, api, version, version.operation(call) if call else None)


def test_an_inner_policy_replaces_the_outer_one_of_its_name_and_no_other() -> None:
    tighter = STEADY | {"windows": ["2 per second"]}
    made = configuration(
        everywhere=[STEADY, STEADY | {"name": "cap"}],
        version={"policies": [STEADY | {"windows": ["9 per second"]}],
                 "operations": [{"call": "get /sailings", "policies": [tighter]}]},
    )  # fmt: skip
    force = [(row.policy.name, row.placement.level) for row in in_force(rows(made, "get /sailings"))]
    assert force == [("cap", "everywhere"), ("steady", "operation")]


def test_ways_to_identify_are_replaced_as_a_whole() -> None:
    made = configuration(everywhere=[{"kind": "api-key", "name": "other", "header": "x-other"}])
    names = [row.policy.name for row in in_force(rows(made, "get /sailings"))]
    assert names == ["api-key"]
    assert is_open(rows(made, "get /ports"))
    assert not is_open(rows(made, "get /sailings"))


def test_without_a_way_to_identify_an_operation_is_closed_not_open() -> None:
    made = configuration(version={"policies": []})
    assert is_closed(rows(made, "get /sailings"))
    assert not is_open(rows(made, "get /sailings"))
    assert any("closed" in risk.text for risk in risks(made))
    api, version = made.apis[0], made.apis[0].versions[0]
    assert any("Nobody may call" in one.text for one in explain(made, api, version, version.operations[0]))


def test_the_sentences_say_what_the_snapshot_runs() -> None:
    made = configuration(everywhere=[STEADY])
    api, version = made.apis[0], made.apis[0].versions[0]
    for operation, compiled in zip(
        version.operations, compile_snapshot(made, "production").versions[0].operations, strict=True
    ):
        said = [one.text for one in explain(made, api, version, operation)]
        for placed in compiled.policies:
            kind = KINDS[placed.policy.kind]
            assert kind.sentence(placed.policy) in said


def test_a_snapshot_is_json_that_reads_back_as_itself() -> None:
    made = compile_snapshot(configuration(everywhere=[STEADY]), "production")
    assert Snapshot.model_validate(made.model_dump(mode="json")) == made


def test_a_target_of_another_environment_and_a_draft_version_stay_out_of_a_snapshot() -> None:
    targets = [
        {"address": "http://127.0.0.1:1", "environments": ["test"]},
        {"address": "http://127.0.0.1:2", "environments": ["production"]},
    ]
    made = configuration(backends=[{"name": "timetable", "targets": targets}], version={"state": "draft"})
    compiled = compile_snapshot(made, "production")
    assert compiled.backends[0].targets == (SnapshotTarget(address="http://127.0.0.1:2"),)
    assert compiled.versions == ()


def test_review_warns_of_an_open_operation_and_of_a_limit_that_cannot_be_reached() -> None:
    windows = ["10 per second", "600 per minute"]
    made = configuration(everywhere=[{"kind": "rate-limit", "name": "cap", "windows": windows}])
    said = " ".join(risk.text for risk in risks(made))
    assert "get /ports is open to anyone" in said
    assert "can never reach 600 per minute" in said
    reachable = configuration(
        everywhere=[{"kind": "rate-limit", "name": "cap", "windows": ["10 per second", "599 per minute"]}]
    )
    assert "‘cap’ can never reach" not in " ".join(risk.text for risk in risks(reachable))


@pytest.mark.parametrize(
    ("after", "said"),
    [
        ({"everywhere": [STEADY]}, "added Everywhere: Rate limit ‘steady’: 20 / s"),
        ({"version": {"base_path": "/s"}}, "changed Sailings 2: base path from /sailings/v2 to /s"),
        ({"version": {"operations": [{"call": "get /sailings"}]}}, "removed Sailings 2, get /ports: is no longer an operation"),
        ({"version": {"policies": []}}, "removed Sailings 2: API key: x-skerry-key or ?key="),
        ({"apis": []}, "removed Sailings: is removed; its calls will be answered 404"),
        ({"products": []}, "removed product Passage: is removed; its subscriptions no longer cover any API"),
    ],
)  # fmt: skip
def test_a_difference_is_said_in_words(after: dict[str, Any], said: str) -> None:
    changes = difference(configuration(), configuration(**after))
    assert said in [f"{change.what} {change.subject}: {change.text}" for change in changes]


def test_there_is_no_difference_from_itself() -> None:
    assert difference(configuration(), configuration()) == []
