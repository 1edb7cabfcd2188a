"""Signing in on a device without a keyboard (RFC 8628): what the device asks, and the page where its user answers."""

from typing import Any

from authlib.oauth2.rfc6749 import InvalidGrantError, OAuth2Error, UnauthorizedClientError
from authlib.oauth2.rfc6749.errors import AccessDeniedError
from authlib.oauth2.rfc8628 import DeviceAuthorizationEndpoint, DeviceCodeGrant
from authlib.oauth2.rfc8628.errors import AuthorizationPendingError, ExpiredTokenError, SlowDownError
from flask import Blueprint, current_app, g, request

from tamarack.core.sign_in.scopes import asked_for, granted
from tamarack.sign_in.page import issuer_of, render, signed_in
from tamarack.sign_in.protocol.authorize import words_of
from tamarack.sign_in.protocol.client import Client, allowed_scopes
from tamarack.sign_in.protocol.keys import digest
from tamarack.sign_in.protocol.oauth import Code
from tamarack.sign_in.protocol.pushed import check_request
from tamarack.sign_in.protocol.running import audience
from tamarack.sign_in.protocol.tokens import resources_asked
from tamarack.store.applications.tables import Application
from tamarack.store.columns import now
from tamarack.store.people.attempts import TooManyAttempts, begin_attempt, succeeded
from tamarack.store.people.tables import Organization
from tamarack.store.sign_in import devices, log
from tamarack.store.sign_in.clients import DEVICE
from tamarack.store.sign_in.tables import (
    AuthorizationCode,
    DeviceRequest,
    Directory,
    EndUser,
    SignInClient,
    SignInGrant,
)
from tamarack.web.application import db, settings_of
from tamarack.web.people.waiting import wait_for_attempt

pages = Blueprint("device", __name__)

MOST_BEGUN = 60
"""Devices of one client that may begin to wait from one address within a quarter of an hour."""
_UNKNOWN = "No device waits with this code. Look at it again; a code is good for ten minutes, and once."
_TOO_MANY = "Too many codes that were not right. Try again in a quarter of an hour."


class _Busy(OAuth2Error):
    error = "temporarily_unavailable"
    description = "Too many devices began to wait from this address. Try again in a quarter of an hour."
    status_code = 429


class DeviceAuthorization(DeviceAuthorizationEndpoint):
    """A device begins to wait for its user (RFC 8628, 3.1)."""

    EXPIRES_IN = int(devices.LIVES.total_seconds())
    INTERVAL = devices.INTERVAL_S

    def authenticate_client(self, request: Any) -> Client:
        client: Client = super().authenticate_client(request)
        if not client.check_grant_type(DEVICE):
            raise UnauthorizedClientError("The client does not sign users in on devices.")
        return client

    def get_verification_uri(self) -> str:
        return f"{issuer_of(g.directory)}/device"

    def save_device_credential(self, client_id: str, scope: str | None, data: dict[str, Any]) -> None:
        kept = db().get_one(SignInClient, client_id)
        if not kept.confidential:  # anyone may ask in its name
            try:
                begin_attempt(db(), "device begins", client_id, request.remote_addr or "", MOST_BEGUN)
            except TooManyAttempts:
                raise _Busy from None
        g.asked, g.resources = {}, resources_asked()
        check_request(Client(kept), None)
        asked = granted(asked_for(scope or ""), allowed_scopes(kept))
        scopes = audience(kept.environment).scopes_for(g.resources, asked)
        codes = digest(data["device_code"]), _user_digest(data["user_code"])
        devices.begin(db(), kept, scopes, *codes, g.resources)


class _LetIn(Code):
    """A device that its user has let in, as Authlib asks for it."""

    def get_client_id(self) -> str:
        """See Authlib's DeviceCredentialMixin."""
        return self.grant.client_id


class DeviceGrant(DeviceCodeGrant):
    """A device asks how it stands, and gets its tokens once its user has let it in (RFC 8628, 3.4)."""

    def query_device_credential(self, device_code: str) -> _LetIn:
        """Who let the device in. How it stands is decided here, for the answer is given once."""
        found = db().get(DeviceRequest, digest(device_code))
        client = self.authenticate_token_endpoint_client()
        if found is None or found.client_id != client.get_client_id():
            raise InvalidGrantError("There is no such device code.")
        standing = devices.ask(db(), found)
        db().commit()  # whatever comes of this request
        if standing != "allowed":
            raise _TOLD[standing]()
        grant = db().get_one(SignInGrant, found.grant_id)
        code = AuthorizationCode(digest="", grant_id=grant.id, redirect_uri="", auth_at=found.auth_at or now())
        return _LetIn(code, grant)

    def validate_device_credential(self, credential: _LetIn) -> EndUser:
        """The user, who has to be one still."""
        user = db().get(EndUser, credential.grant.user_id)
        if user is None or not user.active or user.must_change_password:
            raise InvalidGrantError("The user has to sign in anew.")
        g.grant = credential.grant
        self.request.authorization_code = credential
        return user


_TOLD: dict[str, type[OAuth2Error]] = {
    "waiting": AuthorizationPendingError,
    "too soon": SlowDownError,
    "denied": AccessDeniedError,
    "over": ExpiredTokenError,
}


def _user_digest(typed: str) -> str:
    return digest(f"user code {devices.as_typed(typed)}")


@pages.route("/<directory>/device", methods=["GET", "POST"])
def page(directory: str) -> Any:
    """A user types the code that their device shows, reads what it asks for, and answers."""
    found, user = signed_in(directory)
    if request.method == "GET":
        return _code_page(found, request.args.get("user_code", "")[:20], "")
    typed = request.form.get("user_code", "")[:40]
    where, address = f"device {found.name}", request.remote_addr or ""
    try:
        wait_for_attempt(db(), where, user.id, address, settings_of(current_app).sign_in_attempts)
    except TooManyAttempts:
        return _code_page(found, typed, _TOO_MANY), 429
    waits = devices.waiting(db(), _user_digest(typed), found.name)
    if waits is None:
        return _code_page(found, typed, _UNKNOWN), 422
    succeeded(db(), where, user.id, address)
    if "answer" in request.form:
        return _answered(found, user, *waits)
    db().commit()
    return _asked(found, typed, *waits)


def _code_page(directory: Directory, typed: str, error: str) -> str:
    return render("device/code.html", directory, typed=typed, error=error)


def _asked(directory: Directory, typed: str, waits: DeviceRequest, client: SignInClient) -> str:
    application = db().get_one(Application, client.application_id)
    organization = db().get_one(Organization, application.organization_id)
    return render("device/asks.html", directory, client=client, organization=organization.title, typed=typed,
                  code="-".join((devices.as_typed(typed)[:4], devices.as_typed(typed)[4:])),
                  said=[words_of(client, scope) for scope in waits.scopes])  # fmt: skip


def _answered(directory: Directory, user: EndUser, waits: DeviceRequest, client: SignInClient) -> Any:
    allowed = request.form["answer"] == "allow"
    if not devices.answer(db(), waits, client, user, allowed, g.auth_at):
        db().rollback()
        return _code_page(directory, "", _UNKNOWN), 422
    why = "" if allowed else "the user did not agree"
    log.note(db(), directory.name, "let a device in", user=user, client=client.id, why=why, refused=not allowed,
             address=request.remote_addr or "")  # fmt: skip
    db().commit()
    return render("device/done.html", directory, client=client, allowed=allowed)
