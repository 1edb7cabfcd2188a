"""Signing in on a device without a keyboard (RFC 8628): the device asks, its user answers elsewhere, and all that is refused."""

from datetime import timedelta
from typing import Any

import pytest
from flask.testing import FlaskClient
from joserfc import jwt
from joserfc.jwk import KeySet
from sqlmodel import Session, select

from sign_in.passengers import PASSWORD, Passengers
from tamarack.sign_in.protocol.device import MOST_BEGUN
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.columns import now
from tamarack.store.sign_in import clients, devices, users
from tamarack.store.sign_in.clients import CODE, DEVICE, REFRESH, digest_of
from tamarack.store.sign_in.tables import Consent, DeviceRequest, Directory, SignInClient, SignInGrant

SCOPE = "openid profile berths:hold offline_access"
PAGE = "/passengers/device"


@pytest.fixture
def kiosk(world: Session, passengers: Passengers) -> SignInClient:
    """A public client that signs users in on devices."""
    passengers.phone.grants = [CODE, REFRESH, DEVICE]
    world.add(passengers.phone)
    world.commit()
    return passengers.phone


def begin(service: FlaskClient, client: SignInClient, **form: str) -> Any:
    return service.post("/passengers/device-authorization", data={"client_id": client.id, "scope": SCOPE} | form)


def ask(service: FlaskClient, client: SignInClient, code: str) -> Any:
    """The device asks how it stands."""
    return service.post(
        "/passengers/token", data={"grant_type": DEVICE, "client_id": client.id, "device_code": code}
    )  # fmt: skip


def answered(service: FlaskClient, code: str, answer: str = "allow") -> Any:
    """Nell signs in, types a code, and answers."""
    service.post("/passengers/sign-in", data={"email": "nell@holm.example", "password": PASSWORD})
    return service.post(PAGE, data={"user_code": code, "answer": answer})


def set_back(world: Session, seconds: float) -> None:
    """Let time pass for the one device that waits."""
    world.expire_all()
    waits = world.exec(select(DeviceRequest)).one()
    waits.expires_at -= timedelta(seconds=seconds)
    if waits.asked_at is not None:
        waits.asked_at -= timedelta(seconds=seconds)
    world.add(waits)
    world.commit()


def test_a_device_waits_until_its_user_lets_it_in(
    service: FlaskClient, world: Session, passengers: Passengers, kiosk: SignInClient
) -> None:
    begun = begin(service, kiosk)
    assert begun.status_code == 200 and begun.headers["Cache-Control"] == "no-store"
    made = begun.json
    assert (made["expires_in"], made["interval"]) == (600, 5)
    assert made["verification_uri"].endswith("/passengers/device")
    assert ask(service, kiosk, made["device_code"]).json["error"] == "authorization_pending"
    assert service.get(made["verification_uri_complete"]).location.startswith("/passengers/sign-in?next=")
    service.post("/passengers/sign-in", data={"email": "nell@holm.example", "password": PASSWORD})
    assert made["user_code"] in service.get(made["verification_uri_complete"]).text
    page = service.post(PAGE, data={"user_code": made["user_code"].lower().replace("-", " ")})
    for words in ("Tern Mobile", "of Tern Trips", "See your name", made["user_code"], "If someone sent you this code"):
        assert words in page.text
    assert "is let in" in answered(service, made["user_code"]).text
    got = ask(service, kiosk, made["device_code"])
    assert got.status_code == 200
    assert {"access_token", "refresh_token", "id_token"} <= set(got.json)
    keys = KeySet.import_key_set(service.get("/passengers/jwks.json").json)
    said = jwt.decode(got.json["id_token"], keys, algorithms=["ES256"]).claims
    assert (said["sub"], said["aud"], said["name"]) == (passengers.user.id, [kiosk.id], "Nell Holm")
    assert world.exec(select(Consent)).one().client_id == kiosk.id  # it is on her page, and can be taken back


def test_a_yes_is_used_once_and_a_second_use_ends_the_tokens(
    service: FlaskClient, world: Session, passengers: Passengers, kiosk: SignInClient
) -> None:
    made = begin(service, kiosk).json
    answered(service, made["user_code"])
    assert ask(service, kiosk, made["device_code"]).status_code == 200
    assert ask(service, kiosk, made["device_code"]).json["error"] == "expired_token"
    world.expire_all()
    assert world.exec(select(SignInGrant)).one().why == "a device code was used twice"


def test_a_user_who_does_not_allow_is_told_to_the_device(service: FlaskClient, kiosk: SignInClient) -> None:
    made = begin(service, kiosk).json
    assert "is not let in" in answered(service, made["user_code"], "deny").text
    assert ask(service, kiosk, made["device_code"]).json["error"] == "access_denied"
    assert answered(service, made["user_code"]).status_code == 422  # answered is answered


def test_a_device_that_asks_too_often_has_to_wait_longer_each_time(
    service: FlaskClient, world: Session, kiosk: SignInClient
) -> None:
    code = begin(service, kiosk).json["device_code"]
    ask(service, kiosk, code)
    assert ask(service, kiosk, code).json["error"] == "slow_down"
    set_back(world, 6)  # more than the five seconds it was told first, less than what it is now
    assert ask(service, kiosk, code).json["error"] == "slow_down"
    set_back(world, 16)
    assert ask(service, kiosk, code).json["error"] == "authorization_pending"


def test_a_code_is_over_after_ten_minutes_for_both(service: FlaskClient, world: Session, kiosk: SignInClient) -> None:
    made = begin(service, kiosk).json
    set_back(world, devices.LIVES.total_seconds())
    assert ask(service, kiosk, made["device_code"]).json["error"] == "expired_token"
    page = answered(service, made["user_code"])
    assert page.status_code == 422 and "No device waits with this code" in page.text


def test_codes_are_kept_as_digests(service: FlaskClient, world: Session, kiosk: SignInClient) -> None:
    made = begin(service, kiosk).json
    kept = str(world.exec(select(DeviceRequest)).one().model_dump())
    assert made["device_code"] not in kept and made["user_code"] not in kept


def test_nobody_else_uses_a_device_code(service: FlaskClient, passengers: Passengers, kiosk: SignInClient) -> None:
    made = begin(service, kiosk).json
    answered(service, made["user_code"])
    other = {"grant_type": DEVICE, "device_code": made["device_code"]}
    refused = service.post("/passengers/token", data=other, auth=(passengers.web.id, passengers.secret))
    assert refused.json["error"] == "unauthorized_client"
    assert ask(service, kiosk, "made-up").json["error"] == "invalid_grant"
    assert ask(service, kiosk, made["device_code"]).status_code == 200


def test_a_client_without_the_grant_begins_nothing(service: FlaskClient, passengers: Passengers) -> None:
    assert begin(service, passengers.phone).json["error"] == "unauthorized_client"
    assert begin(service, passengers.web).json["error"] == "invalid_client"  # its secret is not shown
    unknown = service.post("/passengers/device-authorization", data={"client_id": "nobody"})
    assert unknown.json["error"] == "invalid_client"


def test_the_code_of_another_directory_is_not_known(
    service: FlaskClient, world: Session, passengers: Passengers, kiosk: SignInClient
) -> None:
    users.make_directory(world, COMMAND_LINE, "crew", "Crew", passengers.directory.password_rules)
    world.commit()
    made = begin(service, kiosk).json
    crew = world.get(Directory, "crew")
    assert crew is not None
    user = users.make_user(world, COMMAND_LINE, crew, "ole@crew.example", "Ole", "Temporary-Pass-1")
    assert users.change_password(world, user, PASSWORD) == []
    world.commit()
    service.post("/crew/sign-in", data={"email": "ole@crew.example", "password": PASSWORD})
    assert service.post("/crew/device", data={"user_code": made["user_code"]}).status_code == 422


def test_guessing_codes_and_beginning_without_end_are_bounded(service: FlaskClient, kiosk: SignInClient) -> None:
    service.post("/passengers/sign-in", data={"email": "nell@holm.example", "password": PASSWORD})
    tried = [service.post(PAGE, data={"user_code": "BBBB-BBBB"}).status_code for _ in range(11)]
    assert tried[0] == 422 and tried[-1] == 429
    begun = [begin(service, kiosk).status_code for _ in range(MOST_BEGUN + 1)]
    assert begun[:-1] == [200] * MOST_BEGUN and begun[-1] == 429


def test_a_user_who_is_locked_after_the_yes_gives_nothing(
    service: FlaskClient, world: Session, passengers: Passengers, kiosk: SignInClient
) -> None:
    made = begin(service, kiosk).json
    answered(service, made["user_code"])
    users.set_active(world, COMMAND_LINE, passengers.user, False)
    world.commit()
    assert ask(service, kiosk, made["device_code"]).status_code == 400


def test_a_secret_is_replaced_with_an_overlap(world: Session, passengers: Passengers) -> None:
    pepper = b"p" * 32
    passengers.web.secret_digest = digest_of("first", pepper)
    second = clients.replace_secret(world, COMMAND_LINE, passengers.web, timedelta(days=1), pepper)
    assert clients.is_secret_of(passengers.web, "first", pepper) and clients.is_secret_of(
        passengers.web, second, pepper
    )
    passengers.web.old_secret_until = now() - timedelta(seconds=1)
    assert not clients.is_secret_of(passengers.web, "first", pepper)
    third = clients.replace_secret(world, COMMAND_LINE, passengers.web, timedelta(days=1), pepper)
    clients.end_old_secret(world, COMMAND_LINE, passengers.web)
    assert not clients.is_secret_of(passengers.web, second, pepper)
    assert clients.is_secret_of(passengers.web, third, pepper)
