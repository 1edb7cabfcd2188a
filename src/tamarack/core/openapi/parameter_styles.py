"""How a value is written as a parameter (OpenAPI 3.1, 4.8.12.1): lists and objects by style and `explode`."""

import json
from typing import Any

_BETWEEN = {"spaceDelimited": " ", "pipeDelimited": "|"}


def text_of(value: Any) -> str:
    """A value as text: words as they are, all else as JSON has it."""
    return value if isinstance(value, str) else "" if value is None else json.dumps(value, ensure_ascii=False)


def pairs_of(name: str, value: Any, style: str, explode: bool) -> list[tuple[str, str]]:
    """Names and texts of a value in a query or a form; they are encoded by whoever puts them together."""
    if isinstance(value, list):
        if explode:
            return [(name, text_of(one)) for one in value]
        return [(name, _BETWEEN.get(style, ",").join(map(text_of, value)))]
    if isinstance(value, dict):
        if style == "deepObject":
            return [(f"{name}[{key}]", text_of(inner)) for key, inner in value.items()]
        if explode:
            return [(key, text_of(inner)) for key, inner in value.items()]
        return [(name, ",".join(part for key, inner in value.items() for part in (key, text_of(inner))))]
    return [(name, text_of(value))]


def in_path(name: str, value: Any, style: str, explode: bool) -> str:
    """A value in a path or a header field: `simple`, `label` or `matrix`."""
    if isinstance(value, dict):
        parts = [f"{key}={text_of(one)}" if explode else f"{key},{text_of(one)}" for key, one in value.items()]
    elif isinstance(value, list):
        parts = [text_of(one) for one in value]
    else:
        parts = [text_of(value)]
    if style == "label":
        return "." + ("." if explode else ",").join(parts)
    if style == "matrix":
        if explode and isinstance(value, list):
            return "".join(f";{name}={part}" for part in parts)
        if explode and isinstance(value, dict):
            return "".join(f";{part}" for part in parts)
        return f";{name}={','.join(parts)}"
    return ",".join(parts)
