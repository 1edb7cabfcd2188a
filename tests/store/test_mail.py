"""Mail: nothing that people type becomes anything but text, and one mail that cannot go holds up no other."""

from collections.abc import Iterator
from email import message_from_bytes, policy
from typing import Any

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import Engine
from sqlmodel import Session, select

from helpers import free_port
from tamarack.core.identity.mail_address import email_problem
from tamarack.core.text import line_problem
from tamarack.settings import Settings
from tamarack.store.columns import now
from tamarack.store.mail.tables import Mail
from tamarack.worker.mail import message_of, send_mail

HOSTILE = "=?utf-8?q?hello=0D=0ABcc:_x@x.example=0D=0A=0D=0Abody?="


def mail(**changes: Any) -> Mail:
    return Mail(**({"id": 1, "to": "m.tern@tern-trips.example", "subject": "A title", "text": "Text"} | changes))


@given(st.text(max_size=200), st.text(max_size=200))
def test_whatever_subject_and_text_hold_they_are_subject_and_text(subject: str, text: str) -> None:
    raw = message_of(mail(subject=subject, text=text.replace("\r", "")), "tamarack@skerry.example").as_bytes()
    read = message_from_bytes(raw, policy=policy.default)
    assert sorted(read.keys()) == sorted(
        ["Content-Type", "MIME-Version", "Content-Transfer-Encoding", "From", "To", "Subject", "Date", "Message-ID"]
    )
    assert read["To"] == "m.tern@tern-trips.example"
    assert read.get_content().rstrip("\n") == text.replace("\r", "").encode("utf-8", "replace").decode().rstrip("\n")


def test_an_encoded_word_that_someone_typed_is_shown_as_it_was_typed() -> None:
    raw = message_of(mail(subject=f"{HOSTILE} asks to join"), "tamarack@skerry.example").as_bytes()
    assert message_from_bytes(raw, policy=policy.default)["Subject"] == f"{HOSTILE} asks to join"
    assert b"Bcc" not in raw.partition(b"\n\n")[0]


@pytest.mark.parametrize("wrong", ["a@[", "a@[127.0.0.1]", '"a\r\nb"@x.example', "a@b", "a b@x.example", "a@x.example,b@x.example",
                                   "<a@x.example>", "é@x.example", "a@x.example\n", "@x.example", "a@", "a" * 200 + "@x.example"])  # fmt: skip
def test_an_address_that_mail_does_not_reach_as_it_is_is_refused(wrong: str) -> None:
    assert email_problem(wrong)


@pytest.mark.parametrize("wrong", [HOSTILE, "a\nb", "a\x07b", "a\u2028b", "a\u202eb", "\x85"])
def test_a_line_holds_nothing_that_makes_it_another(wrong: str) -> None:
    assert "remove it" in line_problem(wrong) or "plain text" in line_problem(wrong)
    assert line_problem("Ærø & Søn = 100 % = ? =") == ""


class Box:
    """A mail server that refuses one address and drops the line at another."""

    def __init__(self) -> None:
        self.taken: list[str] = []

    async def handle_RCPT(self, server: Any, session: Any, envelope: Any, address: str, options: Any) -> str:
        if address.startswith("refused"):
            return "550 no such person"
        envelope.rcpt_tos.append(address)
        return "250 ok"

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        self.taken += envelope.rcpt_tos
        return "250 taken"


@pytest.fixture
def box() -> Iterator[tuple[Box, int]]:
    box, port = Box(), free_port()
    server = Controller(box, hostname="127.0.0.1", port=port)
    server.start()
    yield box, port
    server.stop()


def put(engine: Engine, *to: str) -> None:
    with Session(engine) as session:
        for one in to:
            session.add(Mail(to=one, subject="A title", text="Text"))
        session.commit()


def test_one_that_cannot_go_holds_up_no_other_and_none_goes_twice(
    engine: Engine, settings: Settings, box: tuple[Box, int]
) -> None:
    put(engine, "a@x.example", "a@[", "refused@x.example", "b@x.example\r\nBcc: c@x.example", "d@x.example")
    said: list[str] = []
    there = settings.model_copy(update={"mail_server": f"127.0.0.1:{box[1]}"})
    assert send_mail(engine, there, said.append) == 2
    assert box[0].taken == ["a@x.example", "d@x.example"]
    with Session(engine) as session:
        rows = session.exec(select(Mail).order_by(Mail.id)).all()  # type: ignore[arg-type]
        assert [(one.sent_at is not None, one.tries) for one in rows] == [
            (True, 0), (False, 1), (False, 1), (False, 1), (True, 0)]  # fmt: skip
        assert "is not an e-mail address" in rows[1].problem
        assert "no such person" in rows[2].problem
        for one in rows:
            one.next_try_at = now()
            session.add(one)
        session.commit()
    assert send_mail(engine, there, said.append) == 0
    assert box[0].taken == ["a@x.example", "d@x.example"]
    assert all("\n" not in line for line in said)


@pytest.mark.filterwarnings("ignore:Requiring AUTH")
def test_a_mail_server_may_ask_for_a_name_and_a_password(engine: Engine, settings: Settings) -> None:
    seen: list[tuple[bytes, bytes]] = []

    def check(server: Any, session: Any, envelope: Any, mechanism: str, given: Any) -> AuthResult:
        seen.append((given.login, given.password))
        return AuthResult(success=given.password == b"anchor")

    box, port = Box(), free_port()
    server = Controller(
        box, hostname="127.0.0.1", port=port, authenticator=check, auth_required=True, auth_require_tls=False
    )
    server.start()
    try:
        put(engine, "a@x.example")
        made = {"mail_server": f"127.0.0.1:{port}", "mail_user": "tamarack", "mail_password": "anchor"}
        assert send_mail(engine, Settings(**settings.model_dump() | made), print) == 1
    finally:
        server.stop()
    assert seen == [(b"tamarack", b"anchor")]
    assert "anchor" not in repr(Settings(**made))


@pytest.mark.parametrize(
    ("wrong", "words"),
    [
        ({"mail_server": "mail.skerry.example"}, "host and a port"),
        ({"mail_server": "mail.skerry.example:0"}, "host and a port"),
        ({"mail_server": "mail.skerry.example:587", "mail_user": "x"}, "in the open"),
    ],
)
def test_a_mail_server_that_cannot_be_asked_is_said_at_the_start(wrong: dict[str, str], words: str) -> None:
    with pytest.raises(ValueError, match=words):
        Settings(**wrong)  # type: ignore[arg-type]
