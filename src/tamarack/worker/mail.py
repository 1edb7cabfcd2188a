"""Mail: what waits is handed to the mail server (SMTP, RFC 5321); what it does not take waits longer each time."""

import smtplib
from collections.abc import Callable
from email.message import EmailMessage

from sqlmodel import Session

from tamarack.settings import Settings
from tamarack.store.mail import telling
from tamarack.store.mail.tables import Mail

TIMEOUT_S = 5.0

Log = Callable[[str], None]


def _message(mail: Mail, sender: str) -> EmailMessage:
    message = EmailMessage()
    message["From"], message["To"] = sender, mail.to
    message["Subject"] = " ".join(mail.subject.split())
    message["Date"] = mail.made_at
    message.set_content(mail.text)
    return message


def send_mail(session: Session, settings: Settings, log: Log) -> int:
    """Hand over what waits; returns how many were taken. Without a mail server all of it waits."""
    host, _, port = settings.mail_server.rpartition(":")
    if not host:
        return 0
    waiting = telling.waiting_mail(session)
    if not waiting:
        return 0
    sent = 0
    try:
        with smtplib.SMTP(host, int(port), timeout=TIMEOUT_S) as server:
            for mail in waiting:
                try:
                    server.send_message(_message(mail, settings.mail_from))
                except smtplib.SMTPException as error:
                    telling.note_not_sent(session, mail, f"{type(error).__name__}: {error}")
                    log(f"mail {mail.id} was not taken: {error}")
                else:
                    telling.note_sent(session, mail)
                    sent += 1
    except (OSError, smtplib.SMTPException) as error:
        for mail in waiting:
            if mail.sent_at is None:
                telling.note_not_sent(session, mail, f"{type(error).__name__}: {error}")
        log(f"the mail server {settings.mail_server} does not answer: {error}")
    return sent
