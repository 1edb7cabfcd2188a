"""Programs: parts of any stage folded by one rule, and run by what answers their needs."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any, Literal

import pytest

from core.carried import Bed, carry
from core.protected import API_KEY, PATH, directory, material, protected
from tamarack.core.balancing.route import Route
from tamarack.core.caching.kept import Rules
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.forwarding import Passed
from tamarack.core.carrying.needs import Ask, Failed
from tamarack.core.carrying.parts import (
    RUNNERS,
    Answered,
    Answerer,
    Change,
    Check,
    NoRunner,
    Part,
    Reply,
    check_runner,
)
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.carrying.steps import NamedStep
from tamarack.core.http.target import target_at
from tamarack.core.limits.window import Window
from tamarack.core.policies import KINDS
from tamarack.core.policies.guard.body_size import BodySize
from tamarack.core.stages import Stage
from tamarack.core.told.trace import Trace

TARGET = target_at("http://127.0.0.1:9/base", 1000, 1000)
KEY = (b"x-skerry-key", b"tmk_good")


class Beside:
    """A configuration in which the policy `body-size` stands for whatever parts a test wants."""

    def __init__(self, *parts: Part, policies: Sequence[dict[str, Any]] = (API_KEY,), routes: bool = True) -> None:
        kinds = KINDS | {"body-size": replace(KINDS["body-size"], compile=lambda policy, around: list(parts))}
        made = protected(*policies, {"kind": "body-size", "at_most": "1 MB"})
        self.route = Route([TARGET])
        ways = {"timetable": self.route} if routes else None
        self.bed = Bed(made, directory(), material(), kinds=kinds, clock=iter(range(10**9)).__next__, routes=ways)
        self.asked: list[Ask] = []

    def carry(
        self,
        *pieces: bytes,
        status: int = 200,
        headers: Sequence[tuple[bytes, bytes]] = (),
        trace: Any = None,
        **call: Any,
    ) -> Any:
        def backend(ask: Ask, body: bytes) -> tuple[Answered, tuple[bytes, ...]]:
            self.asked.append(ask)
            whole = b"".join(pieces) if len(pieces) < 2 else None
            return Answered(status, list(headers), whole), () if whole is not None else pieces

        self.call = self.bed.call("POST", PATH, headers=[KEY], **call)
        self.call.trace = trace
        return carry(self.call, backend=backend)


def size(limit: int = 10) -> BodySize:
    return BodySize(at_most=limit)


@pytest.mark.parametrize("kind", RUNNERS)
def test_a_part_in_a_stage_that_does_not_run_it_is_an_error_and_never_without_effect(kind: type[Part]) -> None:
    made: dict[str, Any] = {
        "run": lambda call: None, "identify": lambda call: None, "take_off": lambda call: None, "key": lambda call: "",
        "calls": 2, "write": lambda taken: b"", "request": lambda call: None, "answer": lambda call, *rest: None,
        "begin": lambda call, status, headers: None, "make": lambda call, answer: None, "policy": "x", "identity": "{}", "rules": Rules(), "key_parts": (),
        "headers": (), "query": lambda query: query, "at_most": 1, "statuses": frozenset(), "share": 0.1, "by_id": {}, "only": True, "look": lambda texts: None,
    }  # fmt: skip
    fields = {name: value for name, value in made.items() if name in kind.__dataclass_fields__}
    for stage in Stage:
        part = kind(stage=stage, **fields)
        if stage in RUNNERS[kind]:
            check_runner(part)
        else:
            with pytest.raises(NoRunner, match=f"not in {stage.label}"):
                check_runner(part)
            with pytest.raises(NoRunner):
                Beside(part)


def test_a_change_that_changes_nothing_of_what_passes_its_stage_is_an_error() -> None:
    with pytest.raises(NoRunner, match="Return"):
        check_runner(Change(stage=Stage.RETURN, request=lambda call: None))
    with pytest.raises(NoRunner, match="Shape"):
        check_runner(Change(stage=Stage.SHAPE, answer=lambda call, answer: None))


def test_the_stages_run_in_their_order_and_the_backend_is_asked_last() -> None:
    ran: list[str] = []

    def step(name: str) -> Callable[[Call], Refusal | None]:
        return lambda call: ran.append(name)  # type: ignore[func-returns-value]

    beside = Beside(
        Answerer(stage=Stage.ANSWER, answer=step("answer")),  # type: ignore[arg-type]
        Change(stage=Stage.RETURN, answer=lambda call, answer: ran.append("return")),
        Change(stage=Stage.SHAPE, request=step("shape")),
        Check(stage=Stage.PERMIT, run=step("permit")),
        Check(stage=Stage.GUARD, run=step("guard")),
        Check(stage=Stage.GUARD, run=step("first"), first=True),
    )
    assert isinstance(beside.carry(b"ok"), Passed)
    assert ran == ["first", "guard", "permit", "shape", "answer", "return"]
    assert beside.asked[0].head.startswith(b"POST /base/sailings HTTP/1.1\r\nhost: 127.0.0.1:9\r\n")
    assert beside.route.attempts == {("127.0.0.1:9", "answered"): 1}
    stages = [one.stage for one in beside.bed.operation("POST", PATH).named]
    assert stages == sorted(stages, key=list(Stage).index)


def test_the_first_answerer_that_answers_ends_the_call_and_no_backend_is_asked() -> None:
    def asking(call: Call) -> Any:
        yield from ()
        return Reply(203, b"x: y\r\n", b"made here")

    beside = Beside(
        Answerer(stage=Stage.ANSWER, answer=lambda call: None),
        Answerer(stage=Stage.ANSWER, answer=asking, asks=True),
        Answerer(stage=Stage.ANSWER, answer=lambda call: Refusal(REASONS["closed"])),
    )
    reply = beside.carry(b"never")
    assert isinstance(reply, Reply)
    assert (reply.status, reply.body, beside.asked) == (203, b"made here", [])


def test_a_part_gets_the_request_body_whole_where_it_is_short_enough_and_loses_nothing_where_it_is_not() -> None:
    seen: list[bytes | None] = []

    def upper(call: Call) -> Refusal | None:
        seen.append(call.body)
        if call.body is not None:
            call.body = call.body.upper() + b"!"
        return None

    beside = Beside(Change(stage=Stage.SHAPE, request=upper, request_body=5))
    beside.carry(b"", form=b"abc")
    beside.carry(b"", form=b"abcdef")
    assert seen == [b"abc", None]
    assert [ask.body for ask in beside.asked] == [b"ABC!", None]
    assert b"content-length: 4\r\n" in beside.asked[0].head
    assert b"content-length: 6\r\n" in beside.asked[1].head


def test_a_part_gets_the_answer_whole_where_it_is_short_enough_and_its_new_length_is_told() -> None:
    def shout(call: Call, answer: Answered) -> None:
        if answer.body is not None:  # None where it is longer than it takes
            answer.body = answer.body.upper() + b"!"

    fields = [(b"content-length", b"6")]
    beside = Beside(Change(stage=Stage.RETURN, answer=shout, answer_body=6))
    whole, pieces, long = (
        beside.carry(*parts, headers=fields) for parts in ((b"abcdef",), (b"abc", b"def"), (b"abc", b"defg"))
    )
    assert (whole.body, pieces.body, long.body) == (b"ABCDEF!", b"ABCDEF!", None)
    assert [one.has_length for one in (whole, pieces, long)] == [False, False, True]


def window(text: str) -> Window:
    return Window.model_validate(text)


@pytest.mark.parametrize("failure", ["away", "slow", "broken", "busy"])
def test_what_became_of_an_attempt_is_told_to_what_chose_the_target(
    failure: Literal["away", "slow", "broken", "busy"],
) -> None:
    beside = Beside()
    call = beside.bed.call("GET", PATH, headers=[KEY])
    outcome = carry(call, backend=lambda ask, body: Failed(failure, "why"))
    assert isinstance(outcome, Refusal)
    assert outcome.reason.code == f"backend-{failure}"
    assert (beside.route.attempts, call.note) == ({("127.0.0.1:9", failure): 1}, "why")


def test_a_traced_call_tells_of_every_stage_and_what_was_not_reached() -> None:
    parts = (
        Change(stage=Stage.SHAPE, request=lambda call: setattr(call, "query", b"a=1")),
        Answerer(stage=Stage.ANSWER, answer=lambda call: Reply(200)),
        Change(stage=Stage.RETURN, answer=lambda call, answer: None),
    )
    beside = Beside(*parts)
    trace = Trace(lambda: 0)
    beside.carry(trace=trace)
    told = [(entry.stage, entry.verdict) for entry in trace.entries]
    assert told[-3:] == [("shape", "passed"), ("answer", "done"), ("return", "done")]
    refusing = Beside(Check(stage=Stage.GUARD, run=lambda call: Refusal(REASONS["closed"])), *parts)
    trace = Trace(lambda: 0)
    refusing.carry(trace=trace)
    left = trace.not_reached(refusing.bed.operation("POST", PATH).named)
    assert {entry.stage for entry in left} == {"identify", "permit", "shape", "answer"}
    assert all(isinstance(one, NamedStep) for one in refusing.bed.operation("POST", PATH).named)
