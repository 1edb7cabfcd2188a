"""What nodes count of the fields that applications ask for: by field and application, of calls that were carried."""

import pytest

from core.graphql.fleet import Fleet
from tamarack.gateway.recording import field_use
from tamarack.gateway.recording.field_use import FieldUse

NAMES = "{ vessels { name } v: vessels { name oldName } }"


def test_each_field_is_counted_once_a_call_by_application_and_begun_anew() -> None:
    fleet, use = Fleet(), FieldUse("production")
    for document in (NAMES, NAMES, "{ place(id: 1) { code } }"):
        fleet.ask(document)
        use.add(fleet.call)
    rows = {row[3]: row for row in use.take()}
    assert {name: row[6] for name, row in rows.items()} == {
        "Query.vessels": 2, "Vessel.name": 2, "Vessel.oldName": 2, "Query.place": 1, "Place.code": 1,
    }  # fmt: skip
    assert rows["Vessel.name"][:6] == ("production", "sailings", "2", "Vessel.name", "harbour-control", "berth-board")
    assert use.take() == []


def test_refused_calls_and_blind_apis_have_none_and_batches_are_bounded(monkeypatch: pytest.MonkeyPatch) -> None:
    fleet, use = Fleet(schema=""), FieldUse("production")
    fleet.ask("{ anything { goes } }")
    use.add(fleet.call)
    assert use.take() == []
    fleet = Fleet()
    fleet.ask(NAMES)
    fleet.call.reason = "over-rate"
    use.add(fleet.call)
    assert use.take() == []
    fleet.call.reason = ""
    monkeypatch.setattr(field_use, "MOST", 1)
    for document in (NAMES, "{ place(id: 1) { code } }"):
        fleet.ask(document)
        use.add(fleet.call)
    assert {row[3] for row in use.take()} == {"Query.vessels", "Vessel.name", "Vessel.oldName"}
