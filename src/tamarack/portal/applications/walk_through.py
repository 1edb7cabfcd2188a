"""The walk-through of a client: each step shown as a command and run from the page, with what came back filled in."""

from __future__ import annotations

import json
import time
from typing import Any

from flask import Blueprint, abort, current_app, request, url_for

from tamarack.core.configuration.effective import held, in_force
from tamarack.core.configuration.model import Api, Operation, Version
from tamarack.core.policies import kind_of
from tamarack.core.sign_in.protected import resource_of
from tamarack.core.sign_in.walk_through import PLACES, StepName, Walk, WalkStep, came_back, decoded, steps
from tamarack.core.text import line_problem
from tamarack.core.trying.credential_examples import Given
from tamarack.core.trying.examples import as_curl
from tamarack.portal.applications.going import Going, going_of
from tamarack.portal.catalogue.one_api import example_call, view_of
from tamarack.portal.often import MOST_A_MINUTE, too_often
from tamarack.portal.page import acting, back_to, done, my_application, offered, reader, render, requires
from tamarack.store.errors import NotPossible
from tamarack.store.sign_in import clients
from tamarack.store.sign_in.clients import CLIENT, CODE, REFRESH
from tamarack.store.sign_in.tables import Directory, SignInClient
from tamarack.web.application import db, settings_of, told_gateway
from tamarack.web.outgoing.own import ask_own

pages = Blueprint("walk_through", __name__, url_prefix="/applications/<id>/clients/<client>/walk-through")


def _client(id: str, client: str) -> SignInClient:
    application = my_application(id)
    found = db().get(SignInClient, client)
    if found is None or found.application_id != application.id or found.revoked_at is not None:
        abort(404, "There is no such client, or it is revoked.")
    return found


def _issuer(client: SignInClient) -> str:
    return f"{settings_of(current_app).sign_in_url}/{client.directory}"


def _own_address(client: SignInClient) -> str:
    """Where users are sent back to in a walk-through: a page here, in the application's place."""
    path = url_for("walk_through.back", id=client.application_id, client=client.id)
    return f"{settings_of(current_app).portal_url}{path}"


def _calls(client: SignInClient) -> dict[str, tuple[Api, Version, Operation, str]]:
    """The operations that take the client's tokens, each by its name, with the policy that takes them."""
    service, found = settings_of(current_app).sign_in_url, {}
    configuration = offered(client.environment)
    for api in configuration.apis:
        for version in api.versions:
            for operation in version.operations:
                for row in in_force(held(configuration, api, version, operation)):
                    kind = kind_of(row.policy)
                    if kind.names_resource and kind.issuer(row.policy, service) == _issuer(client):
                        key = f"{api.name}/{version.version} {operation.call}"
                        found[key] = (api, version, operation, row.policy.name)

    def first(pair: tuple[str, tuple[Api, Version, Operation, str]]) -> tuple[bool, bool, bool]:
        api, _, operation, _ = pair[1]
        asked = any(scope.name in client.scopes for scope in api.scopes)
        return operation.method != "get", "{" in operation.path, not asked

    return dict(sorted(found.items(), key=first))


def _walk(client: SignInClient, going: Going) -> Walk:
    """The walk as far as the reader has come."""
    calls = _calls(client)
    if going.chosen not in calls:
        going.chosen = next(iter(calls), "")
    chosen = calls.get(going.chosen)
    call, resource = None, ""
    if chosen is not None:
        api, version, operation, way = chosen
        given = Given(PLACES["access_token"], "")
        call = example_call(api, version, view_of(version, operation), client.environment, given, way)
        resource = resource_of(told_gateway(client.environment), version.base_path)
    signs_in = CODE in client.grants
    if going.scope is None:
        standard = ["openid", "profile"] if signs_in else []
        own = [scope.name for scope in chosen[0].scopes if scope.name in client.scopes] if chosen is not None else []
        stays = ["offline_access"] if signs_in and REFRESH in client.grants else []
        going.scope = " ".join([*standard, *own, *stays])
    return Walk(
        _issuer(client),
        client.id,
        client.confidential,
        signs_in,
        signs_in and REFRESH in client.grants,
        _own_address(client),
        going.scope,
        resource,
        call,
        going.verifier,
        going.state,
        going.nonce,
        going.values,
    )


def _wrong_with(back: dict[str, str], walk: Walk) -> str:
    """Why an application would not go on with what the browser came back with; empty where it would."""
    if "error" in back:
        return f"{back['error']}: {back.get('error_description', 'no more was said')}"
    if back.get("state") != walk.state:
        return "The state is not the one that was sent: this answer belongs to another request, and is not used."
    if back.get("iss") != walk.issuer:
        return "The issuer is not the one that was asked: this may be a mix-up of two servers, and is not used."
    return "" if back.get("code") else "There is no code."


def _page(client: SignInClient, going: Going, error: str = "") -> str:
    walk = _walk(client, going)
    tokens = [
        (name, value, decoded(value)) for name, value in going.values.items() if name in ("access_token", "id_token")
    ]
    return render(
        "applications/walk_through/page.html",
        application=my_application(client.application_id),
        client=client,
        directory=db().get_one(Directory, client.directory),
        walk=walk,
        steps=[(step, as_curl(step.call) if step.call is not None else "") for step in steps(walk)],
        going=going,
        calls=list(_calls(client)),
        registered=walk.redirect in client.redirects,
        tokens=[(name, value, [json.dumps(part, indent=2) for part in parts] if parts is not None else [])
                for name, value, parts in tokens],
        wrong=_wrong_with(going.back, walk) if going.back else "",
        places=PLACES,
        error=error,
        can_walk=CODE in client.grants or CLIENT in client.grants,
    )  # fmt: skip


@pages.get("/")
@requires("credentials")
def page(id: str, client: str) -> Any:
    found = _client(id, client)
    return _page(found, going_of(found))


@pages.get("/back")
@requires("credentials")
def back(id: str, client: str) -> Any:
    """Where the browser comes back to, in the application's place."""
    found = _client(id, client)
    going = going_of(found)
    names = ("code", "state", "iss", "error", "error_description")
    going.back = {name: request.args[name][:2_000] for name in names if name in request.args}
    walk = _walk(found, going)
    if not _wrong_with(going.back, walk):
        going.values = {name: value for name, value in going.values.items() if name == "secret"}
        going.values["code"] = going.back["code"]
        for name in [name for name in going.came if name != "discovery"]:
            del going.came[name]
    return back_to("walk_through.page", id=id, client=client, _anchor="exchange")


@pages.post("/register")
@requires("credentials")
def register(id: str, client: str) -> Any:
    """Register this page's address with the client, or take it off again."""
    found = _client(id, client)
    own = _own_address(found)
    rest = [one for one in found.redirects if one != own]
    redirects = rest if own in found.redirects else [*rest, own]
    try:
        clients.change_client(db(), acting(), found, clients.spec_of(found)._replace(redirects=redirects))
    except NotPossible as error:
        db().rollback()
        return _page(found, going_of(found), f"{error}."), 422
    db().commit()
    done("The address is registered." if own in redirects else "The address is registered no more.")
    return back_to("walk_through.page", id=id, client=client)


@pages.get("/for")
@requires("credentials")
def choose_here(id: str, client: str) -> Any:
    """The walk-through for a call that its page leads from."""
    found = _client(id, client)
    going, call = going_of(found), request.args.get("call", "")
    if call in _calls(found) and call != going.chosen:
        secret = going.values.get("secret", "")
        going = going_of(found, anew=True)
        going.chosen, going.scope = call, None
        going.values |= {"secret": secret} if secret else {}
    return back_to("walk_through.page", id=id, client=client)


@pages.post("/choose")
@requires("credentials")
def choose(id: str, client: str) -> Any:
    """Begin anew with another call, other scopes, or the client's secret."""
    found = _client(id, client)
    scope, secret = request.form.get("scope", "").strip(), request.form.get("secret", "").strip()
    if line_problem(scope) or len(scope) > 1_000 or line_problem(secret) or len(secret) > 200:
        return _page(found, going_of(found), "Write scopes with a blank between, and the secret as it was shown."), 422
    kept = going_of(found).values.get("secret", "")
    going = going_of(found, anew=True)
    call = request.form.get("call", "")
    going.chosen, going.scope = call, scope or None if "scope" in request.form else None
    if secret or kept:
        going.values["secret"] = secret or kept
    return back_to("walk_through.page", id=id, client=client)


@pages.post("/run/<step>")
@requires("credentials")
def run(id: str, client: str, step: StepName) -> Any:
    """Run one step, and fill what came back into those after it."""
    found = _client(id, client)
    going = going_of(found)
    one = next((one for one in steps(_walk(found, going)) if one.name == step and one.call is not None), None)
    if one is None or one.call is None:
        abort(404, "There is no such step.")
    if one.waits_for:
        return _page(found, going, f"This step waits for {PLACES[one.waits_for[0]]}."), 422
    if too_often(reader().id, time.monotonic()):
        return _page(found, going, f"You ran {MOST_A_MINUTE} steps in a minute. Wait a little."), 429
    going.came[step] = ask_own(one.call)
    _take_up(going, one)
    return back_to("walk_through.page", id=id, client=client, _anchor=step)


def _take_up(going: Going, step: WalkStep) -> None:
    came = going.came[step.name]
    if step.name in ("exchange", "refresh") and came.status == 200:
        going.values |= came_back(came.body)
        for name in ("call", "userinfo", "introspect", "revoke", "again"):
            going.came.pop(name, None)


@pages.post("/paste")
@requires("credentials")
def paste(id: str, client: str) -> Any:
    """Take up the answer of a command that was run elsewhere."""
    found = _client(id, client)
    going = going_of(found)
    text = request.form.get("answer", "")[:50_000]
    values = came_back(text[text.find("{") :])
    if not values:
        return _page(found, going, "That is no answer with a token: paste the JSON that the command printed."), 422
    going.values |= values
    return back_to("walk_through.page", id=id, client=client, _anchor="call")
