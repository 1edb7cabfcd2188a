"""Whose turn it is, and which targets are spared: against brute force."""

from collections import Counter
from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.balancing.breaker import MOST_OPEN_S, TRANSITIONS, Breaker, BreakerRules, Event, State
from tamarack.core.balancing.health import Checked, HealthRules
from tamarack.core.balancing.route import Choice, Route
from tamarack.core.balancing.target_state import TargetState, TargetStates
from tamarack.core.balancing.turns import place_of, smooth_cycle
from tamarack.core.carrying.call import Call
from tamarack.core.http.target import target_at

WEIGHTS = st.lists(st.integers(1, 9), min_size=1, max_size=5)


@given(WEIGHTS)
def test_a_cycle_gives_each_its_weight_and_is_as_even_as_the_turns_taken_one_by_one(weights: list[int]) -> None:
    cycle = smooth_cycle(weights)
    counted = Counter(cycle)
    assert all(counted[a] * weights[b] == counted[b] * weights[a] for a in counted for b in counted)
    credit, turns = [0] * len(weights), []
    for _ in cycle:
        credit = [have + weight for have, weight in zip(credit, weights, strict=True)]
        best = credit.index(max(credit))
        credit[best] -= sum(weights)
        turns.append(best)
    assert turns == cycle


@given(st.integers(0, 3), st.lists(st.binary(min_size=1, max_size=6), min_size=40, max_size=40, unique=True))
def test_when_a_target_goes_only_its_own_keys_move(gone: int, keys: list[bytes]) -> None:
    names, weights = [b"a", b"b", b"c", b"d"], [1, 2, 1, 3]
    left = [place for place in range(4) if place != gone]
    for key in keys:
        before = place_of(key, names, weights)
        after = left[place_of(key, [names[place] for place in left], [weights[place] for place in left])]
        assert after == before or before == gone


def test_keys_are_spread_in_proportion_to_the_weights() -> None:
    found = Counter(place_of(b"%d" % number, [b"a", b"b"], [1, 3]) for number in range(4_000))
    assert 0.70 < found[1] / 4_000 < 0.80


STEPS = st.lists(
    st.tuples(st.sampled_from(["ok", "failed", "wait", "left"]), st.floats(0, 4), st.integers(0, 6)), max_size=60
)
RULES = st.builds(
    BreakerRules,
    in_a_row=st.integers(0, 4),
    share=st.sampled_from([0, 30, 50, 100]),
    at_least=st.integers(1, 6),
    within_s=st.just(10),
    open_s=st.integers(1, 5),
    trial_calls=st.integers(1, 3),
)


@given(RULES, STEPS)
def test_a_breaker_lets_through_what_its_rules_say(rules: BreakerRules, steps: list[tuple[str, float, int]]) -> None:
    """The rules read off the history: open means nothing goes, half-open at most so many, and only enough closes it."""
    breaker, now = Breaker(rules), 1000.0
    row = 0
    trials: list[bool] = []
    for what, passed, seconds in steps:
        now += passed
        before, until = breaker.state, breaker.until
        goes = breaker.lets_through(now)
        if before is State.OPEN:
            assert goes == (now >= until)
            if goes:
                trials, row = [], 0
        if breaker.state is State.HALF_OPEN:
            assert goes == (len(trials) < rules.trial_calls)
        if not goes:
            continue
        state = breaker.state
        trial = breaker.went()
        assert trial == (state is State.HALF_OPEN)
        if what == "ok":
            breaker.succeeded(now, trial)
            row = 0
        elif what == "failed":
            breaker.failed(now, trial)
            row += 1
            if state is State.HALF_OPEN or (rules.in_a_row and row >= rules.in_a_row):
                assert (breaker.state, breaker.until) == (State.OPEN, now + rules.open_s)
        elif what == "wait":
            breaker.told_to_wait(now, seconds, trial)
            assert breaker.state is (State.OPEN if seconds else state)
        else:
            breaker.left(trial)
            assert breaker.state is state
        if breaker.state is State.CLOSED and rules.in_a_row and what != "wait":
            assert row < rules.in_a_row


@given(RULES, STEPS)
def test_a_breaker_moves_only_as_its_table_says(rules: BreakerRules, steps: list[tuple[str, float, int]]) -> None:
    allowed = {(before, after) for (before, _), after in TRANSITIONS.items()}
    breaker, now, seen = Breaker(rules), 0.0, [State.CLOSED]
    for what, passed, seconds in steps:
        now += passed
        if breaker.lets_through(now):
            seen.append(breaker.state)
            trial = breaker.went()
            if what == "ok":
                breaker.succeeded(now, trial)
            elif what == "failed":
                breaker.failed(now, trial)
            elif what == "wait":
                breaker.told_to_wait(now, seconds, trial)
            else:
                breaker.left(trial)
        seen.append(breaker.state)
    assert all(pair in allowed for pair in pairwise(seen))
    assert {state for state, _ in TRANSITIONS} == set(State)
    assert {event for _, event in TRANSITIONS} == set(Event)


def test_the_share_is_of_the_calls_within_its_span() -> None:
    breaker = Breaker(BreakerRules(in_a_row=0, share=50, at_least=4, within_s=10))
    for at in (0.0, 1.0):
        breaker.failed(at)
    breaker.succeeded(11.5)
    breaker.failed(11.6)
    assert breaker.state is State.CLOSED  # the first two are too long ago, and two are too few
    breaker.succeeded(11.7)
    breaker.failed(11.8)
    assert breaker.state is State.OPEN
    assert breaker.why.startswith("2 of 4 calls failed within 10 s")


def test_no_target_can_ask_for_an_endless_pause() -> None:
    breaker = Breaker(BreakerRules())
    breaker.told_to_wait(0.0, 10**9)
    assert breaker.until == MOST_OPEN_S


@given(st.lists(st.booleans(), max_size=40), st.integers(1, 4), st.integers(1, 4))
def test_checks_change_the_state_after_enough_in_a_row(results: list[bool], unwell: int, well: int) -> None:
    checked = Checked(HealthRules(unwell_after=unwell, well_after=well))
    for place, good in enumerate(results):
        before = checked.well
        changed = checked.noted(good)
        wanted = well if good else unwell
        same = results[max(0, place - wanted + 1) : place + 1]
        assert changed == (checked.well is not before)
        if len(same) == wanted and set(same) == {good}:
            assert checked.well is good


def call(now: float = 0.0) -> Call:
    return Call(b"c", now, 0, "192.0.2.1")


def targets(many: int, **rules: object) -> list[Choice]:
    made = []
    for place in range(many):
        target = target_at(f"http://127.0.0.1:{place + 1}", 1000, 1000)
        state = TargetState("b", target.label, BreakerRules(in_a_row=1, share=0, open_s=5), HealthRules())
        made.append(Choice(target, state, **rules))  # type: ignore[arg-type]
    return made


def test_a_target_that_checks_find_unwell_is_passed_over_but_not_when_all_are() -> None:
    one, two = targets(2)
    route = Route([one, two])
    for _ in range(2):
        one.state.check_ended(0.0, False, "it answered 503")  # type: ignore[union-attr]
    assert {route.choose(call()) for _ in range(4)} == {two}
    for _ in range(2):
        two.state.check_ended(0.0, False, "it answered 503")  # type: ignore[union-attr]
    assert {route.choose(call()) for _ in range(4)} == {one, two}


def test_a_retry_goes_to_another_target_where_there_is_one() -> None:
    one, two = targets(2)
    route = Route([one, two])
    assert route.choose(call(), (one,)) is two
    assert route.choose(call(), (one, two)) is not None
    two.state.noted(0.0, 0, "took no connection", False)  # type: ignore[union-attr]
    assert route.choose(call(), (one,)) is one


def test_the_fewest_calls_under_way_in_relation_to_the_weight() -> None:
    one, two = targets(2)
    two.weight = 3
    route = Route([one, two], fewest=True)
    chosen = []
    for _ in range(8):
        choice = route.choose(call())
        assert choice is not None and choice.state is not None
        choice.state.went()
        chosen.append(choice)
    assert Counter(choice is two for choice in chosen) == {True: 6, False: 2}


def test_no_target_lets_a_call_through_for_as_long_as_the_first_breaker_is_open() -> None:
    one, two = targets(2)
    for place, choice in enumerate((one, two)):
        choice.state.noted(place * 2.0, 0, "failed", False)  # type: ignore[union-attr]
    route = Route([one, two])
    assert (route.choose(call(2.0)), route.resting_for(2.0)) == (None, 3)
    assert route.choose(call(5.0)) is one


def test_what_is_known_of_a_target_outlasts_a_rollout_that_leaves_its_rules_alone() -> None:
    states, target = TargetStates(), target_at("http://127.0.0.1:1", 1000, 1000)
    known = states.of("b", target, BreakerRules(), None)
    assert states.of("b", target_at("http://127.0.0.1:1", 9, 9), BreakerRules(), None) is known
    assert states.of("b", target, BreakerRules(open_s=9), None) is not known
    states.forget_others(set())
    assert states.all() == []
