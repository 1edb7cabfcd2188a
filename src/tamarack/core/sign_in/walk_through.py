"""The walk-through of a client: every request from discovery to the end of the token, complete, as values come back.

A step is one request (`core.trying.examples` writes it as curl) or an address for the browser. What is not known yet
stands as a word in capitals, and the step waits for it.
"""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal
from urllib.parse import urlencode

from tamarack.core.identity.jose import BadToken, peek
from tamarack.core.trying.examples import ExampleCall

StepName = Literal["discovery", "authorize", "exchange", "call", "userinfo", "introspect", "refresh", "revoke", "again"]
Place = Literal["secret", "code", "access_token", "refresh_token"]
PLACES: Mapping[Place, str] = {
    "secret": "CLIENT_SECRET",
    "code": "CODE",
    "access_token": "ACCESS_TOKEN",
    "refresh_token": "REFRESH_TOKEN",
}
"""What stands in a command while a value has not come yet."""
_FORM = {"Content-Type": "application/x-www-form-urlencoded"}


@dataclass(frozen=True, slots=True)
class Walk:
    """What a walk-through goes by, and the values that have come so far."""

    issuer: str
    client: str
    confidential: bool
    signs_in: bool
    """Whether the client signs users in; else it asks for tokens for itself."""
    stays: bool
    """Whether it gets refresh tokens."""
    redirect: str = ""
    scope: str = ""
    resource: str = ""
    call: ExampleCall | None = None
    """A call of the API, which shows the token where `ACCESS_TOKEN` stands."""
    verifier: str = ""
    state: str = ""
    nonce: str = ""
    values: Mapping[str, str] = field(default_factory=dict)
    """What came back, by `Place`."""

    def value(self, place: Place) -> str:
        """A value, or what stands in its place."""
        return self.values.get(place) or PLACES[place]

    @property
    def challenge(self) -> str:
        """The verifier's challenge (RFC 7636, 4.2)."""
        hashed = hashlib.sha256(self.verifier.encode()).digest()
        return base64.urlsafe_b64encode(hashed).rstrip(b"=").decode()


@dataclass(frozen=True, slots=True)
class WalkStep:
    """One step: what it is for, its request or the address that a browser opens, and what it waits for."""

    name: StepName
    title: str
    words: str
    call: ExampleCall | None = None
    address: str = ""
    waits_for: tuple[Place, ...] = ()


def steps(walk: Walk) -> list[WalkStep]:
    """All steps in their order, filled in as far as values have come."""
    found = [_discovery(walk)]
    found += [_authorize(walk), _exchange(walk)] if walk.signs_in else [_for_itself(walk)]
    if walk.call is not None:
        shown = _with_token(walk.call, walk.value("access_token"))
        found.append(
            _step("call", "Call the API", "The gateway knows the application by the token, and its user.", shown)
        )
    if walk.signs_in and "openid" in walk.scope.split():
        asked = ExampleCall("GET", f"{walk.issuer}/userinfo", {"Authorization": f"Bearer {walk.value('access_token')}"})
        found.append(_step("userinfo", "Ask who the user is", "What the user agreed to tell, and no more.", asked))
    if walk.confidential:
        asked = _post(walk, "introspect", {"token": walk.value("access_token")})
        found.append(
            _step("introspect", "Ask whether the token is good", "For a server that takes tokens itself.", asked)
        )
    if walk.stays:
        again = {"grant_type": "refresh_token", "refresh_token": walk.value("refresh_token")}
        words = "A refresh token is good once: the answer holds the next one. Used twice, everything ends."
        found.append(_step("refresh", "Stay signed in", words, _post(walk, "token", again)))
    ending = _post(walk, "revoke", {"token": walk.value("access_token")})
    found.append(_step("revoke", "Give the token back", "Every token of the same grant ends with it.", ending))
    if walk.call is not None:
        shown = _with_token(walk.call, walk.value("access_token"))
        found.append(_step("again", "Call once more", "Within a second every node refuses the token: 401.", shown))
    return [_waiting(step, walk) for step in found]


def _step(name: StepName, title: str, words: str, call: ExampleCall) -> WalkStep:
    return WalkStep(name, title, words, call)


def _waiting(step: WalkStep, walk: Walk) -> WalkStep:
    """A step with what it waits for."""
    if step.call is None:
        return step
    text = json.dumps([step.call.url, dict(step.call.headers), step.call.body, step.call.basic])
    return replace(
        step, waits_for=tuple(place for place, word in PLACES.items() if word in text and place not in walk.values)
    )


def _discovery(walk: Walk) -> WalkStep:
    asked = ExampleCall("GET", f"{walk.issuer}/.well-known/openid-configuration")
    return _step(
        "discovery", "Read the metadata", "Where everything is. A library needs nothing but the issuer.", asked
    )


def _authorize(walk: Walk) -> WalkStep:
    asked = {
        "response_type": "code",
        "client_id": walk.client,
        "redirect_uri": walk.redirect,
        "scope": walk.scope,
        "state": walk.state,
        "nonce": walk.nonce,
        "code_challenge": walk.challenge,
        "code_challenge_method": "S256",
    } | ({"resource": walk.resource} if walk.resource else {})
    address = f"{walk.issuer}/authorize?{urlencode(asked)}"
    words = (
        "Your application sends the user's browser there; it comes back with a code that is good for a minute, once."
    )
    return WalkStep("authorize", "Send the user to sign in", words, address=address)


def _exchange(walk: Walk) -> WalkStep:
    form = {
        "grant_type": "authorization_code",
        "code": walk.value("code"),
        "redirect_uri": walk.redirect,
        "code_verifier": walk.verifier,
    }
    words = "The verifier shows that whoever has the code is who asked for it."
    return _step("exchange", "Turn the code into tokens", words, _post(walk, "token", form))


def _for_itself(walk: Walk) -> WalkStep:
    form = {"grant_type": "client_credentials"} | ({"scope": walk.scope} if walk.scope else {})
    if walk.resource:
        form["resource"] = walk.resource
    return _step("exchange", "Get a token", "The client calls for itself, for no user.", _post(walk, "token", form))


def _post(walk: Walk, endpoint: str, form: Mapping[str, str]) -> ExampleCall:
    """A request of the client, which shows who it is."""
    if walk.confidential:
        return ExampleCall("POST", f"{walk.issuer}/{endpoint}", _FORM, urlencode(form),
                           (walk.client, walk.value("secret")))  # fmt: skip
    return ExampleCall("POST", f"{walk.issuer}/{endpoint}", _FORM, urlencode(dict(form) | {"client_id": walk.client}))


def _with_token(call: ExampleCall, token: str) -> ExampleCall:
    headers = {name: value.replace(PLACES["access_token"], token) for name, value in call.headers.items()}
    return replace(call, headers=headers)


def came_back(text: str) -> dict[str, str]:
    """The values in an answer of the token endpoint; none where it holds none."""
    try:
        said = json.loads(text)
    except (ValueError, RecursionError):
        return {}
    if not isinstance(said, dict):
        return {}
    names = ("access_token", "refresh_token", "id_token")
    return {name: said[name] for name in names if isinstance(said.get(name), str) and said[name].isprintable()}


def decoded(token: str) -> tuple[dict[str, Any], dict[str, Any]] | None:
    """A token's header and what it says; None for an opaque one. Nothing is verified: it is only shown."""
    try:
        return peek(token.encode("utf-8", "replace"))
    except BadToken:
        return None
