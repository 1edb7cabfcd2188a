"""Rolling out: the draft compiled, numbered and sent to an environment's nodes."""

from datetime import datetime
from typing import Any, NamedTuple

from sqlalchemy import func, text
from sqlalchemy.orm import defer
from sqlmodel import Session, col, select

from tamarack.core.configuration.model import Configuration, check_in, key_sets_used
from tamarack.core.configuration.snapshot import compile_snapshot
from tamarack.core.environments.named_in import unknown_environments
from tamarack.core.graphql.views.unfit import view_problems
from tamarack.core.life_cycle.states import impossible_steps
from tamarack.core.types import Problem
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.documents import queries as documents
from tamarack.store.draft.queries import dump, load_configuration
from tamarack.store.environments.queries import known
from tamarack.store.errors import NotPossible, StoreError
from tamarack.store.feed.wake import notify
from tamarack.store.keys import key_sets
from tamarack.store.portal import search as catalogue
from tamarack.store.rollouts.tables import Rollout
from tamarack.store.secrets import queries as secrets


class NotFit(StoreError):
    """The configuration has problems, so it is not rolled out."""

    def __init__(self, problems: list[Problem]) -> None:
        super().__init__("; ".join(problem.message for problem in problems))
        self.problems = problems


def running(session: Session, environment: str) -> Rollout | None:
    """The newest rollout to an environment. What it holds may be large, and is read when it is asked for."""
    query = select(Rollout).where(Rollout.environment == environment).order_by(col(Rollout.number).desc()).limit(1)
    large = (defer(col(Rollout.configuration)), defer(col(Rollout.snapshot)))  # type: ignore[arg-type]
    return session.exec(query.options(*large)).first()


def running_number(session: Session, environment: str) -> int:
    """The newest rollout's number; 0 before the first. Reads nothing of what it holds, which may be large."""
    return session.exec(select(func.max(Rollout.number)).where(Rollout.environment == environment)).one() or 0


def running_configuration(session: Session, environment: str) -> Configuration:
    """What runs in an environment; empty before the first rollout."""
    rollout = running(session, environment)
    return Configuration.model_validate(rollout.configuration) if rollout is not None else Configuration()


class Mark(NamedTuple):
    """Tells one rollout from every other, of another database too."""

    number: int
    made_at: datetime


def mark_of(rollout: Rollout) -> Mark:
    """The mark of a rollout that was made."""
    return Mark(rollout.number or 0, rollout.made_at)


def running_mark(session: Session, environment: str) -> Mark | None:
    """The mark of the newest rollout to an environment; cheap to ask for."""
    query = select(Rollout.number, Rollout.made_at).where(Rollout.environment == environment)
    found = session.exec(query.order_by(col(Rollout.number).desc()).limit(1)).first()
    return Mark(found[0] or 0, found[1]) if found is not None else None


def roll_out(session: Session, actor: Actor, environment: str, note: str = "") -> Rollout:
    """Send the draft to an environment.

    Raises `NotFit` where the draft has problems, or takes a version a step that it may not take from what runs.
    """
    lock(session)  # before the draft is read: what is sent is the draft as it is when its number is given
    return roll_out_this(session, actor, environment, load_configuration(session), note)


def roll_out_this(session: Session, actor: Actor, environment: str, configuration: Configuration, note: str) -> Rollout:
    """Send another configuration than the draft: what runs with a step of a version taken, or what runs elsewhere.

    Raises `NotFit`, as `roll_out` does. Whoever calls it holds `lock`, taken before they read what they send.
    """
    problems = unknown_environments(configuration, known(session))
    problems += impossible_steps(running_configuration(session, environment), configuration)
    if problems:
        raise NotFit(problems)
    return _send(session, actor, environment, configuration, note, None)


def roll_back(session: Session, actor: Actor, number: int) -> Rollout:
    """Send an earlier rollout's configuration to its environment again, under a new number."""
    lock(session)
    earlier = session.get(Rollout, number)
    if earlier is None:
        raise LookupError(f"there is no rollout {number}")
    configuration = Configuration.model_validate(earlier.configuration)
    note = f"back to rollout {number}"
    return _send(session, actor, earlier.environment, configuration, note, number)


def lock(session: Session) -> None:
    """One rollout at a time, so that numbers become visible in their order and no node skips one."""
    session.connection().execute(text("SELECT pg_advisory_xact_lock(hashtext('tamarack rollout'))"))


def _send(
    session: Session,
    actor: Actor,
    environment: str,
    configuration: Configuration,
    note: str,
    back_to: int | None,
) -> Rollout:
    if environment not in known(session):
        raise NotPossible(f"There is no environment {environment[:40]!r}; it was removed meanwhile.", "environment")

    def tree(sha256: str) -> dict[str, Any]:
        return documents.document_tree(session, sha256)

    problems = check_in(configuration, environment, secrets.facts_for(session, environment))
    problems += view_problems(configuration, tree)
    if problems:
        raise NotFit(problems)
    snapshot = compile_snapshot(
        configuration,
        environment,
        tree,
        closed_at(session, environment, configuration),
    )
    rollout = Rollout(
        environment=environment,
        configuration=dump(configuration),
        snapshot=snapshot.model_dump(mode="json"),
        note=note,
        back_to=back_to,
        made_by=actor.name,
    )
    session.add(rollout)
    session.flush()
    if environment == known(session).live:
        catalogue.index(session, configuration)
    action = "roll back" if back_to is not None else "roll out"
    auditing.record(session, actor, action, environment, number=rollout.number, note=note)
    key_sets.note_used(session, key_sets_used(configuration))
    notify(session)
    return rollout


def closed_since(rollout: Rollout) -> dict[tuple[str, str], datetime]:
    """Since when the deprecated versions of a rollout, by API and label, take no new subscribers."""
    return {
        (one["api"], one["version"]): datetime.fromisoformat(one["closed_at"])
        for one in rollout.snapshot.get("versions", ())
        if one.get("closed_at")
    }


def closed_at(session: Session, environment: str, configuration: Configuration) -> dict[tuple[str, str], datetime]:
    """Since when each deprecated version takes no new subscribers: since the rollout that deprecated it, or now."""
    earlier = running(session, environment)
    since = closed_since(earlier) if earlier is not None else {}
    moment = now()
    return {
        (api.name, version.version): since.get((api.name, version.version), moment)
        for api in configuration.apis
        for version in api.versions
        if version.state == "deprecated"
    }


def rollouts(session: Session, environment: str, most: int = 50) -> list[Rollout]:
    """The newest rollouts to an environment."""
    query = select(Rollout).where(Rollout.environment == environment)
    return list(session.exec(query.order_by(col(Rollout.number).desc()).limit(most)))


def before(session: Session, rollout: Rollout) -> Rollout | None:
    """The rollout to the same environment before one."""
    query = select(Rollout).where(Rollout.environment == rollout.environment, col(Rollout.number) < rollout.number)
    return session.exec(query.order_by(col(Rollout.number).desc()).limit(1)).first()
