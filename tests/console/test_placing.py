"""Where policies stand: copied, moved, put in another order, switched off, found; with what that replaces said first."""

import re

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session

from console.life_cycle.test_steps import words
from tamarack.core.configuration.effective import held, in_force
from tamarack.core.configuration.model import Configuration, Version
from tamarack.store.draft import queries as drafting

POLICIES = "/apis/sailings/2/policies"
STEADY = {"level": "api", "policy": "steady"}


def draft(world: Session) -> Configuration:
    world.expire_all()
    return drafting.load_configuration(world)


def version(world: Session) -> Version:
    found = draft(world).api("sailings")
    inside = found.version("2") if found is not None else None
    assert inside is not None
    return inside


def names(world: Session, call: str = "") -> list[str]:
    operation = version(world).operation(call)
    return [policy.name for policy in (operation.policies if operation is not None else version(world).policies)]


def test_what_a_copy_would_replace_is_shown_before_it_is_made(admin: FlaskClient, world: Session) -> None:
    page = words(admin.get(f"{POLICIES}/copying?level=api&policy=steady").text)
    assert "Copy or move Steady of Sailings 2: 20 / s, 600 / min" in page
    assert re.search(
        r"the whole API it stands here get /sailings Rate limit: 40 / s, 1200 / min get /sailings/{id} nothing", page
    )
    typed = STEADY | {"act": "copy", "to": ["every operation"]}
    assert admin.post(f"{POLICIES}/copying", data=typed).status_code == 303
    assert all([p.name for p in one.policies].count("steady") == 1 for one in version(world).operations)
    assert "steady" in names(world)
    assert names(world, "get /ports") == ["open", "steady"]  # in the place of the one it replaced


def test_a_move_leaves_its_old_place(admin: FlaskClient, world: Session) -> None:
    admin.post(f"{POLICIES}/copying", data=STEADY | {"act": "move", "to": ["everywhere", "get /sailings/{id}"]})
    assert "steady" not in names(world)
    assert names(world, "get /sailings/{id}") == ["steady"]
    assert "steady" in [policy.name for policy in draft(world).everywhere]


def test_what_a_move_changed_in_two_places_is_undone_together(admin: FlaskClient, world: Session) -> None:
    before = draft(world)
    moved = admin.post(
        f"{POLICIES}/copying", data=STEADY | {"act": "move", "to": ["everywhere"]}, follow_redirects=True
    )
    undo = re.search(r'action="(/undo/[0-9]+-[0-9]+)"', moved.text)
    assert undo is not None
    assert admin.post(undo[1]).status_code == 303
    assert draft(world) == before
    assert "there is no change" in words(admin.post(undo[1], follow_redirects=True).text)


@pytest.mark.parametrize("changes", ["", "x", "1-", "-1", "1-x", "01"])
def test_only_changes_are_undone(admin: FlaskClient, world: Session, changes: str) -> None:
    assert admin.post(f"/undo/{changes}").status_code == 404


@pytest.mark.parametrize(
    ("typed", "error"),
    [
        ({"act": "copy"}, "Choose where it goes."),
        ({"act": "copy", "to": ["the whole API"]}, "Choose where it goes."),
        ({"act": "copy", "to": ["get /nowhere"]}, "Choose where it goes."),
    ],
)
def test_a_copy_to_nowhere_is_refused(admin: FlaskClient, world: Session, typed: dict[str, str], error: str) -> None:
    answer = admin.post(f"{POLICIES}/copying", data=STEADY | typed)
    assert (answer.status_code, error in answer.text) == (422, True)


def test_a_policy_goes_only_where_it_can_hold(admin: FlaskClient, world: Session) -> None:
    rewrite = {
        "level": "operation",
        "operation": "get /sailings/{id}",
        "kind": "rewrite",
        "name": "rewrite",
        "path": "/lines/{id}",
    }
    assert admin.post(f"{POLICIES}/save", data=rewrite).status_code == 303
    at = {"level": "operation", "operation": "get /sailings/{id}", "policy": "rewrite"}
    page = words(admin.get(f"{POLICIES}/copying", query_string=at).text)
    assert "get /sailings its path takes {id}, which /sailings does not name" in page
    refused = admin.post(f"{POLICIES}/copying", data=at | {"act": "copy", "to": ["get /sailings"]})
    assert (refused.status_code, "which /sailings does not name" in refused.text) == (422, True)
    assert admin.post(f"{POLICIES}/copying", data=at | {"act": "copy", "to": ["every operation"]}).status_code == 303
    assert "rewrite" in names(world, "get /sailings/{id}/stops")
    assert "rewrite" not in names(world, "get /sailings")


def test_what_is_switched_off_stays_and_does_not_hold(admin: FlaskClient, world: Session) -> None:
    at = {"level": "operation", "operation": "get /sailings", "policy": "steady"}
    assert admin.post(f"{POLICIES}/switch", data=at).status_code == 303
    whole, inside = draft(world), version(world)
    api = whole.api("sailings")
    assert api is not None
    limits = [str(row.policy.windows[0]) for row in in_force(held(whole, api, inside, inside.operation("get /sailings")))
              if row.policy.kind == "rate-limit"]  # fmt: skip
    assert limits == ["20 per second"]  # the API's holds again, for nothing replaces it
    page = words(admin.get("/apis/sailings/2/?operation=get+/sailings").text)
    assert "Steady 40 / s, 1200 / min off" in page
    assert "switched off from no to yes" in words(admin.get("/review").text)
    saved = {"level": "operation", "operation": "get /sailings", "kind": "rate-limit", "old_name": "steady", "name": "steady",
             "windows": "5 per second", "beside": "replace", "by": "caller"}  # fmt: skip
    assert admin.post(f"{POLICIES}/save", data=saved).status_code == 303
    operation = version(world).operation("get /sailings")
    assert operation is not None
    assert (operation.policies[0].off, str(operation.policies[0].windows[0])) == (True, "5 per second")  # type: ignore[attr-defined]
    admin.post(f"{POLICIES}/switch", data=at)
    operation = version(world).operation("get /sailings")
    assert operation is not None
    assert operation.policies[0].off is False


def test_an_operation_whose_only_way_in_is_switched_off_is_closed(admin: FlaskClient, world: Session) -> None:
    admin.post(f"{POLICIES}/switch", data={"level": "api", "policy": "api-key"})
    assert "Nobody may call" in admin.get("/apis/sailings/2/").text
    assert "are closed" in words(admin.get("/review").text)


def test_policies_of_a_cell_are_put_in_another_order(admin: FlaskClient, world: Session) -> None:
    for name in ("first", "second"):
        typed = {"level": "api", "kind": "request-fields", "name": name, "edits": f"set header X-{name}: 1"}
        assert admin.post(f"{POLICIES}/save", data=typed).status_code == 303
    before = names(world)
    assert before[-2:] == ["first", "second"]
    assert admin.post(f"{POLICIES}/order", data={"level": "api", "order": "second,first"}).status_code == 303
    assert names(world) == [*before[:-2], "second", "first"]
    for order, status in (("second,none", 404), ("second,second", 400), ("second,steady", 400), ("", 404)):
        assert admin.post(f"{POLICIES}/order", data={"level": "api", "order": order}).status_code == status
    assert names(world) == [*before[:-2], "second", "first"]


def test_every_placement_of_a_kind_is_found(admin: FlaskClient) -> None:
    page = words(admin.get("/apis/policies").text)
    assert "All policies" in page
    found = words(admin.get("/apis/policies?kind=response-cache").text)
    assert "Response cache, wherever it is placed" in found
    assert "Sailings 2" in found
    assert "Fares 1, post /quotes" in found
    assert "Berths 1 " not in found
    assert admin.get("/apis/policies?kind=nothing").status_code == 404
