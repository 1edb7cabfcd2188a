"""What runs in an environment, as far as tokens go; worked out once for each rollout."""

from __future__ import annotations

from functools import lru_cache

from flask import current_app

from tamarack.core.sign_in.audience import Audience, audience_in
from tamarack.store.rollouts import queries as rolling
from tamarack.web.application import db, settings_of, told_gateway


def audience(environment: str) -> Audience:
    """For whom tokens of an environment are made."""
    settings = settings_of(current_app)
    mark = rolling.running_mark(db(), environment)
    return _worked_out(settings.database, environment, mark, told_gateway(environment))


@lru_cache(maxsize=16)
def _worked_out(database: str, environment: str, mark: rolling.Mark | None, gateway: str) -> Audience:
    return audience_in(rolling.running_configuration(db(), environment), gateway)
