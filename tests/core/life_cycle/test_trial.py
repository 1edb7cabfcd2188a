"""A preview on trial: who may call it without a subscription, how often, and who sees it."""

from typing import Any

import pytest
from pydantic import ValidationError

from core.carried import Bed, run
from core.life_cycle.test_ending import api_of, whole
from core.protected import API_KEY, directory
from helpers import material
from tamarack.core.configuration.audience import STRANGER, Viewer
from tamarack.core.configuration.explain import explain, explain_outside
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.possible_refusals import possible_refusals
from tamarack.core.configuration.review import risks
from tamarack.core.configuration.seen import seen_by
from tamarack.core.identity.callers import CallerDirectory

KEY = [(b"x-skerry-key", b"tmk_good")]
WRONG = [(b"x-skerry-key", b"tmk_wrong")]
SLOW = ["2 per minute"]


def on_trial(
    trial: dict[str, Any] | None, policies: tuple[dict[str, Any], ...] = (API_KEY,), state: str = "preview"
) -> Configuration:
    return whole(api_of({"state": state, "trial": trial, "policies": list(policies)}))


def subscribed_elsewhere() -> CallerDirectory:
    """The same application, without a subscription to the API."""
    known = directory()
    known.apply("subscription", "s", None)
    return known


def reasons(bed: Bed, shown: list[Any], many: int = 1, address: str = "192.0.2.1") -> list[str]:
    found = [run(bed.call("GET", b"/sailings/v1/sailings", headers=shown, address=address)) for _ in range(many)]
    return [one.reason.code if one is not None else "" for one in found]


@pytest.mark.parametrize(
    ("trial", "shown", "refused"),
    [
        (None, [], "no-credential"),
        (None, KEY, "not-subscribed"),
        ({}, [], ""),
        ({}, KEY, ""),
        ({}, WRONG, "unknown-credential"),
        ({"invited": ["harbour-control"]}, [], "no-credential"),
        ({"invited": ["harbour-control"]}, KEY, ""),
        ({"invited": ["tern-trips"]}, KEY, "not-subscribed"),
    ],
)
def test_who_may_call_without_a_subscription(trial: dict[str, Any] | None, shown: list[Any], refused: str) -> None:
    bed = Bed(on_trial(trial), subscribed_elsewhere(), material())
    assert reasons(bed, shown) == [refused]
    published = Bed(on_trial(trial, state="published"), subscribed_elsewhere(), material())
    assert reasons(published, KEY) == ["not-subscribed"]
    possible = [one.code for one in possible_refusals(on_trial(trial), *_of(on_trial(trial)))]
    assert refused == "" or refused in possible


def _of(made: Configuration) -> Any:
    api = made.apis[0]
    return api, api.versions[0], api.versions[0].operations[0]


def test_each_address_has_the_limit_and_a_subscriber_has_the_plan() -> None:
    bed = Bed(on_trial({"limits": SLOW}), directory(), material())
    assert reasons(bed, [], 3) == ["", "", "over-rate"]
    assert reasons(bed, [], 1, "192.0.2.2") == [""]
    assert reasons(bed, KEY, 5) == [""] * 5
    unsubscribed = Bed(on_trial({"limits": SLOW}), subscribed_elsewhere(), material())
    assert reasons(unsubscribed, KEY, 2, "192.0.2.1") + reasons(unsubscribed, KEY, 1, "192.0.2.9") == [
        "", "", "over-rate",
    ]  # fmt: skip
    assert reasons(unsubscribed, [], 1) == [""]


def test_one_count_holds_for_all_operations_of_a_version() -> None:
    made = whole(api_of({"state": "preview", "trial": {"limits": ["1 per minute"]}, "policies": [API_KEY],
                         "operations": [{"call": "get /sailings"}, {"call": "get /ports"}]}))  # fmt: skip
    bed = Bed(made, directory(), material())
    assert reasons(bed, []) == [""]
    assert run(bed.call("GET", b"/sailings/v1/ports")).reason.code == "over-rate"  # type: ignore[union-attr]


def test_a_trial_for_anyone_opens_what_knows_no_caller_and_one_on_invitation_does_not() -> None:
    opened = Bed(on_trial({"limits": SLOW}, ()), directory(), material())
    assert reasons(opened, [], 3) == ["", "", "over-rate"]
    closed = Bed(on_trial({"invited": ["harbour-control"]}, ()), directory(), material())
    assert reasons(closed, KEY) == ["closed"]


def test_a_paused_application_stays_out() -> None:
    known = directory()
    known.apply("application", "a", {"name": "b", "organization": "harbour-control", "paused": True, "groups": []})
    assert reasons(Bed(on_trial({}), known, material()), KEY) == ["application-paused"]


def test_a_preview_on_invitation_is_seen_by_the_invited_alone_who_do_not_read_of_others() -> None:
    made = on_trial({"invited": ["harbour-control", "tern-trips"]})
    assert seen_by(made, STRANGER).apis == ()
    assert seen_by(made, Viewer("quay-pay", "partner")).apis == ()
    (api,) = seen_by(made, Viewer("tern-trips", "partner")).apis
    assert api.versions[0].trial is not None
    assert api.versions[0].trial.invited == ("tern-trips",)
    assert seen_by(on_trial({}), STRANGER).apis != ()


def test_pages_and_the_review_say_who_may_try_it() -> None:
    anyone, some = on_trial({}), on_trial({"invited": ["tern-trips"], "limits": ["5 per second"]})
    said = " ".join(one.text for one in explain(anyone, *_of(anyone)))
    assert "anyone may call 60 times a minute from one address, unsubscribed" in said
    assert "needs a subscription" not in said
    said = " ".join(one.text for one in explain(some, *_of(some)))
    assert "applications of tern-trips may each call 5 times a second, unsubscribed" in said
    assert "Any other application needs a subscription" in said
    outside = " ".join(one.text for one in explain_outside(some, *_of(some)))
    assert "Your organization is invited" in outside
    assert "tern-trips" not in outside
    assert any("anyone may call" in risk.text for risk in risks(anyone))


@pytest.mark.parametrize(
    ("trial", "words"),
    [
        ({"limits": []}, "at least 1 item"),
        ({"limits": ["often"]}, "write it like '60 per minute'"),
        ({"limits": ["60 per minute", "5 per minute"]}, "keep the tighter one"),
        ({"invited": ["Tern Trips"]}, "lower-case letters|String should match"),
    ],
)
def test_a_trial_that_cannot_be_is_refused_in_words(trial: dict[str, Any], words: str) -> None:
    with pytest.raises(ValidationError, match=words):
        on_trial(trial)
