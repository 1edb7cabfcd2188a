"""Planned steps: a version's state changed by the worker when its time comes, by a rollout of what runs then."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from sqlmodel import Session, col, select
from sqlmodel.sql.expression import SelectOfScalar

from tamarack.core.configuration.model import Api, Configuration, Version
from tamarack.core.life_cycle.ending import standing_successor
from tamarack.core.life_cycle.states import MEANING, STATES, why_not
from tamarack.core.life_cycle.stepping import stepped
from tamarack.store.announcements import queries as announcing
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import WORKER, Actor
from tamarack.store.columns import now
from tamarack.store.draft import queries as drafting
from tamarack.store.environments.queries import known
from tamarack.store.errors import NotPossible
from tamarack.store.life_cycle.tables import PlannedStep
from tamarack.store.mail.tables import Mail
from tamarack.store.rollouts import queries as rolling

FURTHEST = timedelta(days=3 * 366)
MOST_OPEN = 12
"""Steps of one version that wait."""


def plan(
    session: Session, actor: Actor, running: Configuration, environment: str, api: str, version: str, state: str,
    at: datetime,
) -> PlannedStep:  # fmt: skip
    """Plan a step of a version that runs. Raises `NotPossible` where it could never be taken."""
    found = running.api(api)
    inside = found.version(version) if found is not None else None
    if found is None or inside is None:
        raise NotPossible(f"{api} {version} does not run in {environment}; roll it out first.", "state")
    if state not in STATES or state == "draft":
        raise NotPossible(f"{state[:40]!r} is no state that can be planned.", "state")
    if at <= now():
        raise NotPossible(f"{at:%Y-%m-%d %H:%M} UTC is past; choose a time to come.", "at")
    if at > now() + FURTHEST:
        raise NotPossible(f"{at:%Y-%m-%d} is too far away; plan at most three years ahead.", "at")
    waiting = open_steps(session, api, version, environment)
    if len(waiting) >= MOST_OPEN:
        raise NotPossible(f"{MOST_OPEN} steps wait already; call one off first.", "at")
    if any(one.at == at for one in waiting):
        raise NotPossible(f"Another step is planned for {at:%Y-%m-%d %H:%M} UTC; choose another time.", "at")
    made = PlannedStep(api=api, version=version, state=state, environment=environment, at=at, made_by=actor.name)
    was = str(inside.state)
    for one in sorted([*waiting, made], key=lambda step: step.at):
        if one.state == was:
            raise NotPossible(
                f"It is {was} by {one.at:%Y-%m-%d} already; choose another state, or another time.", "state"
            )
        reason = why_not(was, one.state)  # type: ignore[arg-type]
        if reason:
            raise NotPossible(f"On {one.at:%Y-%m-%d} it is {was} and cannot become {one.state}: {reason}.", "state")
        was = one.state
    session.add(made)
    auditing.record(session, actor, "plan step", f"{api} {version}", state=state, at=at.isoformat(), to=environment)
    session.flush()
    return made


def call_off(session: Session, actor: Actor, step: PlannedStep) -> None:
    """A planned step is not taken."""
    if step.standing != "planned":
        raise NotPossible(f"This step is {step.standing} already.")
    step.standing, step.settled_at, step.settled_by = "called off", now(), actor.name
    session.add(step)
    auditing.record(session, actor, "call step off", f"{step.api} {step.version}", state=step.state)


def open_steps(session: Session, api: str, version: str = "", environment: str = "") -> Sequence[PlannedStep]:
    """The steps of an API (a version, an environment) that wait, the next first."""
    query = select(PlannedStep).where(PlannedStep.api == api, PlannedStep.standing == "planned")
    if version:
        query = query.where(PlannedStep.version == version)
    if environment:
        query = query.where(PlannedStep.environment == environment)
    return session.exec(query.order_by(col(PlannedStep.at))).all()


def settled_steps(session: Session, api: str, most: int = 10) -> Sequence[PlannedStep]:
    """The steps of an API that were taken, called off, or not possible, the newest first."""
    query = select(PlannedStep).where(PlannedStep.api == api, PlannedStep.standing != "planned")
    return session.exec(query.order_by(col(PlannedStep.settled_at).desc()).limit(most)).all()


def due_steps() -> SelectOfScalar[PlannedStep]:
    """The steps whose time has come."""
    return select(PlannedStep).where(PlannedStep.standing == "planned", col(PlannedStep.at) <= now())


def next_due(session: Session) -> PlannedStep | None:
    """The first step whose time has come, locked against a second worker."""
    first = due_steps().order_by(col(PlannedStep.at)).limit(1)
    return session.exec(first.with_for_update(skip_locked=True)).first()


def take(session: Session, step: PlannedStep, portal: str) -> str:
    """Take a step whose time has come, and tell of it; returns what was done, in words.

    What runs is rolled out anew with this step alone, and the draft follows where it says the same as what runs. A
    step that cannot be taken any more is settled as not possible, and whoever planned it is told.
    """
    called = f"{step.api} {step.version}"
    actor = Actor(step.made_by, WORKER.door)
    try:
        with session.begin_nested():
            rollout, api, version = _roll_out(session, actor, step)
    except (NotPossible, rolling.NotFit) as error:
        _settle(session, step, "not possible", str(error))
        _tell_planner(session, step, f"{called} did not become {step.state}", f"{error}.")
        return f"{called} did not become {step.state}: {error}"
    step.rollout = rollout
    _settle(session, step, "taken", "")
    _announce(session, step, api, version, portal)
    _tell_planner(session, step, f"{called} is {step.state}", f"Rollout {rollout} took the step that you planned.")
    return f"{called} is {step.state} by rollout {rollout}"


def give_up(session: Session, step: PlannedStep, why: str) -> None:
    """A step that failed for no reason of its own is not tried for ever; whoever planned it is told."""
    _settle(session, step, "not possible", why)
    _tell_planner(
        session, step, f"{step.api} {step.version} did not become {step.state}", f"{why}. Take the step by hand."
    )


def _roll_out(session: Session, actor: Actor, step: PlannedStep) -> tuple[int, Api, Version]:
    rolling.lock(session)
    running = rolling.running_configuration(session, step.environment)
    api = running.api(step.api)
    version = api.version(step.version) if api is not None else None
    if api is None or version is None:
        raise NotPossible(f"it does not run in {step.environment} any more")
    if version.state == step.state:
        raise NotPossible(f"it was {step.state} already")
    day = step.at.astimezone(UTC).date()
    changed = stepped(api, version, step.state, day)  # type: ignore[arg-type]
    configuration = running.model_copy(
        update={"apis": tuple(changed if one.name == api.name else one for one in running.apis)}
    )
    note = f"planned: {api.title} {version.version} becomes {step.state}"
    rollout = rolling.roll_out_this(session, actor, step.environment, configuration, note)
    drafted = drafting.load_configuration(session).api(step.api)
    same = drafted.version(step.version) if drafted is not None else None
    if drafted is not None and same is not None and same.state == version.state:
        drafting.save(session, actor, "api", step.api, stepped(drafted, same, step.state, day), note)  # type: ignore[arg-type]
    now_is = changed.version(step.version)
    assert rollout.number is not None
    assert now_is is not None
    return rollout.number, changed, now_is


def _settle(session: Session, step: PlannedStep, standing: str, outcome: str) -> None:
    step.standing, step.settled_at, step.settled_by, step.outcome = standing, now(), WORKER.name, outcome[:500]
    session.add(step)


def _announce(session: Session, step: PlannedStep, api: Api, version: Version, portal: str) -> None:
    """An entry in the API's change log, and mail to whom it concerns; other environments are the team's own.

    Of a preview for invited organizations nothing is said: others do not see it.
    """
    if step.environment != known(session).live or version.by_invitation:
        return
    running = rolling.running_configuration(session, step.environment)
    title = f"Version {version.version} is {version.state}"
    readers = "everyone" if version.state in ("published", "preview") else "subscribers"
    text = f"Version {version.version} of {api.title} is {version.state} now. {MEANING[version.state].callers}"
    successor = standing_successor(api, version)
    if successor is not None:
        text += f" Version {successor.version} at `{successor.base_path}` takes its place."
    announcing.announce(session, WORKER, running, api.name, version.version, title, text, readers, True, portal)


def _tell_planner(session: Session, step: PlannedStep, subject: str, text: str) -> None:
    if "@" in step.made_by:
        session.add(Mail(to=step.made_by, subject=subject, text=f"{text}\n"))
