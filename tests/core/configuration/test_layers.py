"""Layers: every limit is listed with where it stands, and those that another always meets first are named."""

from typing import Any

import pytest

from helpers import configuration
from tamarack.core.configuration.layers import all_limits
from tamarack.core.configuration.model import Configuration

KEY = {"kind": "api-key", "header": "x-skerry-key"}


def limit(name: str, *windows: str, **fields: Any) -> dict[str, Any]:
    return {"kind": "rate-limit", "name": name, "windows": list(windows), **fields}


def made(
    *policies: dict[str, Any], everywhere: Any = (), plan: dict[str, Any] | None = None, caps: Any = (), inner: Any = ()
) -> Configuration:
    plans = [{"name": "skiff", "title": "Skiff", **(plan or {})}]
    operations = [{"call": "get /sailings", "policies": list(inner)}, {"call": "get /ports"}]
    return configuration(
        everywhere=list(everywhere),
        caps=list(caps),
        version={"policies": [KEY, *policies], "operations": operations},
        products=[{"name": "passage", "title": "Passage", "apis": ["sailings"], "plans": plans}],
    )


def notes(configuration: Configuration, environment: str = "production") -> dict[str, str]:
    return {row.id: " ".join(row.notes) for row in all_limits(configuration, environment) if row.notes}


def test_every_layer_is_listed_from_the_outermost_in() -> None:
    one = made(
        limit("steady", "9 per second"),
        {"kind": "quota", "calls": 100, "period": "week"},
        everywhere=[limit("wide", "90 per second", by="everyone")],
        plan={"limits": ["5 per second"], "parts": ["sailings get /ports: 2 per second"], "quota_calls": 50},
        caps=[{"environment": "production", "limits": ["400 per second"]}],
        inner=[limit("steady", "7 per second")],
    )
    rows = all_limits(one, "production")
    assert [row.layer for row in rows] == [
        "platform", "everywhere", "API", "API", "operation", "plan", "plan, single API", "quota",
    ]  # fmt: skip
    by_id = {row.id: row for row in rows}
    assert (len(by_id["sailings/2/steady"].covers), by_id["sailings/2/steady"].replaced) == (1, 1)
    assert by_id["@plan/passage/skiff"].covers == {("sailings", "2", "get /sailings")}
    assert str(by_id["sailings/2/quota"].quota) == "100 / week"
    assert next(row.layer for row in all_limits(one, "test")) == "everywhere"


@pytest.mark.parametrize(
    ("one", "id", "words"),
    [
        (made(limit("a", "10 per second", "900 per minute")), "sailings/2/a", "can never reach 900 per minute"),
        (made(limit("a", "4 per second"), plan={"limits": ["5 per second"]}), "@plan/passage/skiff", "4 per second of ‘a’"),
        (made(limit("a", "9 per second"), plan={"limits": ["5 per second"]}), "sailings/2/a", "every plan of Passage"),
        (made(everywhere=[limit("all", "500 per second", by="everyone")],
              caps=[{"environment": "production", "limits": ["400 per second"]}]), "everywhere/all", "400 per second"),
        (made(everywhere=[limit("a", "5 per second")], inner=[limit("a", "4 per second")]).model_copy(), "", ""),
    ],
)  # fmt: skip
def test_a_limit_that_another_always_meets_first_is_named(one: Configuration, id: str, words: str) -> None:
    found = notes(one)
    assert set(found) == ({id} if id else set())
    assert words in found.get(id, "")


def test_what_is_replaced_everywhere_holds_nowhere() -> None:
    one = made(limit("a", "4 per second"), everywhere=[limit("a", "5 per second")])
    assert notes(one) == {"everywhere/a": "holds for no operation: one of its name replaces it everywhere"}


def test_limits_that_count_for_different_things_do_not_fight() -> None:
    assert notes(made(limit("a", "4 per second", by="address"), plan={"limits": ["5 per second"]})) == {}
    assert notes(made(limit("a", "4 per second", by="caller"), limit("b", "9 per second", by="address"))) == {}
    elsewhere = made(limit("a", "4 per second"), plan={"limits": ["5 per second"]}, inner=[limit("a", "9 per second")])
    assert "@plan/passage/skiff" not in notes(elsewhere)  # one operation lets more through
