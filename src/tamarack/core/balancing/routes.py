"""The routes of a snapshot: what a backend's configuration becomes on a call's way."""

from __future__ import annotations

from collections.abc import Callable

from tamarack.core.balancing.capacity import Capacity, CapacityRules
from tamarack.core.balancing.route import Choice, KeyOfCall, Route, SignIn
from tamarack.core.balancing.target_state import TargetStates
from tamarack.core.balancing.time_limits import TimeLimits
from tamarack.core.carrying.call import Call
from tamarack.core.configuration.snapshot import SnapshotBackend
from tamarack.core.http.target import target_at
from tamarack.core.language_models.offered_models import models_at

SignsIn = Callable[[str], SignIn | None]
"""How the gateway signs in with a secret, by its name."""


def route_to(
    backend: SnapshotBackend, states: TargetStates, signs_in: SignsIn | None = None, now: float = 0.0
) -> Route:
    """The way to a backend. A target of which nothing is to be known has no state."""
    sign_in = signs_in(backend.sign_in_secret) if signs_in is not None else None
    fewest = backend.sharing == "to the fewest calls under way"
    knows = backend.breaker is not None or backend.health is not None or fewest
    choices = []
    for one in backend.targets:
        target = target_at(
            one.address, backend.connect_timeout_ms, backend.read_timeout_ms, backend.verify_tls,
            backend.authorities, backend.certificate_secret,
        )  # fmt: skip
        state = states.of(backend.name, target, backend.breaker, backend.health, now) if knows else None
        rules = CapacityRules(one.capacity, backend.kept_from, frozenset(backend.kept_for))
        capacity = Capacity(rules) if one.capacity else None
        models = models_at(backend.models, one.address)
        own = signs_in(one.secret) if signs_in is not None and one.secret else None
        choices.append(Choice(target, state, one.weight, one.priority, models, capacity, own))
    first, whole = backend.first_timeout_ms / 1000, backend.whole_timeout_ms / 1000
    limits = TimeLimits(first_s=first, whole_s=whole) if first or whole else None
    overflows = backend.turned_away == "ask the next target"
    return Route(choices, sign_in, fewest=fewest, key_of=_key_of(backend), limits=limits, overflows=overflows)


def _key_of(backend: SnapshotBackend) -> KeyOfCall | None:
    """What calls have in common that go to one target."""
    if backend.same_for == "the same caller":
        return _caller
    if backend.same_for == "the same value of a header":
        name = backend.same_header.encode()
        return lambda call: next((value for given, value in call.headers if given == name), b"")
    return None


def _caller(call: Call) -> bytes:
    return call.caller.application_id.encode() if call.caller is not None else call.address.encode()
