"""Where a caller shows a credential: header, query, cookie, form; found, counted and taken off."""

from tamarack.core.carrying.call import Call

FORM = b"application/x-www-form-urlencoded"


def in_header(call: Call, name: bytes) -> list[bytes]:
    """The values of a header field, as they came."""
    return [value for field, value in call.headers if field == name]


def form_of(call: Call) -> bytes:
    """A form post's body, where it was read; empty where there is none."""
    return call.body if call.body and call.media.lower().startswith(FORM) else b""


def take_header(call: Call, name: bytes) -> None:
    """Take a header field off the call; the list that came in is left as it is."""
    call.headers = [field for field in call.headers if field[0] != name]


def in_cookie(call: Call, name: bytes) -> list[bytes]:
    """The values of a cookie (RFC 6265, section 5.4)."""
    found = []
    for value in in_header(call, b"cookie"):
        for part in value.split(b";"):
            key, equals, held = part.strip().partition(b"=")
            if equals and key == name:
                found.append(held.strip(b'"'))
    return found


def take_cookie(call: Call, name: bytes) -> None:
    """Take one cookie off the call."""
    headers = []
    for field in call.headers:
        if field[0] == b"cookie":
            kept = [part.strip() for part in field[1].split(b";") if part.strip().partition(b"=")[0] != name]
            if kept:
                headers.append((b"cookie", b"; ".join(kept)))
        else:
            headers.append(field)
    call.headers = headers


def of_scheme(call: Call, header: bytes, scheme: bytes) -> list[bytes]:
    """What follows an authentication scheme in a header field (RFC 9110, 11.6.2); the scheme in any case."""
    start = scheme + b" "
    size = len(start)
    return [value[size:].strip() for value in in_header(call, header) if value[:size].lower() == start]


def take_one(call: Call, header: bytes, start: bytes, strip: bool) -> tuple[bytes, int]:
    """The value behind an authentication scheme, taken off in the same pass; and how many there were.

    `start` is the scheme in lower case with its space, or empty for a field that holds the bare value.
    """
    size = len(start)
    shown = b""
    many = place = 0
    headers = call.headers
    for at, field in enumerate(headers):
        if field[0] == header:
            value = field[1]
            if size:
                if value[:size].lower() != start:
                    continue
                value = value[size:].strip()
            elif not value:
                continue
            many += 1
            shown, place = value, at
    if many == 1 and strip:
        call.headers = headers[:place] + headers[place + 1 :]
    return shown, many


def take_scheme(call: Call, header: bytes, scheme: bytes) -> None:
    """Take the header fields of an authentication scheme off the call."""
    start = scheme + b" "
    size = len(start)
    call.headers = [field for field in call.headers if field[0] != header or field[1][:size].lower() != start]
