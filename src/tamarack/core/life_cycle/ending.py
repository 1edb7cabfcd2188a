"""How a version ends: from when on it is deprecated, until when it answers, and which version takes its place."""

from datetime import UTC, date, datetime
from email.utils import format_datetime

from tamarack.core.configuration.model import Api, Version
from tamarack.core.http.fields import Header


def in_words(day: date) -> str:
    """A date as people read it."""
    return f"{day.day} {day:%B %Y}"


def ending_of(version: Version) -> str:
    """How a version ends, in one sentence without its name; empty where nothing is said of it."""
    said = []
    if version.deprecated_on is not None:
        said.append(f"is deprecated from {in_words(version.deprecated_on)}")
    if version.sunset_on is not None:
        said.append(f"answers until {in_words(version.sunset_on)}")
    return " and ".join(said)


def standing_successor(api: Api, version: Version) -> Version | None:
    """The version that takes another's place and answers: where it ended itself, the one that took its own place.

    None also while it is a preview for invited organizations, which others are not told of.
    """
    seen = {version.version}
    found = api.version(version.successor) if version.successor else None
    while found is not None and found.state in ("draft", "retired"):
        if found.version in seen:
            return None
        seen.add(found.version)
        found = api.version(found.successor) if found.successor else None
    return found if found is not None and found.version not in seen and not found.by_invitation else None


def ending_fields(since: date | None, until: date | None, successor_path: str, page: str) -> tuple[Header, ...]:
    """The fields of answers that tell how a version ends.

    `Deprecation` (RFC 9745, 2), `Sunset` (RFC 8594, 3), and `Link` to what takes its place (`successor-version`,
    RFC 5829, 3) and to where it is said to people (`deprecation`, RFC 9745, 3); `page` is empty where there is none.
    """
    fields: list[Header] = []
    if since is not None:
        fields.append((b"deprecation", b"@%d" % int(_midnight(since).timestamp())))
    if until is not None:
        fields.append((b"sunset", format_datetime(_midnight(until), usegmt=True).encode()))
    links = []
    if successor_path:
        links.append(f'<{successor_path}>; rel="successor-version"')
    if page and fields:
        links.append(f'<{page}>; rel="deprecation"; type="text/html"')
    if links:
        fields.append((b"link", ", ".join(links).encode()))
    return tuple(fields)


def _midnight(day: date) -> datetime:
    return datetime(day.year, day.month, day.day, tzinfo=UTC)
