"""What is kept of a password, as the application keeps it: the other tests hash with little work."""

import runpy
from typing import Any

import pytest

from tamarack.store.people import passwords


@pytest.fixture(scope="module")
def kept() -> dict[str, Any]:
    """The module as it is where no test has changed it."""
    return runpy.run_path(passwords.__file__)


def test_guessing_what_is_kept_takes_as_much_work_as_is_recommended(kept: dict[str, Any]) -> None:
    """At least 19 MiB and two passes of Argon2id: what OWASP's password storage cheat sheet asks for."""
    hashed = kept["hash_password"]("island-hopper-52")
    _, kind, _, costs, _, _ = hashed.split("$")
    assert kind == "argon2id"
    assert costs == "m=19456,t=2,p=1"
    assert kept["verify_password"](hashed, "island-hopper-52")
    assert not kept["verify_password"](hashed, "island-hopper-53")


def test_an_account_that_is_not_there_takes_the_same_work_and_lets_nobody_in(kept: dict[str, Any]) -> None:
    nobody = kept["_NOBODY"]
    assert nobody.split("$")[3] == kept["hash_password"]("island-hopper-52").split("$")[3]
    for shown in ("", "no account has this password"):
        assert not kept["verify_password"](None, shown)
