"""Browser access (CORS, Fetch standard, section 3.2): what the gateway answers, and what a browser makes of it.

`BrowserRule` makes the fields that nodes send. `judge` is a browser: it reads those same fields, step by
step as the Fetch standard does, so the checker page cannot say something else than a browser would.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from tamarack.core.http.origins import ANY, Origins

SAFE_METHODS = frozenset(("GET", "HEAD", "POST"))
"""CORS-safelisted methods: sent without asking (Fetch, 2.2.1)."""
SAFE_HEADERS = frozenset(("accept", "accept-language", "content-language", "content-type", "range"))
"""CORS-safelisted request headers (Fetch, 2.2.2); content-type only with the media types of HTML forms."""
SAFE_MEDIA = frozenset(("application/x-www-form-urlencoded", "multipart/form-data", "text/plain"))
READABLE = frozenset(
    ("cache-control", "content-language", "content-length", "content-type", "expires", "last-modified", "pragma")
)
"""CORS-safelisted response headers: a page reads them without their being exposed."""

_MOST_SEEN = 1_024
_PREFLIGHT_VARY = b"vary: Origin, Access-Control-Request-Method, Access-Control-Request-Headers\r\n"


class BrowserRule:
    """A rule made ready. Every method takes and gives bytes as they stand in header fields."""

    __slots__ = ("_allow", "_credentials", "_expose", "_headers", "_max_age", "_methods", "_origins", "_seen", "_vary")

    def __init__(
        self,
        origins: Iterable[str],
        methods: Iterable[str],
        headers: Iterable[str],
        exposed: Iterable[str],
        credentials: bool,
        max_age_s: int,
    ) -> None:
        self._origins = Origins(origins)
        self._methods = frozenset(method.upper() for method in methods)
        self._headers = tuple(name.lower() for name in headers)
        listed = ", ".join(exposed).encode()
        self._expose = b"access-control-expose-headers: %b\r\n" % listed if listed else b""
        self._credentials = b"access-control-allow-credentials: true\r\n" if credentials else b""
        self._max_age = b"access-control-max-age: %d\r\n" % max_age_s
        self._allow = b"access-control-allow-methods: %b\r\n" % ", ".join(sorted(self._methods)).encode()
        self._vary = b"" if self._origins.any else b"vary: Origin\r\n"
        self._seen: dict[tuple[bytes, str], bytes] = {}

    def line(self, origin: str) -> str:
        """The line of the rule that lets an origin in; empty where none does."""
        return self._origins.match(origin)

    def answer_fields(self, origin: bytes, method: str) -> bytes:
        """What an answer carries so that the page may read it. Without an origin, or one not let in, only Vary."""
        if not origin:
            return self._vary
        fields = self._seen.get((origin, method))
        if fields is None:
            if len(self._seen) >= _MOST_SEEN:
                self._seen.clear()
            fields = self._seen[origin, method] = self._fields(origin, method)
        return fields

    def _fields(self, origin: bytes, method: str) -> bytes:
        if method not in self._methods or not self.line(origin.decode("latin-1")):
            return self._vary
        return self._allow_origin(origin) + self._credentials + self._expose + self._vary

    def _allow_origin(self, origin: bytes) -> bytes:
        return b"access-control-allow-origin: %b\r\n" % (b"*" if self._origins.any else origin)

    def preflight(self, origin: bytes, method: str, headers: Iterable[str]) -> tuple[bytes, str]:
        """What a preflight is answered: the fields, and what forbids it (empty where it is allowed)."""
        if not self.line(origin.decode("latin-1")):
            return _PREFLIGHT_VARY, f"origins: none of them is {origin.decode('latin-1')}"
        if method not in self._methods:
            return _PREFLIGHT_VARY, f"methods: {method} is not among {', '.join(sorted(self._methods))}"
        wanting = next((name for name in headers if name not in self._headers and name not in SAFE_HEADERS), None)
        if wanting is None and "content-type" not in self._headers and "content-type" in headers:
            wanting = "content-type"
        if wanting is not None:
            return (
                _PREFLIGHT_VARY,
                f"headers: {wanting} is not among {', '.join(self._headers) or 'them: there is none'}",
            )
        allowed = b"access-control-allow-headers: %b\r\n" % ", ".join(self._headers).encode() if self._headers else b""
        return (
            self._allow_origin(origin) + self._allow + allowed + self._credentials + self._max_age + _PREFLIGHT_VARY,
            "",
        )


def requested_headers(value: bytes) -> list[str]:
    """The names in Access-Control-Request-Headers."""
    return [name for part in value.decode("latin-1").split(",") if (name := part.strip().lower())]


@dataclass(frozen=True, slots=True)
class Step:
    """One step that a browser takes: what it looks at, whether it goes on, and the line that decides."""

    title: str
    passes: bool
    text: str


@dataclass(frozen=True, slots=True)
class Judgement:
    """What a browser would do: whether it asks first, whether the call is sent, whether the page reads the answer."""

    asks_first: bool
    sent: bool
    read: bool
    steps: tuple[Step, ...]
    decided_by: str = ""
    """The line of the rule that decides, in words."""
    fields: str = field(default="")
    """The fields that the gateway sends, as text."""


def _parsed(fields: bytes) -> dict[str, str]:
    found: dict[str, str] = {}
    for line in fields.decode("latin-1").split("\r\n"):
        name, colon, value = line.partition(":")
        if colon:
            found[name.lower()] = value.strip()
    return found


def unsafe_headers(headers: Sequence[tuple[str, str]]) -> list[str]:
    """The headers that make a browser ask first: all but the safe ones (Fetch, 2.2.2)."""
    found = []
    for name, value in headers:
        plain = name.lower()
        media = value.partition(";")[0].strip().lower()
        if plain not in SAFE_HEADERS or (plain == "content-type" and media not in SAFE_MEDIA) or len(value) > 128:
            found.append(plain)
    return sorted(set(found))


def judge(
    rule: BrowserRule | None,
    origin: str,
    method: str,
    headers: Sequence[tuple[str, str]] = (),
    credentials: bool = False,
) -> Judgement:
    """What a browser does when a page of `origin` calls with `fetch` (Fetch, 4.8, 4.9 and 4.10)."""
    method = method.upper()
    asked = unsafe_headers(headers)
    why = [f"the method {method}"] if method not in SAFE_METHODS else []
    why += [f"the header {name}" for name in asked]
    steps = []
    if not why:
        steps.append(Step("Ask first?", True, f"No: {method} with only plain headers is sent at once."))
    else:
        steps.append(Step("Ask first?", True, f"Yes, with a preflight, because of {' and '.join(why)}."))
        if rule is None:
            text = "The gateway answers 403: no browser access rule holds here, so it is closed."
            steps.append(Step("Preflight", False, text))
            return Judgement(True, False, False, tuple(steps), "no browser access rule holds here")
        raw, forbidden = rule.preflight(origin.encode("latin-1", "replace"), method, asked)
        shown = raw.decode("latin-1")
        if forbidden:
            steps.append(Step("Preflight", False, f"The gateway answers 403 — {forbidden}."))
            return Judgement(True, False, False, tuple(steps), forbidden, shown)
        problem = _preflight_problem(_parsed(raw), origin, method, asked, credentials)
        if problem:
            steps.append(Step("Preflight", False, problem))
            return Judgement(True, False, False, tuple(steps), problem, shown)
        text = (
            f"Answered 204: {method} and {', '.join(asked) or 'no more headers'} are allowed for {rule.line(origin)}."
        )
        steps.append(Step("Preflight", True, text))
    steps.append(Step("Send the call", True, f"With Origin: {origin}{' and cookies' if credentials else ''}."))
    if rule is None:
        text = "The answer has no Access-Control-Allow-Origin: the page gets an error instead of it."
        steps.append(Step("Read the answer", False, text))
        return Judgement(bool(why), True, False, tuple(steps), "no browser access rule holds here")
    raw = rule.answer_fields(origin.encode("latin-1", "replace"), method)
    problem = _read_problem(_parsed(raw), origin, credentials)
    if problem:
        line = rule.line(origin)
        decided = f"origins: none of them is {origin}" if not line else f"methods: {method} is not among them"
        if _parsed(raw).get("access-control-allow-origin"):
            decided = "credentials: off" if line != ANY else "origins: * cannot be used with credentials"
        steps.append(Step("Read the answer", False, problem))
        return Judgement(bool(why), True, False, tuple(steps), decided, raw.decode("latin-1"))
    steps.append(Step("Read the answer", True, f"The page may read it: {rule.line(origin)} lets it in."))
    return Judgement(bool(why), True, True, tuple(steps), f"origins: {rule.line(origin)}", raw.decode("latin-1"))


def _read_problem(fields: dict[str, str], origin: str, credentials: bool) -> str:
    """The CORS check (Fetch, 4.9)."""
    allowed = fields.get("access-control-allow-origin")
    if allowed is None:
        return "The answer has no Access-Control-Allow-Origin: the page gets an error instead of it."
    if not credentials and allowed == ANY:
        return ""
    if allowed != origin:
        return f"Access-Control-Allow-Origin is {allowed}, not {origin}: the page gets an error."
    if credentials and fields.get("access-control-allow-credentials") != "true":
        return "The call carries cookies, but Access-Control-Allow-Credentials is not sent: the page gets an error."
    return ""


def _preflight_problem(fields: dict[str, str], origin: str, method: str, asked: list[str], credentials: bool) -> str:
    """The checks of a preflight's answer (Fetch, 4.8)."""
    problem = _read_problem(fields, origin, credentials)
    if problem:
        return problem
    methods = {one.strip() for one in fields.get("access-control-allow-methods", "").split(",")}
    if method not in methods and method not in SAFE_METHODS:
        return f"Access-Control-Allow-Methods does not name {method}."
    names = {one.strip().lower() for one in fields.get("access-control-allow-headers", "").split(",")}
    missing = [name for name in asked if name not in names]
    return f"Access-Control-Allow-Headers does not name {', '.join(missing)}." if missing else ""
