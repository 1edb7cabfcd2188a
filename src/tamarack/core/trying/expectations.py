"""What a saved call expects of its answer: short lines, checked against status, header fields and JSON body."""

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from pydantic import GetCoreSchemaHandler
from pydantic_core import CoreSchema, core_schema

from tamarack.core.documents.json_text import value_of
from tamarack.core.identity.claims import MISSING, claim_at

_STATUS = re.compile(r"^status\s+(?:is\s+)?([1-5][0-9x]{2})$")
_HEADER = re.compile(r"^header\s+([A-Za-z0-9-]+)\s+(is present|is|contains)(?:\s+(.+))?$")
_JSON = re.compile(r"^json\s+(/\S*|\$)\s+(is present|is|contains)(?:\s+(.+))?$")


@dataclass(frozen=True, slots=True)
class Expectation:
    """One line: `status is 200`, `header content-type contains json`, `json /sailings/0/id is present`.

    JSON values are named by JSON Pointer (RFC 6901; `$` is the whole) and compared as JSON.
    """

    about: Literal["status", "header", "json"]
    name: str
    test: Literal["is", "contains", "is present"]
    value: str = ""

    def __str__(self) -> str:
        return " ".join(part for part in (self.about, self.name, self.test, self.value) if part)

    def failure(self, status: int, headers: Sequence[tuple[str, str]], body: str) -> str:
        """What is otherwise, in words; empty where the answer is as expected."""
        match self.about:
            case "status":
                return "" if _fits(str(status), self.value) else f"the status is {status}, not {self.value}"
            case "header":
                values = [value for name, value in headers if name.lower() == self.name.lower()]
                if not values:
                    return f"there is no {self.name} field"
                held = ", ".join(values)
                if self.test == "is present" or (held == self.value if self.test == "is" else self.value in held):
                    return ""
                return f"{self.name} is {held!r}"
            case _:
                return self._json_failure(body)

    def _json_failure(self, body: str) -> str:
        try:
            whole = value_of(body)
        except ValueError:
            return "the body is not JSON"
        found = whole if self.name == "$" else claim_at({"": whole}, "/" + self.name)
        if found is MISSING:
            return f"there is nothing at {self.name}"
        wanted = _value(self.value)
        if self.test == "is present" or (self.test == "is" and found == wanted):
            return ""
        if self.test == "contains" and _holds(found, wanted):
            return ""
        shown = json.dumps(found)
        return f"{self.name} is {shown if len(shown) <= 80 else shown[:77] + '…'}"

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_plain_validator_function(
            parse, serialization=core_schema.plain_serializer_function_ser_schema(str)
        )


def _fits(status: str, wanted: str) -> bool:
    return all(w in ("x", s) for s, w in zip(status, wanted, strict=True))


def _value(text: str) -> Any:
    try:
        return value_of(text)
    except ValueError:
        return text


def _holds(found: Any, wanted: Any) -> bool:
    if isinstance(found, str):
        return str(wanted) in found
    return wanted in found if isinstance(found, list | dict) else False


def parse(value: Any) -> Expectation:
    """An expectation from its line. Raises ValueError, in words."""
    if isinstance(value, Expectation):
        return value
    line = " ".join(str(value).split())
    if found := _STATUS.match(line):
        return Expectation("status", "", "is", found[1])
    for about, form in (("header", _HEADER), ("json", _JSON)):
        if found := form.match(line):
            name, test, rest = found.groups()
            if (rest is None) != (test == "is present"):
                raise ValueError(f"{line!r}: say what it {test.partition(' ')[0]}, or that it is present")
            return Expectation(about, name, test, rest or "")  # type: ignore[arg-type]
    raise ValueError(
        f"{line!r} is not an expectation; write 'status is 200', 'header content-type contains json' or"
        " 'json /sailings/0/id is present'"
    )
