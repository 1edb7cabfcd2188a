"""Planned steps of versions: taken when their time comes, alone, told of; called off, or no longer possible."""

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from sqlalchemy import Engine
from sqlmodel import Session, select

from console.life_cycle.test_steps import draft_with
from tamarack.core.life_cycle.trial import Trial
from tamarack.settings import Settings
from tamarack.store.announcements.tables import Announcement
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.audit.log import COMMAND_LINE, Actor
from tamarack.store.columns import now
from tamarack.store.draft import queries as drafting
from tamarack.store.errors import NotPossible
from tamarack.store.life_cycle import planned
from tamarack.store.life_cycle.tables import PlannedStep
from tamarack.store.mail.tables import Mail
from tamarack.store.rollouts import queries as rolling
from tamarack.worker.life_cycle import take_next_step

ADMIN = Actor("i.marsh@skerry.example", "console")


def plan(
    world: Session, state: str, version: str = "1", days: float = 30, due: bool = False, **changes: Any
) -> PlannedStep:
    """Plan a step of Sailings; where it is `due`, its time is made to have come."""
    running = rolling.running_configuration(world, "production")
    at = (now() + timedelta(days=days)).replace(second=0, microsecond=0)
    made = planned.plan(world, ADMIN, running, "production", "sailings", version, state, changes.get("at", at))
    if due:
        made.at = now() - timedelta(seconds=1)
    world.commit()
    return made


def work(engine: Engine, settings: Settings, world: Session) -> list[str]:
    """Let the worker take all that is due; returns its log."""
    said: list[str] = []
    while take_next_step(engine, settings, said.append):
        pass
    world.expire_all()
    return said


def states(world: Session, draft: bool = False) -> dict[str, str]:
    where = drafting.load_configuration(world) if draft else rolling.running_configuration(world, "production")
    api = where.api("sailings")
    assert api is not None
    return {one.version: one.state for one in api.versions}


def test_a_step_is_taken_alone_and_the_draft_follows(engine: Engine, settings: Settings, world: Session) -> None:
    draft_with(world, "2", base_path="/sailings/two")  # somebody is at work on something else
    step = plan(world, "retired", due=True)
    plan(world, "deprecated", version="2", days=60)
    assert work(engine, settings, world) == [f"planned step {step.id}: sailings 1 is retired by rollout {step.rollout}"]
    assert states(world) == {"1": "retired", "2": "published"}
    assert states(world, draft=True) == {"1": "retired", "2": "published"}
    running = rolling.running_configuration(world, "production").api("sailings")
    drafted = drafting.load_configuration(world).api("sailings")
    assert running is not None
    assert drafted is not None
    assert [one.base_path for one in running.versions] == ["/sailings/v1", "/sailings/v2"]
    assert [one.base_path for one in drafted.versions] == ["/sailings/v1", "/sailings/two"]
    assert (step.standing, step.settled_by) == ("taken", "worker")
    rollout = rolling.running(world, "production")
    assert rollout is not None
    assert (rollout.number, rollout.made_by) == (step.rollout, ADMIN.name)


def test_who_it_concerns_and_who_planned_it_are_told(engine: Engine, settings: Settings, world: Session) -> None:
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    application = subscribing.make_application(world, COMMAND_LINE, owner, "Night Planner")
    offered = rolling.running_configuration(world, "production")
    subscribing.subscribe(world, COMMAND_LINE, offered, application, "passage", "skiff", "production")
    plan(world, "retired", due=True)
    work(engine, settings, world)
    entry = world.exec(select(Announcement).where(Announcement.title == "Version 1 is retired")).one()
    assert (entry.api, entry.version, entry.readers) == ("sailings", "1", "subscribers")
    assert "Version 2 at `/sailings/v2` takes its place." in entry.text
    mails = {mail.to: mail.subject for mail in world.exec(select(Mail))}
    assert mails["m.tern@tern-trips.example"] == "Sailings: Version 1 is retired"
    assert mails[ADMIN.name] == "sailings 1 is retired"


def test_of_a_preview_for_invited_organizations_nothing_is_said_to_others(
    engine: Engine, settings: Settings, world: Session
) -> None:
    api = drafting.load_configuration(world).api("sailings")
    assert api is not None
    trial = Trial(invited=("tern-trips",))
    hidden = {"version": "3", "base_path": "/sailings/v3", "state": "draft", "trial": trial, "successor": ""}
    versions = (
        api.versions[0].model_copy(update={"successor": "3"}),
        api.versions[1],
        api.versions[1].model_copy(update=hidden),
    )
    drafting.save(world, COMMAND_LINE, "api", api.name, api.model_copy(update={"versions": versions}), "a third")
    rolling.roll_out(world, COMMAND_LINE, "production")
    told = set(world.exec(select(Announcement.title)))
    plan(world, "preview", version="3", due=True)
    plan(world, "retired", version="1", due=True)
    work(engine, settings, world)
    assert states(world) == {"1": "retired", "2": "published", "3": "preview"}
    assert set(world.exec(select(Announcement.title))) - told == {"Version 1 is retired"}
    entry = world.exec(select(Announcement).where(Announcement.title == "Version 1 is retired")).one()
    assert "Version 3" not in entry.text


def test_a_deprecation_that_was_planned_begins_on_its_day(engine: Engine, settings: Settings, world: Session) -> None:
    plan(world, "deprecated", version="2", due=True)
    work(engine, settings, world)
    api = rolling.running_configuration(world, "production").api("sailings")
    assert api is not None
    assert api.versions[1].deprecated_on == datetime.now(UTC).date()


def test_one_that_cannot_be_taken_any_more_is_told_and_holds_up_no_other(
    engine: Engine, settings: Settings, world: Session
) -> None:
    first, second = plan(world, "retired", due=True), plan(world, "deprecated", version="2", days=9, due=True)
    draft_with(world, "1", state="retired")
    rolling.roll_out(world, COMMAND_LINE, "production")
    world.commit()
    said = work(engine, settings, world)
    assert "sailings 1 did not become retired: it was retired already" in said[0]
    assert (first.standing, second.standing) == ("not possible", "taken")
    mails = {mail.subject: mail.text for mail in world.exec(select(Mail).where(Mail.to == ADMIN.name))}
    assert "it was retired already." in mails["sailings 1 did not become retired"]


def test_one_that_fails_for_any_other_reason_is_given_up_and_told(
    engine: Engine, settings: Settings, world: Session, monkeypatch: pytest.MonkeyPatch
) -> None:
    first, second = plan(world, "retired", due=True), plan(world, "deprecated", version="2", days=9, due=True)
    taking = planned.take

    def failing(session: Session, step: PlannedStep, portal: str) -> str:
        if step.version == "1":
            raise ValueError("the disk is full")
        return taking(session, step, portal)

    monkeypatch.setattr(planned, "take", failing)
    work(engine, settings, world)
    assert (first.standing, first.outcome) == ("not possible", "ValueError: the disk is full")
    assert second.standing == "taken"


def test_a_step_that_was_called_off_is_not_taken(engine: Engine, settings: Settings, world: Session) -> None:
    step = plan(world, "retired", due=True)
    planned.call_off(world, ADMIN, step)
    world.commit()
    assert work(engine, settings, world) == []
    assert states(world)["1"] == "deprecated"
    with pytest.raises(NotPossible, match="called off already"):
        planned.call_off(world, ADMIN, step)


@pytest.mark.parametrize(
    ("changes", "field", "words"),
    [
        ({"state": "deprecated"}, "state", "It is deprecated by"),
        ({"state": "draft"}, "state", "no state that can be planned"),
        ({"state": "preview"}, "state", "cannot become preview: subscribers still call it"),
        ({"state": "retired", "version": "9"}, "state", "sailings 9 does not run in production"),
        ({"state": "retired", "days": -1}, "at", "is past; choose a time to come"),
        ({"state": "retired", "days": 2000}, "at", "at most three years ahead"),
    ],
)
def test_a_step_that_could_never_be_taken_is_not_planned(
    world: Session, changes: dict[str, Any], field: str, words: str
) -> None:
    with pytest.raises(NotPossible, match=words) as raised:
        plan(world, **changes)
    assert raised.value.field == field


def test_steps_are_judged_one_after_the_other(world: Session) -> None:
    plan(world, "deprecated", version="2", days=30)
    plan(world, "retired", version="2", days=60)
    with pytest.raises(NotPossible, match="It is deprecated by"):
        plan(world, "deprecated", version="2", days=40)
    with pytest.raises(NotPossible, match="cannot become preview"):
        plan(world, "preview", version="2", days=70)


def test_a_version_stays_closed_since_the_rollout_that_deprecated_it(world: Session) -> None:
    def closed() -> dict[str, str | None]:
        rollout = rolling.running(world, "production")
        assert rollout is not None
        return {f"{v['api']} {v['version']}": v["closed_at"] for v in rollout.snapshot["versions"] if v["closed_at"]}

    since = closed()
    assert list(since) == ["sailings 1"]
    draft_with(world, "2", state="deprecated")
    rolling.roll_out(world, COMMAND_LINE, "production")
    assert closed()["sailings 1"] == since["sailings 1"]
    assert closed()["sailings 2"] is not None
    draft_with(world, "2", state="published")
    rolling.roll_out(world, COMMAND_LINE, "production")
    assert list(closed()) == ["sailings 1"]
