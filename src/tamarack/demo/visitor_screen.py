"""The museum's visitor screen: a sample page on an origin of its own that calls Sailings from the browser."""

import json
from pathlib import Path
from typing import Any

PAGE = (Path(__file__).parent / "pages" / "visitor_screen.html").read_text()


class VisitorScreen:
    """An ASGI application that serves the page, with the gateway's address and its own key in it."""

    def __init__(self, gateway: str, key_file: Path) -> None:
        self._gateway = gateway
        self._key_file = key_file

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        try:
            key = self._key_file.read_text()
        except OSError:
            key = ""
        text = PAGE.replace("GATEWAY_ADDRESS", json.dumps(self._gateway)).replace("OWN_KEY", json.dumps(key))
        content = text.encode()
        fields = [(b"content-type", b"text/html; charset=utf-8"), (b"content-length", b"%d" % len(content))]
        await send({"type": "http.response.start", "status": 200, "headers": fields})
        await send({"type": "http.response.body", "body": content})
