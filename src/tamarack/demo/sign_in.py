"""The passengers' directory of the demo: two passengers, and Tern Mobile, which signs them in."""

from sqlmodel import Session, select

from tamarack.core.sign_in.password_rules import PasswordRules
from tamarack.settings import Settings
from tamarack.store.applications.tables import Application
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.sign_in import clients, users

USER, PASSWORD = "n.holm@holm.example", "Puffin-Quay-52"
"""A passenger who has chosen a password."""
TEMPORARY = "Lantern-Pier-19"
"""What the other has yet to change."""


def open_sign_in(session: Session, settings: Settings) -> None:
    """Make the directory, its passengers, and a client for each environment of Tern Mobile."""
    rules = PasswordRules(shortest=12, digit=True)
    directory = users.make_directory(session, COMMAND_LINE, "passengers", "Skerry passengers", rules)
    directory.sign_up, directory.codes = True, "optional"
    session.add(directory)
    nell = users.make_user(session, COMMAND_LINE, directory, USER, "Nell Holm", TEMPORARY)
    users.change_password(session, nell, PASSWORD)
    users.set_facts(session, COMMAND_LINE, nell, ["frequent"], {"loyalty": "gold"})
    users.make_user(session, COMMAND_LINE, directory, "j.vik@vik.example", "Jon Vik", TEMPORARY)
    mobile = session.exec(select(Application).where(Application.name == "tern-mobile")).one()
    for environment in ("production", "test"):
        clients.make_client(
            session, COMMAND_LINE, mobile, directory, environment,
            clients.ClientSpec(
                "Tern Mobile",
                [clients.CODE, clients.REFRESH, clients.DEVICE],
                ["http://127.0.0.1/back", "example.tern-trips:/back"],
                ["fares:quote", "bookings:cancel"],
            ),
            settings.keys.raw("pepper"),
        )  # fmt: skip
