"""The code grant as a client and a browser go through it."""

import base64
import hashlib
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

from flask.testing import FlaskClient

from sign_in.passengers import BACK, PASSWORD, Passengers

VERIFIER = "v" * 64
CHALLENGE = base64.urlsafe_b64encode(hashlib.sha256(VERIFIER.encode()).digest()).rstrip(b"=").decode()
SCOPE = "openid profile berths:hold offline_access"


def address(passengers: Passengers, **changes: Any) -> str:
    asked = {
        "response_type": "code", "client_id": passengers.web.id, "redirect_uri": BACK, "scope": SCOPE, "state": "s1",
        "code_challenge": CHALLENGE, "code_challenge_method": "S256", "nonce": "n1",
    } | changes  # fmt: skip
    return "/passengers/authorize?" + urlencode({name: value for name, value in asked.items() if value is not None})


def let_in(service: FlaskClient, password: str = PASSWORD) -> Any:
    return service.post("/passengers/sign-in", data={"email": "nell@holm.example", "password": password})


def allowed(service: FlaskClient, passengers: Passengers, **changes: Any) -> dict[str, str]:
    """What the client is sent back with, after the user allowed it."""
    let_in(service)
    answer = service.post(address(passengers, **changes), data={"answer": "allow"})
    assert answer.status_code == 303, answer.text
    return {name: values[0] for name, values in parse_qs(urlsplit(answer.location).query).items()}


def exchange(service: FlaskClient, passengers: Passengers, **form: Any) -> Any:
    """A token request of the client that keeps a secret."""
    data = {"grant_type": "authorization_code", "redirect_uri": BACK, "code_verifier": VERIFIER} | form
    sent = {name: value for name, value in data.items() if value is not None}
    return service.post("/passengers/token", data=sent, auth=(passengers.web.id, passengers.secret))
