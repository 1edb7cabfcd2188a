"""An example call as text that runs as it stands: curl, Python, JavaScript."""

import json
import shlex
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True, slots=True)
class ExampleCall:
    """A request to show: method in capitals, whole address with query, header fields, body as text."""

    method: str
    url: str
    headers: Mapping[str, str] = field(default_factory=dict)
    body: str = ""
    basic: tuple[str, str] | None = None
    """A user's name and password to sign in with (RFC 7617); nobody has to encode them by hand."""
    certificate: bool = False
    """Whether a certificate is shown over TLS, from two files."""


CERTIFICATE, KEY = "your-certificate.pem", "your-key.pem"
"""The files of an example that shows a certificate."""


def as_curl(call: ExampleCall) -> str:
    """A command line for a POSIX shell."""
    parts = ["curl", "--silent", "--show-error", "--include"]
    if call.method == "HEAD":
        parts += ["--head"]
    elif call.method != "GET":
        parts += ["--request", call.method]
    lines = [" ".join(parts)]
    lines += [f"--header {shlex.quote(f'{name}: {value}')}" for name, value in call.headers.items()]
    if call.basic is not None:
        lines.append(f"--user {shlex.quote(':'.join(call.basic))}")
    if call.certificate:
        lines.append(f"--cert {CERTIFICATE} --key {KEY}")
    if call.body:
        lines.append(f"--data-raw {shlex.quote(call.body)}")
    return " \\\n  ".join([*lines, shlex.quote(call.url)])


def as_python(call: ExampleCall) -> str:
    """A program that needs nothing but Python's own library."""
    data = f"{call.body!r}.encode()" if call.body else "None"
    signing, signed, opened = [], [], "urlopen(request)"
    if call.certificate:
        signing = ["import ssl"]
        signed = ["secured = ssl.create_default_context()", f"secured.load_cert_chain({CERTIFICATE!r}, {KEY!r})"]
        opened = "urlopen(request, context=secured)"
    if call.basic is not None:
        signing = ["from base64 import b64encode"]
        signed = [
            f"signed_in = b64encode({':'.join(call.basic)!r}.encode()).decode()",
            "request.add_header('Authorization', 'Basic ' + signed_in)",
        ]
    return "\n".join(
        [
            *signing,
            "from urllib.error import HTTPError",
            "from urllib.request import Request, urlopen",
            "",
            "request = Request(",
            f"    {call.url!r},",
            f"    method={call.method!r},",
            f"    headers={dict(call.headers)!r},",
            f"    data={data},",
            ")",
            *signed,
            "try:",
            f"    answer = {opened}",
            "except HTTPError as error:",
            "    answer = error",
            "print(answer.status)",
            "print(answer.read().decode())",
        ]
    )


def as_javascript(call: ExampleCall) -> str:
    """A program for Node 18 and later, saved as a module."""
    if call.certificate:
        return _javascript_with_certificate(call)
    options: dict[str, Any] = {"method": call.method, "headers": dict(call.headers)}
    if call.body:
        options["body"] = call.body
    written = json.dumps(options, indent=2)
    if call.basic is not None:
        signed_in = f'"Authorization": "Basic " + btoa({json.dumps(":".join(call.basic))})'
        written = written.replace('"headers": {', f'"headers": {{ {signed_in}, ', 1).replace(", }", " }", 1)
    return "\n".join(
        [
            f"const answer = await fetch({json.dumps(call.url)}, {written});",
            "console.log(answer.status);",
            "console.log(await answer.text());",
        ]
    )


def _javascript_with_certificate(call: ExampleCall) -> str:
    """`fetch` shows no certificates, so it is Node's own client."""
    options = json.dumps({"method": call.method, "headers": dict(call.headers)}, indent=2).rstrip("}\n")
    return "\n".join(
        [
            'import { readFileSync } from "node:fs";',
            'import { request } from "node:https";',
            "",
            f"const asked = request({json.dumps(call.url)}, {options},",
            f'  "cert": readFileSync({json.dumps(CERTIFICATE)}),',
            f'  "key": readFileSync({json.dumps(KEY)})',
            "}, (answer) => {",
            "  console.log(answer.statusCode);",
            '  answer.on("data", (piece) => process.stdout.write(piece));',
            "});",
            f"asked.end({json.dumps(call.body) if call.body else ''});",
        ]
    )
