"""Names that people give to header fields and parameters, brought to one spelling."""

import re

_TOKEN = re.compile(r"^[!#$%&'*+.^_`|~0-9a-z-]+$")
_NAME = re.compile(r"^[A-Za-z0-9._~-]+$")
_RESERVED = {"host", "content-length", "transfer-encoding", "connection", "te", "trailer", "upgrade", "expect"}


def header_name(value: str) -> str:
    """A header field name in lower case, empty for none. Raises ValueError, in words."""
    value = value.strip().lower()
    if value and not _TOKEN.match(value):
        raise ValueError(f"{value!r} is not a header field name; use letters, digits and hyphens")
    if value in _RESERVED:
        raise ValueError(f"{value!r} has a meaning of its own in HTTP; choose another name")
    return value


def parameter_name(value: str) -> str:
    """The name of a query parameter, a form field or a cookie, empty for none. Raises ValueError, in words."""
    value = value.strip()
    if value and not _NAME.match(value):
        raise ValueError(f"{value!r} is not a name that can stand here; use letters, digits and - . _ ~")
    return value
