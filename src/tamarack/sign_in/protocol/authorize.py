"""The authorization endpoint: a user signs in, agrees, and is sent back with a code (RFC 6749, 4.1; OpenID Connect)."""

from typing import Any
from urllib.parse import parse_qsl, urlencode, urlsplit

from authlib.oauth2.rfc6749 import AccessDeniedError, OAuth2Error
from authlib.oidc.core.errors import ConsentRequiredError, InteractionRequiredError, LoginRequiredError
from flask import Blueprint, Response, abort, current_app, g, redirect, request, url_for

from tamarack.core.sign_in.redirects import origin_of
from tamarack.core.sign_in.scopes import STANDARD, asked_for, granted
from tamarack.sign_in.page import directory_named, issuer_of, me, render, to_do_first
from tamarack.sign_in.policy import leads_to
from tamarack.sign_in.protocol.client import Client, allowed_scopes
from tamarack.sign_in.protocol.pushed import check_request, read_request
from tamarack.sign_in.protocol.running import audience
from tamarack.store.applications.tables import Application
from tamarack.store.columns import now
from tamarack.store.people.tables import Organization
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in import log
from tamarack.store.sign_in.tables import Directory, PushedRequest, SignInClient
from tamarack.web.application import db
from tamarack.web.numbers import whole

pages = Blueprint("authorize", __name__)

_SIGNING_IN_S = 5
"""However new a sign-in has to be, it may be this old when the browser is back: else nobody ever got on."""


def _server() -> Any:
    return current_app.extensions["tamarack_oauth"]


def _with_issuer(response: Response, directory: Directory) -> Response:
    """An answer that sends a user back says who sends it, errors too (RFC 9207)."""
    where = response.location
    if where and "iss=" not in urlsplit(where).query:
        glue = "&" if urlsplit(where).query else "?"
        response.location = f"{where}{glue}{urlencode({'iss': issuer_of(directory)})}"
    response.headers["Cache-Control"] = "no-store"
    return response


def _refused(error: OAuth2Error, directory: Directory) -> Any:
    """Tell the client, where it is known where to; else the user, and nobody is sent anywhere."""
    if getattr(error, "redirect_uri", None):
        return _with_issuer(_server().handle_error_response(None, error), directory)
    words = error.description or error.error
    return render("refused.html", directory, words=words), 400


@pages.route("/<directory>/authorize", methods=["GET", "POST"])
def authorize(directory: str) -> Any:
    """Ask the user, where they have not agreed yet, and send them back."""
    found = g.directory = directory_named(directory)
    user = me(found)
    try:
        pushed = read_request()
        prompts = g.asked.get("prompt", "").split()
        grant = _server().get_consent_grant(end_user=user)
        back, client = grant.redirect_uri, grant.request.client
        check_request(client, back)
        if request.method == "POST" and user is not None and "answer" in request.form:
            return _answered(found, grant, user, client, pushed)
        if user is None or _has_to_sign_in_anew(prompts, pushed):
            if "none" in prompts:
                raise LoginRequiredError(redirect_uri=back)
            return redirect(url_for("door.form", directory=directory, next=_without_login()))
        first = to_do_first(found, user, request.full_path)
        if first is not None:
            if "none" in prompts:
                raise InteractionRequiredError(redirect_uri=back)
            return redirect(first)
        scopes = _scopes(client)
        agreed = granting.agreed(db(), user.id, client.id)
        if set(scopes) <= set(agreed) and agreed and "consent" not in prompts:
            return _sent_back(found, grant, user, pushed)
        if "none" in prompts:
            raise ConsentRequiredError(redirect_uri=back)
    except OAuth2Error as error:
        db().rollback()
        error.state = g.asked.get("state") if "asked" in g else None
        return _refused(error, found)
    return _asked(found, client, scopes, back)


def _scopes(client: Client) -> list[str]:
    """What is asked for, as far as the client may have it and it is good for anything at the resources named."""
    asked = granted(asked_for(g.asked.get("scope", "")), allowed_scopes(client.kept))
    return audience(client.kept.environment).scopes_for(g.resources, asked)


def _has_to_sign_in_anew(prompts: list[str], pushed: PushedRequest | None) -> bool:
    """Whether the client asks for a user who has only just signed in (OpenID Connect Core, 3.1.2.1)."""
    age = (now() - g.auth_at).total_seconds()
    longest = whole(g.asked.get("max_age", ""))
    if longest is not None and age > max(longest, _SIGNING_IN_S):
        return True
    return "login" in prompts and (pushed is None or g.auth_at < pushed.made_at)


def _without_login() -> str:
    """This request, to come back to when the user has signed in: asked for anew once is enough."""
    pairs = [(name, value) for name, value in parse_qsl(request.query_string.decode("latin-1"), keep_blank_values=True)]
    kept = [(name, "consent" if "consent" in value.split() else "") if name == "prompt" else (name, value)
            for name, value in pairs if name != "max_age"]  # fmt: skip
    return f"{request.path}?{urlencode([pair for pair in kept if pair != ('prompt', '')])}"


def _asked(directory: Directory, client: Client, scopes: list[str], back: str) -> Any:
    application = db().get(Application, client.kept.application_id)
    organization = db().get(Organization, application.organization_id) if application is not None else None
    leads_to([origin_of(back)])
    return render(
        "consent.html",
        directory,
        client=client.kept,
        organization=organization.title if organization is not None else "",
        said=[words_of(client.kept, scope) for scope in scopes],
        back=urlsplit(back).hostname or urlsplit(back).scheme,
    )


def words_of(client: SignInClient, scope: str) -> str:
    """What a scope lets a client do, in the words of the API's owner."""
    if scope in STANDARD:
        return STANDARD[scope]
    return audience(client.environment).words.get(scope, scope)


def _answered(directory: Directory, grant: Any, user: Any, client: Client, pushed: PushedRequest | None) -> Any:
    if to_do_first(directory, user, ""):
        abort(403, "Finish signing in first.")
    address = request.remote_addr or ""
    if request.form["answer"] != "allow":
        log.note(db(), directory.name, "let an application in", user=user, client=client.id, address=address,
                 why="the user did not agree", refused=True)  # fmt: skip
        if pushed is not None:
            db().delete(pushed)
        db().commit()
        raise AccessDeniedError(redirect_uri=grant.redirect_uri)
    scopes = _scopes(client)
    granting.agree(db(), user.id, client.id, scopes)
    log.note(db(), directory.name, "let an application in", user=user, client=client.id, address=address)
    return _sent_back(directory, grant, user, pushed)


def _sent_back(directory: Directory, grant: Any, user: Any, pushed: PushedRequest | None) -> Any:
    response = _server().create_authorization_response(grant_user=user, grant=grant)
    if pushed is not None:
        db().delete(pushed)  # a code came of it, and no other will
    db().commit()
    if response.status_code == 302:
        response.status_code = 303
    return _with_issuer(response, directory)
