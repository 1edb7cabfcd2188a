"""What clients ask of the service without a browser: tokens, revocation, introspection, keys, metadata, user facts."""

import base64
import binascii
import json
import re
from typing import Any
from urllib.parse import unquote

from flask import Blueprint, Response, current_app, g, jsonify, request

from tamarack.core.sign_in.scopes import OPENID, STANDARD, is_scope
from tamarack.core.sign_in.tokens import ALGORITHMS
from tamarack.sign_in.page import directory_named, issuer_of
from tamarack.sign_in.protocol.keys import public_keys
from tamarack.sign_in.protocol.running import audience
from tamarack.sign_in.protocol.tokens import facts_of, token_of
from tamarack.store.sign_in import log
from tamarack.store.sign_in.clients import CLIENT, CODE, DEVICE, GRANTS, REFRESH
from tamarack.store.sign_in.profile import CLAIMS
from tamarack.store.sign_in.tables import Directory, EndUser, SignInGrant
from tamarack.web.application import db, environments

pages = Blueprint("endpoints", __name__)

_NOT_SAID = re.compile(r"[^\x20-\x21\x23-\x5B\x5D-\x7E]|[<>]")
MOST_BYTES = 20_000
"""Of a request for a token."""
TOKEN_REQUESTS = {
    CODE: "get tokens for a user",
    REFRESH: "stay signed in",
    CLIENT: "get a token for itself",
    DEVICE: "get tokens for a device",
}
"""Token requests in the words of the sign-in log."""


@pages.after_request
def _open_to_browsers(answer: Response) -> Response:
    """Applications that run in a browser ask from other sites; what is asked here goes by no cookie (Fetch, 3.2)."""
    answer.headers["Access-Control-Allow-Origin"] = "*"
    answer.headers["Access-Control-Expose-Headers"] = "WWW-Authenticate, Retry-After"
    if request.method == "OPTIONS":  # a browser asks whether it may ask
        answer.headers["Access-Control-Allow-Methods"] = answer.headers.get("Allow", "GET, POST")
        answer.headers["Access-Control-Allow-Headers"] = "Authorization, Content-Type"
        answer.headers["Access-Control-Max-Age"] = "600"
    return answer


def _problem(error: str, words: str, status: int = 400) -> Response:
    answer = jsonify(error=error, error_description=words)
    answer.status_code = status
    answer.headers["Cache-Control"] = "no-store"
    if status == 401:
        answer.headers["WWW-Authenticate"] = 'Basic realm="sign-in service"'
    return answer


def _is_too_large() -> bool:
    return (request.content_length or 0) > MOST_BYTES


def _unfit() -> Response | None:
    """What Authlib lets pass: parameters in the address, or twice, and two clients in one request (RFC 6749, 3.2)."""
    if request.query_string:
        return _problem("invalid_request", "Parameters go in the body, not in the address.")
    if _is_too_large():
        return _problem("invalid_request", "The request is too large.")
    names = (name for name in request.form if name != "resource")  # which may be named again (RFC 8707, 2)
    twice = next((name for name in names if len(request.form.getlist(name)) > 1), None)
    if twice is not None:
        return _problem("invalid_request", "A parameter is sent twice.")
    if not is_scope(request.form.get("scope", "")):
        return _problem("invalid_scope", "The scope holds characters that no scope has.")
    basic = _basic_client()
    if basic and "client_secret" in request.form:
        return _problem("invalid_request", "The client shows its secret twice; send it once.")
    if basic and request.form.get("client_id", basic) != basic:
        return _problem("invalid_request", "Two clients are named; name one.")
    return None


def _basic_client() -> str:
    kind, _, value = request.headers.get("Authorization", "").partition(" ")
    if kind.lower() != "basic":
        return ""
    try:
        return unquote(base64.b64decode(value, validate=True).decode().partition(":")[0])
    except (binascii.Error, UnicodeDecodeError):
        return ""


def _asked(directory: str, answer: Any) -> Any:
    g.directory = directory_named(directory)
    unfit = _unfit()
    if unfit is not None:
        return unfit
    response = _plain(answer())
    if response.status_code in (200, 201):
        db().commit()
    else:
        db().rollback()
    response.headers["Cache-Control"] = "no-store"
    response.headers["Pragma"] = "no-cache"
    return response


def _plain(response: Response) -> Response:
    """An answer whose error's description has the characters that it may have, and no others (RFC 6749, 5.2)."""
    said = response.get_json(silent=True) if response.status_code >= 400 else None
    if isinstance(said, dict) and isinstance(said.get("error_description"), str):
        said["error_description"] = _NOT_SAID.sub("", said["error_description"])
        response.set_data(json.dumps(said))
    return response


@pages.post("/<directory>/token")
def token(directory: str) -> Any:
    """Tokens for a code, a refresh token, a device's code, or a client of its own (RFC 6749, 3.2)."""
    answer: Response = _asked(directory, current_app.extensions["tamarack_oauth"].create_token_response)
    said = answer.get_json(silent=True) or {}
    waits = said.get("error") in ("authorization_pending", "slow_down")  # a device that asks on
    if not waits and not _is_too_large():
        _note_token(directory, said)
    return answer


def _note_token(directory: str, said: dict[str, Any]) -> None:
    """What became of a token request, for the sign-in log."""
    grant: SignInGrant | None = None if "error" in said else g.get("granted")
    what = TOKEN_REQUESTS.get(request.form.get("grant_type", ""), "get a token")
    user = db().get(EndUser, grant.user_id) if grant is not None and grant.user_id else None
    why = ": ".join(str(said[name]) for name in ("error", "error_description") if said.get(name))
    log.note(db(), directory, what, user=user, client=_basic_client() or request.form.get("client_id", ""), why=why,
             refused="error" in said, address=request.remote_addr or "")  # fmt: skip
    db().commit()


@pages.post("/<directory>/device-authorization")
def device_authorization(directory: str) -> Any:
    """A device begins to wait for its user (RFC 8628, 3.1)."""
    return _asked(directory, lambda: current_app.extensions["tamarack_oauth"].create_endpoint_response(
        "device_authorization"))  # fmt: skip


@pages.post("/<directory>/par")
def push(directory: str) -> Any:
    """A client sends an authorization request ahead (RFC 9126)."""
    return _asked(directory, lambda: current_app.extensions["tamarack_oauth"].create_endpoint_response(
        "pushed_authorization_request"))  # fmt: skip


@pages.post("/<directory>/revoke")
def revoke(directory: str) -> Any:
    """A client is done with a token; all of its grant ends (RFC 7009)."""
    return _asked(directory, lambda: current_app.extensions["tamarack_oauth"].create_endpoint_response("revocation"))


@pages.post("/<directory>/introspect")
def introspect(directory: str) -> Any:
    """Whether a token is good, for the client that it was given to (RFC 7662)."""
    return _asked(directory, lambda: current_app.extensions["tamarack_oauth"].create_endpoint_response("introspection"))


@pages.route("/<directory>/userinfo", methods=["GET", "POST"])
def userinfo(directory: str) -> Any:
    """What the user agreed to tell (OpenID Connect Core, 5.3)."""
    g.directory = directory_named(directory)
    kind, _, value = request.headers.get("Authorization", "").partition(" ")
    found = token_of(value.strip()) if kind.lower() == "bearer" else None
    scopes = str(found.claims.get("scope", "")).split() if found is not None else []
    user = db().get(EndUser, found.grant.user_id) if found is not None and found.grant.user_id else None
    if user is None or not user.active or OPENID not in scopes:
        answer = _problem("invalid_token", "An access token of a user with the scope openid is needed.", 401)
        answer.headers["WWW-Authenticate"] = 'Bearer error="invalid_token"'
        return answer
    return jsonify(facts_of(user, scopes))


@pages.get("/<directory>/jwks.json")
def keys(directory: str) -> Any:
    """The public keys that tokens are verified with (RFC 7517)."""
    directory_named(directory)
    answer = jsonify(keys=public_keys())
    answer.headers["Cache-Control"] = "public, max-age=300"
    return answer


@pages.get("/.well-known/oauth-authorization-server/<directory>")
@pages.get("/<directory>/.well-known/openid-configuration")
@pages.get("/<directory>/.well-known/oauth-authorization-server")
def metadata(directory: str) -> Any:
    """What the service offers (RFC 8414; OpenID Connect Discovery)."""
    return jsonify(described(directory_named(directory)))


def described(directory: Directory) -> dict[str, Any]:
    """A directory's metadata."""
    issuer = issuer_of(directory)
    known = {one for environment in environments() for one in audience(environment).scopes}
    methods = ["client_secret_basic", "client_secret_post", "none"]
    return {
        "issuer": issuer,
        "authorization_endpoint": f"{issuer}/authorize",
        "token_endpoint": f"{issuer}/token",
        "device_authorization_endpoint": f"{issuer}/device-authorization",
        "pushed_authorization_request_endpoint": f"{issuer}/par",
        "revocation_endpoint": f"{issuer}/revoke",
        "introspection_endpoint": f"{issuer}/introspect",
        "userinfo_endpoint": f"{issuer}/userinfo",
        "jwks_uri": f"{issuer}/jwks.json",
        "response_types_supported": ["code"],
        "response_modes_supported": ["query"],
        "grant_types_supported": list(GRANTS),
        "code_challenge_methods_supported": ["S256"],
        "token_endpoint_auth_methods_supported": methods,
        "revocation_endpoint_auth_methods_supported": methods,
        "introspection_endpoint_auth_methods_supported": methods[:2],
        "authorization_response_iss_parameter_supported": True,
        "scopes_supported": [*STANDARD, *sorted(known)],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": list(ALGORITHMS),
        "end_session_endpoint": f"{issuer}/end-session",
        "claims_supported": ["sub", "name", *CLAIMS, "email", "email_verified"],
    }
