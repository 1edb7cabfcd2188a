"""Mail: what waits is handed to the mail server (SMTP, RFC 5321); what it does not take waits longer each time.

Each mail is a transaction of its own: what was handed over is noted before the next one is tried, and one that cannot
be written or is not taken holds up no other.
"""

import smtplib
import ssl
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from email.header import Header
from email.mime.text import MIMEText
from email.utils import format_datetime, make_msgid

from sqlalchemy import Engine
from sqlmodel import Session

from tamarack.core.identity.mail_address import email_problem
from tamarack.core.text import one_line
from tamarack.settings import Settings
from tamarack.store.mail import telling
from tamarack.store.mail.tables import Mail

TIMEOUT_S = 5.0
A_ROUND = 50
"""Mails that are handed over on one connection."""

Log = Callable[[str], None]


class CannotBeSent(ValueError):
    """A mail that no mail server could take as it is."""


def message_of(mail: Mail, sender: str) -> MIMEText:
    """A mail as it goes out. Nothing in it is read as anything but text: the subject is encoded here."""
    wrong = email_problem(mail.to)
    if wrong:
        raise CannotBeSent(wrong)
    message = MIMEText(mail.text, "plain", "utf-8")
    subject = one_line(" ".join(mail.subject.split()))
    plain = subject.isascii() and "=?" not in subject
    message["From"], message["To"] = sender, mail.to
    message["Subject"] = Header(subject, "us-ascii" if plain else "utf-8", header_name="Subject").encode()
    message["Date"] = format_datetime(mail.made_at)
    message["Message-ID"] = make_msgid(str(mail.id), sender.rpartition("@")[2] or "localhost")
    return message


@contextmanager
def _server(settings: Settings) -> Iterator[smtplib.SMTP]:
    """A connection to the mail server, secured and signed in as the settings say."""
    host, port = settings.mail_host
    context = ssl.create_default_context()
    if settings.mail_security == "tls":
        server: smtplib.SMTP = smtplib.SMTP_SSL(host, port, timeout=TIMEOUT_S, context=context)
    else:
        server = smtplib.SMTP(host, port, timeout=TIMEOUT_S)
    with server:
        if settings.mail_security == "starttls":
            server.starttls(context=context)
        if settings.mail_user:
            server.login(settings.mail_user, settings.mail_password.get_secret_value())
        yield server


def send_mail(engine: Engine, settings: Settings, log: Log) -> int:
    """Hand over what waits; returns how many were taken. Without a mail server all of it waits."""
    if not settings.mail_server:
        return 0
    with Session(engine) as session:
        waiting = [mail.id for mail in telling.waiting_mail(session, A_ROUND)]
    if not waiting:
        return 0
    sent = 0
    try:
        with _server(settings) as server:
            for id in waiting:
                sent += _send(engine, settings, server, id, log)
    except (OSError, smtplib.SMTPException) as error:
        with Session(engine) as session:
            for mail in telling.waiting_mail(session, A_ROUND):
                telling.note_not_sent(session, mail, _said(error))
            session.commit()
        log(f"the mail server {settings.mail_server} does not answer: {_said(error)}")
    return sent


def _send(engine: Engine, settings: Settings, server: smtplib.SMTP, id: int | None, log: Log) -> bool:
    """Hand one mail over, and note at once what came of it. Raises where the connection is lost."""
    with Session(engine) as session:
        mail = telling.waiting_one(session, id)
        if mail is None:
            return False  # another worker has it, or had it
        taken = False
        try:
            server.send_message(message_of(mail, settings.mail_from))
            telling.note_sent(session, mail)
            taken = True
        except Exception as error:
            telling.note_not_sent(session, mail, _said(error))
            session.commit()
            lost = isinstance(error, smtplib.SMTPServerDisconnected) or not isinstance(error, smtplib.SMTPException)
            if lost and isinstance(error, OSError):  # smtplib's own errors are OSErrors too
                raise
            log(f"mail {id} was not taken: {_said(error)}")  # whatever is wrong with it, it is this mail's
        session.commit()
        return taken


def _said(error: Exception) -> str:
    return one_line(f"{type(error).__name__}: {error}")[:300]
