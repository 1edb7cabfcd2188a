"""The step that finds out who calls: the ways of an operation, tried in their order.

The one whose credential is shown decides. Two credentials in one call are refused; a way that only finds that a token
is not its own yields to another that reads the same place. Every credential is taken off the call.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final, NamedTuple

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Step, Way
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.http.origins import site_called_from
from tamarack.core.identity.caller import Caller
from tamarack.core.life_cycle.trial import Trial

_REVOKED: Final = REASONS["revoked-credential"]
_EXPIRED: Final = REASONS["expired-credential"]
_SAYS_LITTLE: Final = frozenset(("wrong-issuer", "unknown-credential"))
"""Why a token is another's, or no key of ours: what the way that reads it further says is nearer to the mistake."""
_CREDENTIAL_ADDRESS: Final = Refusal(REASONS["credential-address"])
_CREDENTIAL_SITE: Final = Refusal(REASONS["credential-site"])
_APPLICATION_PAUSED: Final = Refusal(REASONS["application-paused"])


def identify(ways: Sequence[tuple[str, Way]], optional: bool = False) -> Step:
    """The step for some ways, each with its policy's name. Where it is `optional`, a call may show no credential."""
    challenges = tuple(dict.fromkeys((b"www-authenticate", way.challenge) for _, way in ways if way.challenge))
    asked = " or ".join(dict.fromkeys(way.asks for _, way in ways if way.asks))
    names = ", ".join(name for name, _ in ways)
    missing = (
        None
        if optional
        else Refusal(
            REASONS["no-credential"],
            challenges,
            names,
            f"{asked} is asked for" if asked else "",
            f"This operation needs a credential and the call carried none: send {asked}." if asked else "",
        )
    )
    doubled = Refusal(REASONS["doubled-credential"], policy=names)
    revoked = {name: Refusal(_REVOKED, challenges, name) for name, _ in ways}
    expired = {name: Refusal(_EXPIRED, challenges, name) for name, _ in ways}

    def settle(call: Call, found: Caller, name: str) -> Refusal | None:
        call.caller = found
        call.way = name
        if found.revoked:
            return revoked[name]
        if found.expires_at and found.expires_at <= call.now:
            return expired[name]
        if found.networks is not None and call.address not in found.networks:
            return _CREDENTIAL_ADDRESS
        if found.sites is not None and not found.sites.match(site_called_from(call.headers)):
            return _CREDENTIAL_SITE
        return None

    if len(ways) == 1:
        only_name, only_way = ways[0]
        only = only_way.identify

        def one_way(call: Call) -> Refusal | None:
            found = only(call)
            if found is None:
                return missing
            if type(found) is Refusal:
                return found
            return settle(call, found, only_name)  # type: ignore[arg-type]

        return one_way

    prepared = tuple((name, way.identify, way.place, way.of_connection) for name, way in ways)

    def any_way(call: Call) -> Refusal | None:
        shown: Caller | Refusal | None = None
        shown_at = way_name = ""
        yielding: Refusal | None = None
        yielding_at: list[str] = []
        for name, way, place, of_connection in prepared:
            before = call.headers
            found = way(call)
            if found is None:
                continue
            if type(found) is Refusal and found.yields:
                if yielding is None or yielding.reason.code in _SAYS_LITTLE:
                    yielding = found
                if not of_connection:
                    yielding_at.append(place)
                if place:
                    call.headers = before  # the next way reads the same place
                continue
            if shown is not None:
                return doubled
            shown, shown_at, way_name = found, place, name
        for take in takers:
            take(call)
        if shown is None:
            return yielding or missing
        if any(place != shown_at for place in yielding_at):
            return doubled
        if isinstance(shown, Refusal):
            return shown
        return settle(call, shown, way_name)

    takers = tuple(way.take_off for _, way in ways if way.place and way.strips)
    return any_way


def take_off(ways: Sequence[Way]) -> Step:
    """Credentials that are not asked for here are taken off all the same: they are not the backend's."""
    takers = tuple(way.take_off for way in ways)

    def step(call: Call) -> Refusal | None:
        for take in takers:
            take(call)
        return None

    return step


class Closed(NamedTuple):
    """That subscriptions made from a moment on (seconds since the epoch) do not cover a version."""

    since: float
    called: str
    """The version, as callers are told of it."""
    instead: str
    """What takes its place, as a sentence; empty for nothing."""


def subscribed(api: str, trial: Trial | None = None, closed: Closed | None = None) -> Step:
    """A subscription in force for this API: holds wherever a caller is identified.

    Where there is a `trial`, those whom it lets in need none; a `closed` version is not covered by newer ones.
    """
    missing = Refusal(REASONS["not-subscribed"], note=f"the application has no subscription to {api}")
    waiting = Refusal(REASONS["subscription-paused"], note=f"the application's subscription to {api} is paused")
    if trial is not None:
        return _on_trial(api, trial, missing, waiting)
    if closed is not None:
        return _before_closing(subscribed(api), closed)

    def step(call: Call) -> Refusal | None:
        caller = call.caller
        assert caller is not None
        if caller.paused:
            return _APPLICATION_PAUSED
        grant = caller.grants.get(api)
        if grant is None:
            return missing
        if grant.paused:
            return waiting
        call.grant = grant
        return None

    return step


def _on_trial(api: str, trial: Trial, missing: Refusal, waiting: Refusal) -> Step:
    """Whoever is subscribed calls under their plan, and those whom a trial lets in call all the same."""

    def step(call: Call) -> Refusal | None:
        caller = call.caller
        if caller is None:
            return None if not trial.invited else missing
        if caller.paused:
            return _APPLICATION_PAUSED
        grant = caller.grants.get(api)
        if grant is None or grant.paused:
            if trial.lets_in(caller.organization):
                return None
            return missing if grant is None else waiting
        call.grant = grant
        return None

    return step


def _before_closing(inner: Step, closed: Closed) -> Step:
    """What a subscription in force covers, where it was made before the version was closed to new ones."""
    since, called, instead = closed
    detail = f"{called} is deprecated, and subscriptions made since then do not cover it. {instead}".strip()
    late = Refusal(
        REASONS["not-subscribed"], note=f"the subscription was made after {called} was closed", detail=detail
    )

    def step(call: Call) -> Refusal | None:
        refusal = inner(call)
        if refusal is not None:
            return refusal
        grant = call.grant
        assert grant is not None
        if grant.since >= since:
            call.grant = None
            return late
        return None

    return step
