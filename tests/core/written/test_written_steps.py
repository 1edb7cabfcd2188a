"""Steps as text: every action, what is indented below a condition, and mistakes with their line and column."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.written.steps import (
    EditField,
    EditJson,
    GiveAnswer,
    Let,
    Refuse,
    SetStatus,
    Side,
    StepProblem,
    Stop,
    read_steps,
    variables_in,
)

PARAMETERS = {"most": "whole number", "key": "secret"}
TEXT = """
# cars that are too long
let cars = path $.cars[?@.length > 6]
let first = pointer /cars/0/id
when size(vars.cars) > params.most
  set header X-Cars = string(size(vars.cars))
  set /long: true
  refuse 422: {{ vars.first }} is too long
  | for this sailing.

set query lang: en
when is_secret(params.key, header["x-key"])
  answer 200 text/plain: hello
  | again
stop
"""


def read(text: str, side: Side = "request") -> list[tuple[int, str, list[object]]]:
    steps = read_steps(text, side, PARAMETERS, variables_in([text]))
    return [(one.line, one.when.text if one.when is not None else "", [n.action for n in one.actions]) for one in steps]


def test_each_line_is_read_with_its_number_and_what_stands_below_a_condition_belongs_to_it() -> None:
    steps = read(TEXT)
    assert [(line, when) for line, when, _ in steps] == [
        (3, ""), (4, ""), (5, "size(vars.cars) > params.most"), (11, ""),
        (12, 'is_secret(params.key, header["x-key"])'), (15, ""),
    ]  # fmt: skip
    kinds = [[type(action) for action in actions] for _, _, actions in steps]
    assert kinds == [[Let], [Let], [EditField, EditJson, Refuse], [EditField], [GiveAnswer], [Stop]]
    refused = steps[2][2][2]
    assert refused == Refuse(422, "{{ vars.first }} is too long for this sailing.")
    assert steps[4][2] == [GiveAnswer(200, "text/plain", "hello\nagain")]


def test_answers_and_errors_have_a_status_and_fields() -> None:
    [(_, _, actions)] = read(
        'when answer.status == 500\n  set status 404\n  set header X-A = answer.header["x-b"]', "answer"
    )
    assert actions[0] == SetStatus(404) and isinstance(actions[1], EditField)
    assert read('when error.reason == "over-rate"\n  set /title: "{{ error.detail }}"', "error")


@pytest.mark.parametrize(
    ("text", "side", "said"),
    [
        ("set header X: a\nwhen nope == 1\n  stop", "request", "line 2, column 6: ‘nope’ is not known here"),
        ("when true\n  let x = 1 +", "request", "line 2, column 14: cannot be read: it ends too early"),
        ("when true\nstop", "request", "line 1: nothing is done here"),
        ("when true\n  when true\n    stop", "request", "line 2: conditions do not stand within others"),
        ("fly away", "request", "line 1: 'fly away' is no action"),
        ("set header Host: x", "request", "line 1: 'host' has a meaning of its own in HTTP"),
        ("set header Authorization: x", "request", "carries a credential"),
        ("set header Content-Length = 3", "answer", "line 1: 'content-length' has a meaning"),
        ("set query a: b", "answer", "an answer has no query"),
        ("set status 404", "request", "a request has no status"),
        ("set status 204", "answer", "write ‘answer 204’"),
        ("set status 304", "error", "write ‘answer 304’"),
        ("refuse 200: fine", "request", "200 cannot be the status here"),
        ("refuse 403: no", "error", "the call is refused already"),
        ("answer 204: text", "request", "an answer 204 has no body"),
        ("answer 200: {{ nope }}", "request", "'nope' is not known of a call"),
        ("answer 200: {{ answer.status }}", "request", "'answer' is not known"),
        ("let x = pointer cars", "request", "line 1"),
        ("let x = path $..a..b", "request", "more than once"),
        ("set /a: nothing", "request", "is not JSON"),
        ("set a/b = 1", "request", "is no action"),
        ("let x = params.key", "request", "the secret ‘key’ stands only in conditions"),
        ("set header X: {{ params.key }}", "request", "the secret ‘key’ stands only in conditions"),
        ("set header X: {{ params['key'] }}", "request", "the secret ‘key’ stands only in conditions"),
        ("set header X = params.key", "request", "the secret ‘key’ stands only in conditions"),
        ("\n".join(["stop"] * 61), "request", "at most 60 steps"),
        ("stop\n" * 10_000, "request", "at most 20,000 fit"),
    ],
)  # fmt: skip
def test_a_mistake_is_told_with_its_place(text: str, side: Side, said: str) -> None:
    with pytest.raises(StepProblem) as wrong:
        read(text, side)
    assert said in str(wrong.value)


@given(st.text(max_size=200))
def test_any_text_is_steps_or_a_problem_with_its_line(text: str) -> None:
    try:
        read(text)
    except StepProblem as wrong:
        assert 1 <= wrong.line <= text.count("\n") + text.count("\r") + 1


LINES = st.sampled_from(["when true", "  stop", "stop", "  set header X-A: b", "let x = 1", "| more", "# no", "",
                         "  refuse 400: a", "when vars.x == 1", "remove /a", "    answer 200: {}"])  # fmt: skip


@given(st.lists(LINES, max_size=12))
def test_every_action_that_is_read_stands_on_its_line(lines: list[str]) -> None:
    text = "\n".join(["let x = 1", *lines])
    try:
        steps = read_steps(text, "request", {}, variables_in([text]))
    except StepProblem:
        return
    for step in steps:
        assert all(numbered.line >= step.line for numbered in step.actions)
        below = [text.split("\n")[numbered.line - 1] for numbered in step.actions]
        assert all(line.startswith(" ") for line in below) if step.when is not None else len(below) == 1
