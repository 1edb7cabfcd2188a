"""The life of versions: planned steps are taken when their time comes, and who waited for a preview is told."""

from collections.abc import Callable

from sqlalchemy import Engine
from sqlmodel import Session

from tamarack.settings import Settings
from tamarack.store.environments.queries import known
from tamarack.store.life_cycle import feedback, planned
from tamarack.store.life_cycle.tables import PlannedStep
from tamarack.store.rollouts import queries as rolling

Log = Callable[[str], None]


def take_next_step(engine: Engine, settings: Settings, log: Log) -> bool:
    """Take the next planned step whose time has come; whether there was one. One that fails stops no other."""
    with Session(engine) as session:
        step = planned.next_due(session)
        if step is None:
            return False
        id = step.id
        try:
            log(f"planned step {id}: {planned.take(session, step, settings.portal_url)}")
            session.commit()
        except Exception as error:  # whatever is wrong with it, those after it have their turn
            session.rollback()
            words = f"{type(error).__name__}: {error}".partition("\n")[0]
            log(f"planned step {id} failed: {words}")
            failed = session.get(PlannedStep, id, with_for_update=True)
            if failed is not None and failed.standing == "planned":
                planned.give_up(session, failed, words)
            session.commit()
        return True


class PublishedTeller:
    """Tells who waited for a preview when a rollout to the live environment publishes it."""

    def __init__(self, engine: Engine, settings: Settings, log: Log) -> None:
        self._engine = engine
        self._portal = settings.portal_url
        self._log = log
        self._seen = 0

    def look(self) -> None:
        """Look at the newest rollout, once."""
        with Session(self._engine) as session:
            live = known(session).live
            number = rolling.running_number(session, live)
            if number in (0, self._seen):
                return
            told = feedback.tell_of_published(session, rolling.running_configuration(session, live), self._portal)
            session.commit()
            if told:
                self._log(f"{told} told of published previews")
            self._seen = number
