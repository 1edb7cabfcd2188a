"""One-time codes: by the RFC's own figures, asked for after the password, each good once, and lost devices."""

import re
import time

import pytest
from flask.testing import FlaskClient
from hypothesis import given
from hypothesis import strategies as st
from sqlmodel import Session

from sign_in.flow import address, allowed, exchange, let_in
from sign_in.passengers import PASSWORD, Passengers
from tamarack.core.identity.jose import peek
from tamarack.core.sign_in.one_time_codes import address_for, code_at, in_base32, matching_step, step_at
from tamarack.settings import Settings
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.sign_in import codes
from tamarack.store.sign_in.codes import CodeKeys
from tamarack.store.sign_in.tables import EndUser

SECRET = b"12345678901234567890"


@pytest.mark.parametrize(
    ("at", "code"),
    [(59, "287082"), (1_111_111_109, "081804"), (1_111_111_111, "050471"), (1_234_567_890, "005924"),
     (2_000_000_000, "279037"), (20_000_000_000, "353130")],
)  # fmt: skip
def test_codes_are_those_of_the_rfc(at: int, code: str) -> None:
    """RFC 6238, appendix B, the last six digits."""
    assert code_at(SECRET, step_at(at)) == code
    assert matching_step(SECRET, f" {code[:3]} {code[3:]}", at) == step_at(at)


@given(st.binary(min_size=20, max_size=20), st.integers(10**9, 4 * 10**9), st.integers(-4, 4))
def test_a_code_is_good_in_its_step_and_those_beside_it_and_never_twice(secret: bytes, now: int, away: int) -> None:
    typed = code_at(secret, step_at(now) + away)
    near = [code_at(secret, step_at(now) + step) for step in (-1, 0, 1)]
    found = matching_step(secret, typed, now)
    assert (found is not None) == (typed in near)
    if found is not None:
        assert matching_step(secret, typed, now, found) is None


@pytest.mark.parametrize("typed", ["", "28708", "2870820", "abcdef", "٢٨٧٠٨٢", "287082\x00", "9" * 500])
def test_anything_else_is_no_code(typed: str) -> None:
    assert matching_step(SECRET, typed, 59) is None


def test_a_device_reads_whose_account_it_is() -> None:
    said = address_for(SECRET, "Skerry passengers", "nell+x@holm.example")
    assert said.startswith("otpauth://totp/Skerry%20passengers:nell%2Bx@holm.example?secret=GEZDGNBV")
    assert in_base32(SECRET).startswith("GEZD GNBV ")


@pytest.fixture
def keys(settings: Settings) -> CodeKeys:
    return CodeKeys(settings.keys.raw("secrets"), settings.keys.raw("pepper"))


def asks_for_codes(world: Session, passengers: Passengers, how: str = "optional") -> None:
    passengers.directory.codes = how
    world.add(passengers.directory)
    world.commit()


def next_code(world: Session, user: EndUser, keys: CodeKeys) -> str:
    """The code of a step that was not used yet."""
    world.refresh(user)
    secret = codes.opened(user, user.code_secret, keys)
    return code_at(secret, max(step_at(time.time()), user.code_step + 1))


def turned_on(service: FlaskClient, world: Session, passengers: Passengers) -> tuple[bytes, list[str]]:
    """Codes set up on the user's page: the secret, and the spare codes."""
    asks_for_codes(world, passengers)
    let_in(service)
    page = service.get("/passengers/codes")
    shown = re.search(r"<code>([A-Z2-7 ]{39})</code>", page.text)
    assert shown is not None and "<svg" in page.text
    import base64

    secret = base64.b32decode(shown[1].replace(" ", ""))
    wrong = service.post("/passengers/codes", data={"code": "000000"})
    assert wrong.status_code == 422 and shown[1] in wrong.text, "the secret stays the same"
    done = service.post("/passengers/codes", data={"code": code_at(secret, step_at(time.time()))})
    assert done.status_code == 200
    return secret, re.findall(r"<code>([a-z2-9]{5}-[a-z2-9]{5})</code>", done.text)


def test_after_the_password_the_code_is_asked_for_and_tokens_say_so(
    service: FlaskClient, world: Session, passengers: Passengers, keys: CodeKeys
) -> None:
    secret, spare = turned_on(service, world, passengers)
    assert len(set(spare)) == 8
    kept = world.get_one(EndUser, passengers.user.id, populate_existing=True)
    assert secret.hex() not in kept.code_secret and spare[0] not in str(kept.spare_codes)
    service.post("/passengers/sign-out")
    answer = let_in(service)
    assert answer.location == "/passengers/code"
    assert service.get(address(passengers)).location.startswith("/passengers/sign-in"), "not signed in yet"
    used = code_at(secret, kept.code_step)
    assert service.post("/passengers/code", data={"code": used}).status_code == 422, "it was used to set them up"
    good = next_code(world, kept, keys)
    assert service.post("/passengers/code", data={"code": good}).status_code == 303
    back = service.post(address(passengers), data={"answer": "allow"}).location
    made = exchange(service, passengers, code=re.search("code=([^&]+)", back)[1]).json  # type: ignore[index]
    assert peek(made["id_token"].encode())[1]["amr"] == ["pwd", "otp"]


def test_without_codes_tokens_say_that_it_was_the_password_alone(service: FlaskClient, passengers: Passengers) -> None:
    made = exchange(service, passengers, code=allowed(service, passengers)["code"]).json
    assert peek(made["id_token"].encode())[1]["amr"] == ["pwd"]


def test_a_spare_code_lets_in_once_however_it_is_typed(
    service: FlaskClient, world: Session, passengers: Passengers
) -> None:
    _, spare = turned_on(service, world, passengers)
    for typed, status in ((f" {spare[3].upper()} ", 303), (spare[3], 422), (spare[4], 303)):
        service.post("/passengers/sign-out")
        let_in(service)
        assert service.post("/passengers/code", data={"code": typed}).status_code == status
    assert "6 spare codes" in service.get("/passengers/").text


def test_guesses_are_bounded_and_the_password_waits_ten_minutes(
    service: FlaskClient, world: Session, passengers: Passengers, settings: Settings
) -> None:
    turned_on(service, world, passengers)
    service.post("/passengers/sign-out")
    let_in(service)
    statuses = [service.post("/passengers/code", data={"code": "000000"}).status_code
                for _ in range(settings.sign_in_attempts + 1)]  # fmt: skip
    assert statuses == [422] * settings.sign_in_attempts + [429]
    with service.session_transaction() as session:
        session["half_in"] = session["half_in"] | {"at": time.time() - 601}
    assert service.get("/passengers/code").location == "/passengers/sign-in"


def test_a_directory_may_ask_everyone_and_nobody_gets_past(
    service: FlaskClient, world: Session, passengers: Passengers
) -> None:
    asks_for_codes(world, passengers, "required")
    let_in(service)
    for page in ("/passengers/", address(passengers), "/passengers/device"):
        assert service.get(page).location.startswith("/passengers/codes?next="), page
    answer = service.post(address(passengers), data={"answer": "allow"})
    assert answer.status_code == 403
    assert "error=interaction_required" in service.get(address(passengers, prompt="none")).location


def test_programs_show_a_code_too_when_they_change_a_password(
    service: FlaskClient, world: Session, passengers: Passengers, keys: CodeKeys
) -> None:
    turned_on(service, world, passengers)
    sent = {"email": "nell@holm.example", "password": PASSWORD, "new": "Kittiwake-Ledge-8"}
    answer = service.post("/passengers/password.json", json=sent)
    assert answer.status_code == 401 and "send a good one as code" in answer.json["detail"]
    good = next_code(world, passengers.user, keys)
    assert service.post("/passengers/password.json", json=sent | {"code": good}).status_code == 200


def test_codes_are_turned_off_by_a_last_one_or_by_staff(
    service: FlaskClient, world: Session, passengers: Passengers, keys: CodeKeys
) -> None:
    _, spare = turned_on(service, world, passengers)
    assert service.post("/passengers/codes/off", data={"code": "000000"}).status_code == 422
    assert service.post("/passengers/codes/off", data={"code": spare[0]}).status_code == 303
    assert not world.get_one(EndUser, passengers.user.id, populate_existing=True).has_codes
    turned_on(service, world, passengers)
    user = world.get_one(EndUser, passengers.user.id, populate_existing=True)
    codes.turned_off_by_staff(world, COMMAND_LINE, user)
    world.commit()
    assert service.get("/passengers/").location.startswith("/passengers/sign-in"), "every session has ended"
    assert let_in(service).location == "/passengers/"
