"""The collector: a stand-in that takes records as OTLP logs, counts them, and can be told to fail.

Batches that come a second time are known by their number and counted once.
"""

import html
from collections import deque
from typing import Any
from urllib.parse import parse_qs

import orjson

from tamarack.core.traffic.otlp import BATCH, PATH

_PAGE = """<!doctype html><html lang="en"><meta charset="utf-8"><title>Collector</title>
<meta name="viewport" content="width=device-width">
<style>body{font:15px/1.5 sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem}
h1{font-size:1.3rem}code{font-size:.85rem}li{margin:.2rem 0}button{font:inherit;padding:.3rem .8rem}</style>
<h1>Collector</h1><p>%d records in %d batches were taken since it started; %d batches came again and were left out,
%d requests were answered with a failure.</p>
<form method="post" action="/failing"><input type="hidden" name="failing" value="%s"><button>%s</button></form>
<h2>The newest records</h2><ul>%s</ul>"""


class Collector:
    """An ASGI application."""

    def __init__(self) -> None:
        self.failing = False
        self.records = self.again = self.failed = 0
        self._batches: set[int] = set()
        self._newest: deque[str] = deque(maxlen=40)

    def take(self, body: bytes) -> None:
        """Take a request's batches. Raises ValueError, KeyError or TypeError where it is none."""
        for resource in orjson.loads(body)["resourceLogs"]:
            attributes = {one["key"]: one["value"] for one in resource["resource"]["attributes"]}
            number = int(attributes[BATCH]["intValue"])
            records = [record for scope in resource["scopeLogs"] for record in scope["logRecords"]]
            if number in self._batches:
                self.again += 1
                continue
            self._batches.add(number)
            self.records += len(records)
            self._newest.extendleft(str(record["body"]["stringValue"]) for record in records)

    def state(self) -> dict[str, Any]:
        """What it took so far."""
        return {"records": self.records, "batches": len(self._batches), "again": self.again, "failed": self.failed,
                "failing": self.failing}  # fmt: skip

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        body = b""
        while True:
            message = await receive()
            body += message.get("body", b"")
            if not message.get("more_body"):
                break
        status, kind, content = self._answer(scope["method"], scope["path"], body)
        fields = [(b"content-type", kind), (b"content-length", b"%d" % len(content))]
        if status == 303:
            fields.append((b"location", b"/"))
        await send({"type": "http.response.start", "status": status, "headers": fields})
        await send({"type": "http.response.body", "body": content})

    def _answer(self, method: str, path: str, body: bytes) -> tuple[int, bytes, bytes]:
        json = b"application/json"
        match method, path:
            case "POST", at if at == PATH:
                if self.failing:
                    self.failed += 1
                    return 503, json, b'{"message": "told to fail"}'
                try:
                    self.take(body)
                except (ValueError, KeyError, TypeError) as error:
                    return 400, json, orjson.dumps({"message": f"not OTLP logs: {error}"})
                return 200, json, b"{}"
            case "POST", "/failing":
                self.failing = parse_qs(body.decode()).get("failing") == ["yes"]
                return 303, b"text/plain", b""
            case "GET", "/state":
                return 200, json, orjson.dumps(self.state())
        listed = "".join(f"<li><code>{html.escape(one)}</code></li>" for one in self._newest) or "<li>None yet.</li>"
        switch = ("no", "Take records again") if self.failing else ("yes", "Fail from now on")
        page = _PAGE % (self.records, len(self._batches), self.again, self.failed, *switch, listed)
        return 200, b"text/html; charset=utf-8", page.encode()
