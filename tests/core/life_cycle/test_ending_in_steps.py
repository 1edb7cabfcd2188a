"""A deprecated version closes to new subscribers, and is out for short whiles before it ends."""

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from core.carried import NOW, Bed, run
from core.life_cycle.test_ending import api_of, whole
from core.protected import API_KEY, directory
from helpers import material
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.configuration.audience import Viewer
from tamarack.core.configuration.explain import explain
from tamarack.core.configuration.possible_refusals import possible_refusals
from tamarack.core.configuration.seen import seen_by
from tamarack.core.life_cycle.brown_outs import BrownOut, still_to_come

KEY = [(b"x-skerry-key", b"tmk_good")]
MOMENT = datetime.fromtimestamp(NOW, UTC).replace(second=0)
MOMENTS = st.datetimes(datetime(1990, 1, 1), datetime(2150, 1, 1)).map(
    lambda at: at.replace(second=0, microsecond=0, tzinfo=UTC)
)


def refusal(version: dict[str, Any], now: float = NOW, closed_at: datetime | None = None, made: float = 0) -> Any:
    """How a call of a version ends for an application whose subscription was made at a moment."""
    known = directory()
    body = {"application": "a", "product": "passage", "plan": "skiff", "state": "active", "since": made}
    known.apply("subscription", "s", body)
    api = api_of({"policies": [API_KEY], "successor": "2"} | version, {})
    closed = {("sailings", "1"): closed_at} if closed_at is not None else {}
    bed = Bed(whole(api), known, material(), closed)
    return run(bed.call("GET", b"/sailings/v1/sailings", headers=KEY, now=now))


@pytest.mark.parametrize(("later_s", "covered"), [(-1, True), (0, False), (60, False)])
def test_a_subscription_covers_a_deprecated_version_where_it_was_made_before(later_s: int, covered: bool) -> None:
    found = refusal({"state": "deprecated"}, closed_at=MOMENT, made=MOMENT.timestamp() + later_s)
    assert (found is None) is covered
    if found is not None:
        assert found.reason.code == "not-subscribed"
        assert found.detail == (
            "Version 1 of Sailings is deprecated, and subscriptions made since then do not cover it."
            " Version 2 at /sailings/v2 takes its place."
        )
    for state in ("published", "preview"):  # taken back, it is open again
        assert refusal({"state": state}, closed_at=MOMENT, made=MOMENT.timestamp() + later_s) is None


@pytest.mark.parametrize(("later", "seen"), [(-1, ["1", "2"]), (0, ["2"]), (60, ["2"])])
def test_who_subscribed_too_late_does_not_see_it(later: int, seen: list[str]) -> None:
    made = whole(api_of({"state": "deprecated"}, {}))
    since = frozenset({("passage", MOMENT + timedelta(seconds=later))})
    viewer = Viewer("tern-trips", "partner", holds=frozenset({("passage", "skiff")}), since=since)
    (api,) = seen_by(made, viewer, {("sailings", "1"): MOMENT}).apis
    assert [one.version for one in api.versions] == seen


def test_a_brown_out_answers_410_for_its_time_and_says_when_it_is_over_and_where_to_go() -> None:
    version = {
        "state": "deprecated",
        "sunset_on": "2024-02-28",
        "brown_outs": [f"{MOMENT:%Y-%m-%d %H:%M} for 15 minutes"],
    }
    start = MOMENT.timestamp()
    assert refusal(version, start - 0.001) is None
    assert refusal(version, start + 900) is None
    found = refusal(version, start + 60.5)
    assert isinstance(found, Refusal)
    assert (found.reason.status, found.reason.code, found.headers) == (410, "brown-out", ((b"retry-after", b"840"),))
    assert found.detail == (
        "Version 1 of Sailings is switched off on purpose, 14 November 2023, 22:13 to 22:28 UTC, because it will be retired;"
        " version 2 at /sailings/v2 takes its place. It ends on 28 February 2024."
    )
    assert refusal(version | {"state": "published"}, start + 60) is None


def test_pages_say_when_it_is_out() -> None:
    api = api_of({"state": "deprecated", "brown_outs": ["2027-02-03 23:50 for 15 minutes"]}, {})
    said = [one.text for one in explain(whole(api), api, api.versions[0])]
    assert "It is switched off on 3 February 2027, 23:50 to 4 February, 00:05 UTC: calls are answered 410." in said
    possible = possible_refusals(whole(api), api, api.versions[0], api.versions[0].operations[0])
    assert "brown-out" in [one.code for one in possible]


@given(at=MOMENTS, minutes=st.integers(1, 1440))
def test_a_brown_out_reads_as_it_is_written(at: datetime, minutes: int) -> None:
    one = BrownOut(at=at, minutes=minutes)
    assert BrownOut.model_validate(str(one)) == BrownOut.model_validate_json(one.model_dump_json()) == one
    assert still_to_come((one,), one.until) == []
    assert still_to_come((one,), one.until - timedelta(seconds=1)) == [one]


@pytest.mark.parametrize(
    ("written", "words"),
    [
        (["tomorrow at nine"], "write it like '2027-02-03 09:00 for 15 minutes', in UTC"),
        (["2027-02-30 09:00 for 15 minutes"], "write it like"),
        (["2027-02-03 09:00 for 0 minutes"], "from 1 minute to a day"),
        (["2027-02-03 09:00 for 1441 minutes"], "from 1 minute to a day"),
        ([{"at": "2027-02-03T09:00:00", "minutes": 5}], "says no time zone"),
        (["2027-02-03 09:10 for 5 minutes", "2027-02-03 09:00 for 15 minutes"], "overlap; move or shorten one"),
    ],
)
def test_brown_outs_that_cannot_be_are_refused_in_words(written: list[Any], words: str) -> None:
    with pytest.raises(ValidationError, match=words):
        api_of({"brown_outs": written})


def test_brown_outs_are_kept_in_the_order_of_time() -> None:
    api = api_of({"brown_outs": ["2027-03-03 09:00 for 15 minutes", "2027-02-03 09:00 for 15 minutes"]})
    assert [one.at.month for one in api.versions[0].brown_outs] == [2, 3]
