"""An example call as text that runs as it stands: curl, Python, JavaScript."""

import json
import shlex
from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class ExampleCall:
    """A request to show: method in capitals, whole address with query, header fields, body as text."""

    method: str
    url: str
    headers: Mapping[str, str] = field(default_factory=dict)
    body: str = ""


def as_curl(call: ExampleCall) -> str:
    """A command line for a POSIX shell."""
    parts = ["curl", "--silent", "--show-error", "--include"]
    if call.method == "HEAD":
        parts += ["--head"]
    elif call.method != "GET":
        parts += ["--request", call.method]
    lines = [" ".join(parts)]
    lines += [f"--header {shlex.quote(f'{name}: {value}')}" for name, value in call.headers.items()]
    if call.body:
        lines.append(f"--data-raw {shlex.quote(call.body)}")
    return " \\\n  ".join([*lines, shlex.quote(call.url)])


def as_python(call: ExampleCall) -> str:
    """A program that needs nothing but Python's own library."""
    data = f"{call.body!r}.encode()" if call.body else "None"
    return "\n".join(
        [
            "from urllib.request import Request, urlopen",
            "",
            "request = Request(",
            f"    {call.url!r},",
            f"    method={call.method!r},",
            f"    headers={dict(call.headers)!r},",
            f"    data={data},",
            ")",
            "with urlopen(request) as answer:",
            "    print(answer.status)",
            "    print(answer.read().decode())",
        ]
    )


def as_javascript(call: ExampleCall) -> str:
    """A program for Node 18 and later, saved as a module."""
    options = {"method": call.method, "headers": dict(call.headers)}
    if call.body:
        options["body"] = call.body
    return "\n".join(
        [
            f"const answer = await fetch({json.dumps(call.url)}, {json.dumps(options, indent=2)});",
            "console.log(answer.status);",
            "console.log(await answer.text());",
        ]
    )
