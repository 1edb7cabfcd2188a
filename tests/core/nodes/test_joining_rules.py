"""What a node may be called, its labels, and the steps of a quick start as they are seen."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.nodes.joining import STEPS, CannotJoin, labels_of, name_like, node_name, steps_seen


@pytest.mark.parametrize("name", ["pier-1", "n", "a" * 63])
def test_a_name_is_taken_as_it_was_written(name: str) -> None:
    assert node_name(name) == name


@pytest.mark.parametrize("name", ["", "Pier", "1st", "pier 1", "a" * 64, "pier\n", "../pier"])
def test_what_cannot_be_a_name_is_refused_with_what_can(name: str) -> None:
    with pytest.raises(CannotJoin, match=r"lower-case letters, digits and hyphens"):
        node_name(name)


@given(st.text())
def test_a_name_made_of_a_machines_is_always_one(host: str) -> None:
    assert node_name(name_like(host))


def test_labels_are_read_however_they_are_separated_and_kept_in_order() -> None:
    assert labels_of(" site=harbour,rack=2\n rack=2") == ["rack=2", "site=harbour"]
    assert labels_of("") == []


@pytest.mark.parametrize(
    ("written", "said"),
    [
        ("harbour", "'harbour' is no label"),
        ("Site=harbour", "'Site=harbour' is no label"),
        ("site=", "'site=' is no label"),
        ("site=a\u202eb", "is no label"),
        ("site=a site=b", "The label site is given twice"),
        (" ".join(f"l{n}=1" for n in range(13)), "13 labels are too many"),
    ],
)
def test_a_label_that_cannot_be_is_named(written: str, said: str) -> None:
    with pytest.raises(ValueError, match=said):
        labels_of(written)


def states(told: list[dict[str, object]], running_at: float = 0, rollout: int = 0) -> list[str]:
    return [one.state for one in steps_seen(told, running_at, rollout, running_at)]


def test_the_steps_of_a_quick_start_are_seen_as_they_happen() -> None:
    assert states([]) == ["next", "later", "later", "later", "later", "later"]
    assert states([{"step": "fetched", "at": 1.0}])[:3] == ["done", "next", "later"]
    whole = [{"step": step, "at": 1.0} for step in ("fetched", "prepared", "installed", "joined")]
    assert states(whole, 2.0)[3:] == ["done", "done", "next"]
    assert states(whole, 2.0, 7) == ["done"] * len(STEPS)
    assert steps_seen(whole, 2.0, 7, 3.0)[-1].words == "It took up the rollout 7"


def test_what_went_wrong_stands_with_its_step_until_it_went_right() -> None:
    wrong = {"step": "installed", "at": 2.0, "problem": "no index is reached"}
    seen = steps_seen([{"step": "fetched", "at": 1.0}, {"step": "prepared", "at": 1.5}, wrong], 0, 0, 0)
    assert [(one.state, one.problem) for one in seen[1:4]] == [
        ("done", ""), ("failed", "no index is reached"), ("later", "")
    ]  # fmt: skip
    assert states([wrong, {"step": "installed", "at": 3.0}])[2] == "done"


def test_a_node_set_up_by_hand_tells_of_no_step_and_none_is_left_open() -> None:
    assert states([{"step": "joined", "at": 1.0}])[:4] == ["done"] * 4
