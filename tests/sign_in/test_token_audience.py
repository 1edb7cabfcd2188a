"""For whom a token is made, how, and for how long, as the running configuration says."""

from typing import Any

import pytest

from helpers import configuration
from tamarack.core.sign_in.audience import Audience, audience_in
from tamarack.core.sign_in.protected import BadTarget, chosen

GATEWAY = "https://api.skerry.example"
SAILINGS, BERTHS = f"{GATEWAY}/sailings/v2", f"{GATEWAY}/berths/v1"


def audience(plans: dict[str, int] | None = None, tokens: str = "signed") -> Audience:
    """Sailings with a scope in the product passage, Berths with another in harbour."""
    token: dict[str, Any] = {"kind": "access-token", "directory": "passengers", "tokens": tokens}
    minutes = {"skiff": 0, "cutter": 0} | (plans or {})
    return audience_in(
        configuration(
            apis=[
                {"name": "sailings", "title": "Sailings", "scopes": ["sailings:book Book a passage"],
                 "versions": [{"version": "2", "base_path": "/sailings/v2", "backend": "timetable",
                               "operations": [{"call": "get /a"}]}]},
                {"name": "berths", "title": "Berths", "scopes": ["berths:hold Hold a berth"],
                 "versions": [{"version": "1", "base_path": "/berths/v1", "backend": "timetable",
                               "operations": [{"call": "get /b", "policies": [token]}]}]},
            ],
            products=[
                {"name": name, "title": name, "apis": [api],
                 "plans": [{"name": plan, "title": plan, "access_minutes": minutes[plan]}]}
                for name, api, plan in (("passage", "sailings", "skiff"), ("harbour", "berths", "cutter"))
            ],
        ),
        GATEWAY,
    )  # fmt: skip


def test_an_api_is_a_resource_by_its_address_and_its_scopes_say_what_they_let_do() -> None:
    found = audience()
    assert found.resources == {SAILINGS: "sailings", BERTHS: "berths"}
    assert found.words["berths:hold"] == "Berths: Hold a berth"


def test_a_token_for_one_api_holds_its_scopes_and_those_of_every_directory() -> None:
    asked = ["openid", "sailings:book", "berths:hold", "gone:scope"]
    assert audience().scopes_for([BERTHS], asked) == ["openid", "berths:hold"]
    assert audience().scopes_for([], asked) == asked


def test_a_token_is_opaque_where_an_api_that_it_is_for_says_so() -> None:
    found = audience(tokens="opaque")
    assert found.is_opaque([BERTHS], []) and found.is_opaque([SAILINGS, BERTHS], [])
    assert found.is_opaque([], ["openid", "berths:hold"]), "its scope is of that API"
    assert not found.is_opaque([SAILINGS], ["berths:hold"]) and not found.is_opaque([], ["openid"])
    assert not audience().is_opaque([BERTHS], ["berths:hold"])


@pytest.mark.parametrize(
    ("plans", "resources", "scopes", "minutes"),
    [
        ({}, [], [], 0),
        ({"skiff": 1440}, [], [], 1440),
        ({"skiff": 1440, "cutter": 15}, [], [], 15),
        ({"skiff": 1440, "cutter": 15}, [SAILINGS], [], 1440),
        ({"skiff": 1440, "cutter": 15}, [], ["sailings:book"], 1440),
        ({"skiff": 1440, "cutter": 15}, [SAILINGS, BERTHS], [], 15),
        ({"skiff": 1440}, [BERTHS], [], 0),
    ],
)
def test_a_token_lasts_as_long_as_the_shortest_plan_that_it_is_of_use_for(
    plans: dict[str, int], resources: list[str], scopes: list[str], minutes: int
) -> None:
    held = [("passage", "skiff"), ("harbour", "cutter"), ("passage", "gone")]
    assert audience(plans).minutes_of(held, resources, scopes) == minutes


def test_resources_are_those_that_are_here_and_never_more_than_were_granted() -> None:
    known = audience().resources
    assert chosen([BERTHS, BERTHS], known) == [BERTHS]
    assert chosen([], known, [BERTHS]) == [BERTHS] and chosen([BERTHS], known, [SAILINGS, BERTHS]) == [BERTHS]
    for asked, held in ((["https://evil.example/"], []), ([BERTHS + "/"], []), ([SAILINGS], [BERTHS])):
        with pytest.raises(BadTarget):
            chosen(asked, known, held)
