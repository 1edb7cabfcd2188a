"""What travels between a node and the feed: it comes back as it was, is bounded, and holds nothing of other nodes."""

from typing import Any

import orjson
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from tamarack.core.identity.material import Material
from tamarack.core.identity.sealing import NotSealedHere, seal, unseal
from tamarack.core.nodes.batches import BatchRefused, batch_name, check_rows
from tamarack.core.nodes.feed import FeedEntry, News, Report, news_as_data, read_news
from tamarack.core.nodes.for_node import for_node
from tamarack.core.nodes.keys import asking_key, sealing_key
from tamarack.core.nodes.standing import STANDINGS, seen_as
from tamarack.core.traffic.record import Record

bodies = st.none() | st.dictionaries(st.text(max_size=5), st.integers(0, 9) | st.text(max_size=5), max_size=3)
entries = st.builds(FeedEntry, st.integers(1, 2**31), st.text(min_size=1, max_size=9), st.text(max_size=9), bodies)
rollouts = st.none() | st.tuples(
    st.integers(1, 2**31), st.dictionaries(st.text(max_size=5), st.integers(0, 2**53), max_size=2)
)


@given(
    st.builds(News, st.integers(0, 2**31), st.lists(entries), rollouts, st.sampled_from(list(STANDINGS)), st.booleans())
)
def test_news_are_read_as_they_were_written(news: News) -> None:
    assert read_news(orjson.loads(orjson.dumps(news_as_data(news)))) == news


@pytest.mark.parametrize("said", [None, [], {}, {"newest": 1, "entries": [[1]], "rollout": None, "standing": "serving"},
                                  {"newest": 1, "entries": [], "rollout": None, "standing": "asleep"}])  # fmt: skip
def test_what_is_no_news_is_said_to_be_none(said: Any) -> None:
    with pytest.raises(ValueError):
        read_news(said)


def test_a_report_is_bounded_and_its_texts_are_lines() -> None:
    with pytest.raises(ValidationError):
        Report(problem="x" * 501)
    with pytest.raises(ValidationError):
        Report(connections=-1)
    target = {"backend": "b", "target": "t", "state": "open", "why": "a\x00"}
    said = Report.model_validate(
        {"problem": "a\x00b\nc", "targets": [target], "events": [target | {"at": 1}]}
    ).cleaned()
    assert (said.problem, said.targets[0].why, said.events[0].why) == ("a\ufffdb\ufffdc", "a\ufffd", "a\ufffd")


KEY, OWN = bytes(32), bytes(range(32))


def reseal(sealed: str, about: str) -> str:
    return seal(unseal(sealed, KEY, about), OWN, bytes(12), about)


def test_a_node_is_told_what_its_own_environment_needs() -> None:
    here = FeedEntry(1, "credential", "c", {"environment": "test", "digest": "00"})
    assert for_node(here, "test", reseal) == here
    assert for_node(here, "production", reseal) == FeedEntry(1, "credential", "c", None)
    assert for_node(FeedEntry(2, "tracing", "test", {"share": 1}), "production", reseal).body is None
    everywhere = FeedEntry(3, "application", "a", {"name": "Planner"})
    assert for_node(everywhere, "production", reseal) == everywhere


def test_a_secret_comes_sealed_for_the_node_alone_and_without_other_environments_values() -> None:
    def sealed(value: bytes) -> list[dict[str, Any]]:
        return [{"sealed": seal(value, KEY, bytes(12), "secret token"), "until": 0}]

    entry = FeedEntry(1, "secret", "token", {"values": {"": sealed(b"any"), "production": sealed(b"live")}})
    for environment, value in (("production", b"live"), ("test", b"any")):
        told = for_node(entry, environment, reseal)
        assert told.body is not None
        assert set(told.body["values"]) == {environment}
        held = Material(environment, lambda text, about: unseal(text, OWN, about))
        held.apply("secret", "token", told.body)
        assert held.secret("token").value == value
        with pytest.raises(NotSealedHere):
            Material(environment, lambda text, about: unseal(text, KEY, about)).apply("secret", "token", told.body)


def test_each_node_has_keys_of_its_own() -> None:
    made = {make(KEY, name) for make in (asking_key, sealing_key) for name in ("pier-1", "pier-2")}
    assert len(made | {KEY}) == 5


def row(environment: str = "test", node: str = "pier-1") -> list[Any]:
    return list(Record(*([""] * 24))._replace(environment=environment, node=node))


@pytest.mark.parametrize(
    "written", ["../x.calls", "abc.calls", "0123456789ab-00000001.sh", "", "0123456789ab-00000001"]
)
def test_what_is_no_name_of_a_batch_is_refused(written: str) -> None:
    with pytest.raises(BatchRefused, match="is not the name of a batch"):
        batch_name(written)
    assert batch_name("0123456789ab-00000001.calls") == ("0123456789ab-00000001", "calls")


@pytest.mark.parametrize(
    ("ending", "rows", "said"),
    [
        ("calls", [row(), row(environment="production")], "row 2 is of pier-1 in production; this node is pier-1 in"),
        ("calls", [row(node="pier-2")], "row 1 is of pier-2 in test"),
        ("calls", [["short"]], "row 1 is none of calls"),
        ("calls", {"a": 1}, "not a list of rows"),
        ("quotas", [["production", "q", "k", 0, 1, 1, 1]], "in production"),
        ("traces", [{"environment": "production"}], "in production"),
        ("prompts", [["test"]], "row 1 is none of prompts"),
    ],
)
def test_a_batch_that_tells_of_another_is_refused_with_the_row(ending: str, rows: Any, said: str) -> None:
    with pytest.raises(BatchRefused, match=said):
        check_rows(ending, rows, "test", "pier-1")


def test_batches_of_the_nodes_own_are_taken() -> None:
    check_rows("calls", [row(), row()], "test", "pier-1")
    check_rows("misfits", [["test", "sailings"]], "test", "pier-1")
    check_rows("traces", [{"environment": "test", "call": "c"}], "test", "pier-1")


@pytest.mark.parametrize(
    ("standing", "asked", "away", "problem", "behind", "seen"),
    [
        ("serving", "serving", False, "", False, ("serving", "good")),
        ("serving", "serving", False, "", True, ("behind", "warn")),
        ("serving", "draining", False, "", False, ("serving, asked to be draining", "warn")),
        ("stopped", "stopped", False, "", True, ("stopped", "warn")),
        ("serving", "serving", False, "rollout 3 cannot be read", False, ("rollout 3 cannot be read", "bad")),
        ("serving", "serving", True, "rollout 3 cannot be read", False, ("away", "bad")),
    ],
)
def test_how_a_node_is_seen(
    standing: str, asked: str, away: bool, problem: str, behind: bool, seen: tuple[str, str]
) -> None:
    assert seen_as(standing, asked, away, problem, behind) == seen
