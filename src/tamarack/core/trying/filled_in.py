"""A call made from a filled-in form: the parameters put in their places (OpenAPI 3.1, 4.8.12, in plain styles)."""

from collections.abc import Mapping
from urllib.parse import quote

from tamarack.core.errors import CoreError
from tamarack.core.openapi.reference import OperationView

_OPEN = "-._~!$'()*,:@"
"""Characters that may stand in a query's value as they are, and keep their meaning there."""


class Missing(CoreError, ValueError):
    """A parameter that has to be given was not; `name` says which, as `place.name`."""

    def __init__(self, name: str, words: str) -> None:
        super().__init__(words)
        self.name = name


def call_path(base_path: str, view: OperationView, values: Mapping[str, str]) -> str:
    """Path and query of a call; `values` by `place.name`, and `path.*` for what follows an open end."""
    path = view.path
    query = []
    for parameter in view.parameters:
        name = f"{parameter.place}.{parameter.name}"
        value = values.get(name, "")
        if parameter.required and not value and parameter.place in ("path", "query", "header"):
            raise Missing(name, f"{parameter.name} has to be given, like {parameter.example or 'text'}")
        if parameter.place == "path":
            path = path.replace("{" + parameter.name + "}", quote(value, safe=_OPEN))
        elif parameter.place == "query" and value:
            query += [f"{quote(name, safe='[]')}={quote(text, safe=_OPEN)}" for name, text in parameter.pairs(value)]
    if path.endswith("/*"):
        path = path[:-1] + quote(values.get("path.*", ""), safe=_OPEN + "/")
    whole = base_path + (path if path != "/" else "")
    return whole + ("?" + "&".join(query) if query else "")


def header_lines(view: OperationView, values: Mapping[str, str], media: str) -> list[str]:
    """The header fields of a call, one a line; its cookies among them."""
    lines = [f"content-type: {media}"] if media else []
    for parameter in view.parameters:
        value = values.get(f"header.{parameter.name}", "")
        if parameter.place == "header" and value:
            lines.append(f"{parameter.name}: {value}")
    cookies = [
        f"{one.name}={quote(value, safe=_OPEN)}"
        for one in view.parameters
        if one.place == "cookie" and (value := values.get(f"cookie.{one.name}", ""))
    ]
    return [*lines, f"cookie: {'; '.join(cookies)}"] if cookies else lines
