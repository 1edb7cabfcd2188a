"""The mail box: a stand-in mail server (SMTP) that keeps what it is sent in memory, with a page to read it."""

import html
from collections import deque
from email import message_from_bytes, policy
from typing import Any

MOST = 500

_PAGE = """<!doctype html><html lang="en"><meta charset="utf-8"><title>Mail box</title>
<meta name="viewport" content="width=device-width">
<style>body{font:15px/1.5 sans-serif;max-width:46rem;margin:2rem auto;padding:0 1rem}
article{border-top:1px solid #bbb;padding:.8rem 0}h1{font-size:1.3rem}h2{font-size:1rem;margin:0}
p{margin:.2rem 0;color:#555}pre{white-space:pre-wrap;font:inherit;margin:.5rem 0 0}</style>
<h1>Mail box</h1><p>All mail that this installation sent since it started, the newest first.</p>%s"""


class MailBox:
    """A handler of the mail server, and an ASGI application that serves the page."""

    def __init__(self) -> None:
        self.mail: deque[tuple[str, str, str, str]] = deque(maxlen=MOST)

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        """Take a mail."""
        message = message_from_bytes(envelope.content, policy=policy.default)
        body = message.get_body(("plain",))
        text = body.get_content() if body is not None else ""
        date = str(message["date"] or "")
        self.mail.appendleft((", ".join(envelope.rcpt_tos), str(message["subject"] or ""), date, text))
        return "250 taken"

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        shown = "".join(
            f"<article><h2>{html.escape(subject)}</h2><p>to {html.escape(to)}, {html.escape(date)}</p>"
            f"<pre>{html.escape(text)}</pre></article>"
            for to, subject, date, text in self.mail
        )
        content = (_PAGE % (shown or "<p>No mail yet.</p>")).encode()
        fields = [(b"content-type", b"text/html; charset=utf-8"), (b"content-length", b"%d" % len(content))]
        await send({"type": "http.response.start", "status": 200, "headers": fields})
        await send({"type": "http.response.body", "body": content})
