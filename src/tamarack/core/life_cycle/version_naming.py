"""How calls name the version that they are for, where versions share a base path: by a header, or by a media type."""

import re
from typing import Annotated, Literal, Self

from pydantic import StringConstraints, model_validator

from tamarack.core.http.names import header_name
from tamarack.core.types import Frozen

_PARAMETER = re.compile(r"[a-z0-9!#$&^_.+-]{1,60}")
_USUAL = {"header": "api-version", "media type": "version"}


class VersionNaming(Frozen):
    """A header field, or a parameter of the media types in Accept (else in Content-Type), holds the version's label.

    Calls that name none are for the version `default`; where that is empty, they are refused.
    """

    by: Literal["header", "media type"]
    name: Annotated[str, StringConstraints(strip_whitespace=True, to_lower=True, max_length=60)] = ""
    """Empty for the usual one: `api-version`, or `version`."""
    default: Annotated[str, StringConstraints(strip_whitespace=True, max_length=32)] = ""

    @model_validator(mode="after")
    def _can_stand(self) -> Self:
        if self.by == "header":
            header_name(self.name)
        elif self.name and (not _PARAMETER.fullmatch(self.name) or self.name in ("q", "charset")):
            raise ValueError(f"{self.name!r} cannot be a media type's parameter here; use one like 'version'")
        return self

    @property
    def called(self) -> str:
        """The name of the field or the parameter."""
        return self.name or _USUAL[self.by]

    @property
    def varies_by(self) -> str:
        """The field of requests that answers depend on (RFC 9110, 12.5.5)."""
        return self.called if self.by == "header" else "accept"

    def fields(self, label: str, media: str = "") -> dict[str, str]:
        """The fields with which a call names a version; `media` is what it would accept of it."""
        if self.by == "header":
            return {self.called: label}
        return {"accept": f"{media or 'application/json'};{self.called}={label}"}

    def said(self, label: str) -> str:
        """How a version is named, for people."""
        named = "".join(f"`{name}: {value}`" for name, value in self.fields(label).items())
        return f"Calls name it: {named}" + (", or name no version." if label == self.default else ".")
