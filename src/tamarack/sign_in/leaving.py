"""Signing out by an application's wish (OpenID Connect RP-Initiated Logout 1.0)."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlencode, urlsplit

from flask import Blueprint, g, redirect, request, url_for

from tamarack.core.identity.jose import BadToken, keys_of_set, verify
from tamarack.core.sign_in.redirects import origin_of
from tamarack.core.sign_in.scopes import OFFLINE
from tamarack.core.sign_in.tokens import ALGORITHMS
from tamarack.sign_in.page import directory_named, issuer_of, me, render
from tamarack.sign_in.policy import leads_to
from tamarack.sign_in.protocol.client import Client, find_client
from tamarack.sign_in.protocol.keys import public_keys
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in import log
from tamarack.store.sign_in.tables import Directory, EndUser, SignInGrant
from tamarack.web.application import db
from tamarack.web.people.signed_in import leave

pages = Blueprint("leaving", __name__)
programs = Blueprint("leaving_for_programs", __name__)

_PASSED_ON = ("id_token_hint", "client_id", "post_logout_redirect_uri", "state")


class _Refused(Exception):
    """Why a request to sign out is not followed, in words for the user."""


class _Wish:
    """What an application asks for, checked."""

    def __init__(self, directory: Directory) -> None:
        values = request.args
        self.hint = _claims(directory, values.get("id_token_hint", ""))
        named = values.get("client_id", "")
        meant = next(iter(self.hint.get("aud") or ()), "")
        if named and meant and named != meant:
            raise _Refused("The application names another than the one that signed you in.")
        self.client: Client | None = find_client(named or meant)
        self.back = values.get("post_logout_redirect_uri", "")
        if self.back and (self.client is None or self.back not in self.client.kept.after_sign_out):
            raise _Refused("The application wants to send you to an address that it did not register.")
        state = values.get("state", "")
        if self.back and state:
            self.back += ("&" if urlsplit(self.back).query else "?") + urlencode({"state": state})

    def is_of(self, user: EndUser) -> bool:
        """Whether the application shows that it signed in this user."""
        return bool(self.hint) and self.hint.get("sub") == user.id


def _claims(directory: Directory, token: str) -> dict[str, Any]:
    """What an ID token of ours says, however old it is; nothing where it is none."""
    if not token:
        return {}
    try:
        claims = verify(token.encode("utf-8", "replace"), keys_of_set({"keys": public_keys()}), ALGORITHMS, named=True)
    except BadToken:
        raise _Refused("The application shows an ID token that was not made here.") from None
    if claims.get("iss") != issuer_of(directory) or not isinstance(claims.get("aud"), list):
        raise _Refused("The application shows an ID token that was not made here.")
    return claims


@pages.errorhandler(_Refused)
def refused(error: _Refused) -> Any:
    """The user reads why, and is sent nowhere."""
    return render("refused.html", g.directory, words=str(error)), 400


@programs.post("/<directory>/end-session")
def by_form(directory: str) -> Any:
    """The same request as a form of the application's: it goes on in the address, with the user's cookie."""
    directory_named(directory)
    asked: dict[str, Any] = {name: request.form[name] for name in _PASSED_ON if name in request.form}
    return redirect(url_for("leaving.page", directory=directory, **asked), code=303)


@pages.get("/<directory>/end-session")
def page(directory: str) -> Any:
    """Sign out at once where the application shows whom it signed in; else ask."""
    found = g.directory = directory_named(directory)
    wish = _Wish(found)
    user = me(found)
    if user is not None and not wish.is_of(user):
        leads_to([origin_of(wish.back)] if wish.back else [])
        return render("leaving/asks.html", found, client=wish.client.kept if wish.client is not None else None)
    return _left(found, user, wish)


@pages.post("/<directory>/end-session/yes")
def confirmed(directory: str) -> Any:
    """The user agrees."""
    found = g.directory = directory_named(directory)
    wish = _Wish(found)
    return _left(found, me(found), wish)


def _left(directory: Directory, user: EndUser | None, wish: _Wish) -> Any:
    grant = db().get(SignInGrant, str(wish.hint.get("grant", "")))
    if grant is not None and OFFLINE not in grant.scopes:
        granting.end_grant(db(), grant, "the user signed out")
    if user is not None:
        client = wish.client.id if wish.client is not None else ""
        log.note(db(), directory.name, "sign out", user=user, client=client, address=request.remote_addr or "")
    leave()
    db().commit()
    if wish.back:
        return redirect(wish.back, code=303)
    g.pop("user", None)
    return render("leaving/signed_out.html", directory)
