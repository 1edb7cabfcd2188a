"""Keys: Tamarack's own signing keys, and the key sets of outside issuers."""

from typing import Any

from flask import Blueprint, abort, current_app, request
from sqlmodel import col, func, select

from tamarack.console.page import acting, back_to, done, render, requires
from tamarack.core.identity.jose import keys_of_set
from tamarack.core.sign_in.tokens import ALGORITHMS
from tamarack.store.applications.tables import Credential
from tamarack.store.audit import log as auditing
from tamarack.store.keys import key_sets, signing
from tamarack.store.keys.key_set_table import KeySet
from tamarack.store.keys.signing_table import SigningKey
from tamarack.web.application import db, settings_of

pages = Blueprint("signing", __name__, url_prefix="/settings/keys")


def _keys_in(one: KeySet) -> list[str]:
    """The keys of a set in words: name and algorithm or type."""
    if one.jwks is None:
        return []
    return [f"{key.kid or 'without a name'} ({key.alg or key.curve or key.type})" for key in keys_of_set(one.jwks)]


@pages.get("/")
@requires("see")
def index() -> Any:
    in_force = select(func.count()).where(
        Credential.kind == "signed-key",
        col(Credential.revoked_at).is_(None),
        col(Credential.expires_at) > func.now(),
    )
    return render(
        "team/keys.html",
        tab="keys",
        own=signing.signing_keys(db()),
        token_keys=signing.signing_keys(db(), "token"),
        algorithms=ALGORITHMS,
        signed=db().exec(in_force).one(),
        sets=[(one, _keys_in(one)) for one in key_sets.key_sets(db())],
    )


@pages.post("/rotate")
@requires("secrets")
def rotate() -> Any:
    purpose: signing.Purpose = "token" if request.form.get("purpose") == "token" else "signed-key"
    algorithm = request.form.get("algorithm", ALGORITHMS[0])
    if algorithm not in ALGORITHMS:
        abort(400, f"{algorithm[:20]!r} is no algorithm that tokens are signed with.")
    made = signing.rotate(db(), acting(), settings_of(current_app).keys.credentials.sealing, purpose, algorithm)
    db().commit()
    done(f"{made.kid} signs from now on. What earlier keys signed is accepted until you retire them.")
    return back_to("signing.index")


@pages.post("/<name>/retire")
@requires("secrets")
def retire(name: str) -> Any:
    found = db().get(SigningKey, name)
    if found is None:
        abort(404, "There is no such signing key.")
    signing.retire(db(), acting(), found)
    db().commit()
    what = "Tokens" if found.purpose == "token" else "Keys"
    done(f"{name} is retired. {what} that it signed are refused within a second.")
    return back_to("signing.index")


@pages.post("/fetch")
@requires("secrets")
def fetch() -> Any:
    """Have a key set fetched now."""
    url = request.form.get("url", "")
    if db().get(KeySet, url) is None:
        abort(404, "No rollout uses that key set.")
    key_sets.ask(db(), url)
    auditing.record(db(), acting(), "fetch key set", url)
    db().commit()
    done("The key set is being fetched; look again in a second.")
    return back_to("signing.index")
