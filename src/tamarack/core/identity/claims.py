"""Requirements on a token's claims (RFC 7519, section 4), written as short lines and checked against claims."""

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

from pydantic import GetCoreSchemaHandler
from pydantic_core import CoreSchema, core_schema

from tamarack.core.json_pointer import at_pointer

Test = Literal["equals", "is one of", "contains", "is present"]
_FORM = re.compile(r"^(\S+)\s+(?:(equals|is one of|one of|contains)\s+(.+)|is present|present)$")
MISSING = object()


@dataclass(frozen=True, slots=True)
class Requirement:
    """One line: `role equals skipper`, `role is one of skipper, mate`, `groups contains crew`, `email is present`."""

    claim: str
    test: Test
    values: tuple[str, ...] = ()

    def __str__(self) -> str:
        return f"{self.claim} {self.test} {', '.join(self.values)}".rstrip()

    def holds(self, claims: Mapping[str, Any]) -> bool:
        """Whether claims meet the requirement. Numbers and yes/no are compared as JSON writes them."""
        value = claim_at(claims, self.claim)
        if value is MISSING or value is None:
            return False
        match self.test:
            case "is present":
                return True
            case "contains":
                held = value if isinstance(value, list) else value.split() if isinstance(value, str) else []
                return self.values[0] in [_text(one) for one in held]
            case _:
                return not isinstance(value, list | dict) and _text(value) in self.values

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_plain_validator_function(
            parse, serialization=core_schema.plain_serializer_function_ser_schema(str)
        )


def parse(value: Any) -> Requirement:
    """A requirement from its line. Raises ValueError, in words."""
    if isinstance(value, Requirement):
        return value
    found = _FORM.match(str(value).strip())
    if found is None:
        raise ValueError(
            f"{value!r} is not a requirement; write 'role equals skipper', 'role is one of skipper, mate',"
            " 'groups contains crew' or 'email is present'"
        )
    claim, test, rest = found.groups()
    if test is None:
        return Requirement(claim, "is present")
    if test == "equals":
        return Requirement(claim, "equals", (rest.strip(),))
    if test == "contains":
        return Requirement(claim, "contains", (rest.strip(),))
    values = tuple(part.strip() for part in rest.split(",") if part.strip())
    if not values:
        raise ValueError(f"{value!r} names no value; put at least one after 'one of'")
    return Requirement(claim, "is one of", values)


def claim_at(claims: Mapping[str, Any], name: str) -> Any:
    """A claim by name, or by JSON Pointer (RFC 6901) where the name starts with /; `MISSING` where there is none."""
    if not name.startswith("/"):
        return claims.get(name, MISSING)
    return at_pointer(claims, name, MISSING)


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value)


def scopes_of(claims: Mapping[str, Any]) -> frozenset[str]:
    """The scopes that a token was given: `scope`, words with spaces between (RFC 8693, 4.2), or the list `scp`."""
    found = claims.get("scope", claims.get("scp", ()))
    if isinstance(found, str):
        return frozenset(found.split())
    return frozenset(one for one in found if isinstance(one, str)) if isinstance(found, list) else frozenset()
