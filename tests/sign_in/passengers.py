"""A directory with one passenger, and clients of Tern Mobile: one that keeps a secret, and one that does not."""

from dataclasses import dataclass

import pytest
from sqlmodel import Session

from tamarack.core.sign_in.password_rules import PasswordRules
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.sign_in import clients, users
from tamarack.store.sign_in.clients import CLIENT, CODE, REFRESH, ClientSpec
from tamarack.store.sign_in.tables import Directory, EndUser, SignInClient

PASSWORD = "Gull-and-Tide-77"
BACK = "https://tern.example/back"


@dataclass
class Passengers:
    """What there is to sign in with."""

    directory: Directory
    user: EndUser
    web: SignInClient
    secret: str
    phone: SignInClient
    """A public client."""


@pytest.fixture
def passengers(world: Session, settings: Settings) -> Passengers:
    """The directory of passengers, with Nell Holm, who has chosen a password."""
    pepper = settings.keys.raw("pepper")
    directory = users.make_directory(world, COMMAND_LINE, "passengers", "Skerry passengers", PasswordRules(digit=True))
    user = users.make_user(world, COMMAND_LINE, directory, "nell@holm.example", "Nell Holm", "Temporary-Pass-1")
    assert users.change_password(world, user, PASSWORD) == []
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    made = subscribing.make_application(world, COMMAND_LINE, owner, "Tern Web")
    web, secret = clients.make_client(
        world, COMMAND_LINE, made, directory, "production",
        ClientSpec("Tern on the web", [CODE, CLIENT, REFRESH], [BACK], ["berths:hold"], True), pepper,
    )  # fmt: skip
    phone, _ = clients.make_client(
        world, COMMAND_LINE, made, directory, "production",
        ClientSpec("Tern Mobile", [CODE, REFRESH], ["http://127.0.0.1/back", "example.tern:/back"], ["berths:hold"]), pepper,
    )  # fmt: skip
    world.commit()
    return Passengers(directory, user, web, secret, phone)
