"""The call path as one caller has it, and how long each stage took lately."""

import psycopg
from flask.testing import FlaskClient
from sqlmodel import Session

from console.life_cycle.test_steps import words
from core.traffic.test_traffic import record
from tamarack.core.stages import Stage
from tamarack.core.traffic.record import TIMED
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.columns import now
from tamarack.store.rollouts import queries as rolling
from tamarack.store.traffic.recording import Batch, take_in
from tamarack.store.traffic.stage_times import stage_times

PAGE = "/apis/sailings/2/"


def test_each_stage_says_its_median_of_lately(admin: FlaskClient, world: Session, settings: Settings) -> None:
    assert admin.get(f"{PAGE}times").text.strip().count("<span") == 0
    at = int(now().timestamp() * 1_000_000)
    made = [
        record(at - number * 1_000_000, id=f"c{number}", api="sailings", version="2", environment="production",
               operation="get /sailings", stages_ns=tuple(1_000 * (number + 1) if place else 0 for place, _ in enumerate(TIMED)))
        for number in range(3)
    ]  # fmt: skip
    old = record(at - 7_200_000_000, id="old", api="sailings", version="2", environment="production", operation="get /sailings",
                 stages_ns=(9_000_000,) * len(TIMED))  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("b1", "production-1", [*made, old])])
    found, many = stage_times(world, "production", "sailings", "2")
    assert (found[Stage.GUARD], many) == (2_000.0, 3)
    assert Stage.RECEIVE not in found  # nothing passed it, by these records
    assert stage_times(world, "production", "sailings", "2", "get /ports") == ({}, 0)
    page = admin.get(f"{PAGE}times").text
    assert 'id="time-shape" hx-swap-oob="true"' in page
    assert "2 µs" in words(page).replace("\u202f", " ")
    assert "median of 3 calls within the last hour" in page


def test_a_question_that_takes_too_long_is_given_up_and_the_page_stands(
    admin: FlaskClient, calls_out_of_reach: None, world: Session
) -> None:
    assert stage_times(world, "production", "sailings", "2") == ({}, 0)
    assert admin.get(f"{PAGE}times").status_code == 200


def test_the_path_is_seen_as_an_application_has_it(admin: FlaskClient, world: Session) -> None:
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    application = subscribing.make_application(world, COMMAND_LINE, owner, "Night Planner")
    offered = rolling.running_configuration(world, "production")
    made = subscribing.subscribe(world, COMMAND_LINE, offered, application, "passage", "skiff", "production")
    world.commit()
    assert "Night Planner, Tern Trips: skiff" in words(admin.get(PAGE).text)
    page = words(admin.get(f"{PAGE}?plan=of:{made.id}").text)
    assert "Skiff plan by subscription" in page
    assert "Under the plan Skiff, a subscription" in page
    assert "Skiff plan by subscription" not in words(admin.get(f"{PAGE}?plan=of:nobody").text)
