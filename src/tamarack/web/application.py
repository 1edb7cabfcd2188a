"""What all web applications are made of: sessions, CSRF, headers, database, filters and errors."""

import hashlib
from collections.abc import Callable
from datetime import timedelta
from functools import cache
from pathlib import Path
from typing import Any

from flask import Flask, Response, abort, current_app, g, jsonify, render_template, request
from flask_wtf.csrf import CSRFError, CSRFProtect
from jinja2 import ChoiceLoader, FileSystemLoader, PrefixLoader
from sqlmodel import Session
from werkzeug.exceptions import HTTPException

from tamarack import __version__
from tamarack.core.environments.environment import Environments
from tamarack.core.http.addresses import networks
from tamarack.core.identity.passwords import IN_WORDS
from tamarack.core.text import one_line, text_problem
from tamarack.settings import Settings
from tamarack.store.audit.log import Actor
from tamarack.store.engine import make_engine
from tamarack.store.environments import queries as environment_rows
from tamarack.store.environments.addresses import reached_at, said_of
from tamarack.store.errors import StoreError
from tamarack.store.people.sessions import LONGEST
from tamarack.store.traffic.reading import TookTooLong
from tamarack.web.behind_proxy import BehindProxy
from tamarack.web.changing import again
from tamarack.web.markdown import to_html, to_line
from tamarack.web.numbers import LARGEST
from tamarack.web.words import FILTERS

WEB = Path(__file__).parent

FORMS_LEAD = "form-action 'self'"
CONTENT_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self';"
    f" connect-src 'self'; {FORMS_LEAD}; base-uri 'none'; frame-ancestors 'none'"
)
_HEADERS = {
    "Content-Security-Policy": CONTENT_POLICY,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Permissions-Policy": "camera=(), geolocation=(), microphone=()",
}
LARGEST_FORM = 10_000_000


def make_application(package: str, door: str, settings: Settings, folder: Path) -> Flask:
    """A Flask application with everything that console, portal and sign-in share. `door` is one of them.

    Each section of `folder` has its templates beside its pages; `traffic/calls.html` is that of the section traffic.
    """
    templates = folder / "templates"
    app = Flask(package, template_folder=str(templates), static_folder=str(WEB / "static"), static_url_path="/static")
    sections = {path.parent.name: FileSystemLoader(path) for path in sorted(folder.glob("*/templates"))}
    app.jinja_loader = ChoiceLoader(
        [PrefixLoader(sections), FileSystemLoader(templates), FileSystemLoader(WEB / "templates")]
    )
    app.config.update(
        SECRET_KEY=settings.keys.text(f"session-{door}"),
        # The prefix makes browsers take the cookie over HTTPS for this host alone (RFC 6265bis, 4.1.3.2).
        SESSION_COOKIE_NAME=f"{'__Host-' if settings.secure_cookies else ''}tamarack_{door}",
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Lax",
        SESSION_COOKIE_SECURE=settings.secure_cookies,
        # The server ends sessions (`store.people.sessions`). The cookie is set when something in it changes and not
        # otherwise: an answer that comes late would put an older one in its place.
        PERMANENT_SESSION_LIFETIME=LONGEST,
        SESSION_REFRESH_EACH_REQUEST=False,
        MAX_CONTENT_LENGTH=LARGEST_FORM,
        MAX_FORM_MEMORY_SIZE=LARGEST_FORM,
        WTF_CSRF_TIME_LIMIT=None,
        SEND_FILE_MAX_AGE_DEFAULT=timedelta(days=30),
    )
    app.extensions["tamarack_settings"] = settings
    app.extensions["tamarack_engine"] = make_engine(settings.database)
    app.extensions["tamarack_door"] = door
    CSRFProtect(app)
    app.jinja_env.filters.update(FILTERS | {"markdown": to_html, "markdown_line": to_line})
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.jinja_env.globals.update(
        password_rules=IN_WORDS, asset=_assets(), version=__version__, settings=settings, again=again
    )
    if settings.trusted_proxies:
        behind = BehindProxy(app.wsgi_app, networks(settings.trusted_proxies))
        app.wsgi_app = behind  # type: ignore[assignment]
    app.before_request(_readable)
    app.after_request(_finish)
    app.teardown_appcontext(_close)
    app.register_error_handler(HTTPException, _error_page)
    app.register_error_handler(CSRFError, _stale_form)
    app.register_error_handler(StoreError, _not_done)
    app.register_error_handler(TookTooLong, _took_too_long)
    app.add_url_rule("/-/health", "health", lambda: jsonify(status="ready"))
    return app


@cache
def _assets() -> Callable[[str], str]:
    dist = WEB / "static" / "dist"
    marks = {path.name: hashlib.sha256(path.read_bytes()).hexdigest()[:10] for path in dist.iterdir() if path.is_file()}
    return lambda name: f"/static/dist/{name}?{marks[name]}"


def settings_of(app: Flask) -> Settings:
    """The settings an application was made with."""
    settings: Settings = app.extensions["tamarack_settings"]
    return settings


def db() -> Session:
    """This request's database session; nothing is kept unless it is committed."""
    if "db" not in g:
        g.db = Session(current_app.extensions["tamarack_engine"])
    session: Session = g.db
    return session


def environments() -> Environments:
    """The environments that there are, read once a request."""
    if "environments" not in g:
        g.environments = environment_rows.known(db())
    found: Environments = g.environments
    return found


def gateway_address(environment: str) -> str:
    """Where callers reach an environment; empty where nothing is known of it yet."""
    return reached_at(db(), settings_of(current_app), environment)


def told_gateway(environment: str) -> str:
    """The address of an environment that its nodes are told, and that tokens name; empty where nobody said one."""
    return said_of(db(), settings_of(current_app), environment)


def actor(name: str) -> Actor:
    """Whoever acts in this request, for the audit log."""
    return Actor(name, current_app.extensions["tamarack_door"], request.remote_addr or "")


def wants_part() -> bool:
    """Whether htmx asks for a part of the page."""
    return request.headers.get("HX-Request") == "true" and request.headers.get("HX-Boosted") != "true"


def _readable() -> None:
    """Refuse what no field can hold before any page looks at it: NUL and other characters that are no text."""
    sent = [*request.args.items(multi=True), *request.form.items(multi=True)]
    for name, value in (request.view_args or {}).items():
        if isinstance(value, int) and value > LARGEST:
            abort(404)
        sent.append((name, str(value)))
    for name, value in sent:
        wrong = text_problem(name) or text_problem(value)
        if wrong:
            abort(422, f"The field {one_line(name)!r} {wrong}.")


def _close(error: BaseException | None) -> None:
    session = g.pop("db", None)
    if session is not None:
        session.close()


def _finish(response: Response) -> Response:
    for name, value in _HEADERS.items():
        response.headers.setdefault(name, value)
    if current_app.config["SESSION_COOKIE_SECURE"]:  # it is served over HTTPS, and should be asked for so
        response.headers.setdefault("Strict-Transport-Security", "max-age=31536000")
    if not request.path.startswith("/static/"):
        response.headers.setdefault("Cache-Control", "no-store")
    return response


NO_MORE = 286
"""The status that a page's part is answered with that is gone: what was to be shown is shown, and asked for no more."""

_ERRORS = {
    400: (
        "This cannot be read",
        "What was sent is not what this page takes. Go back, reload it and send it again.",
    ),
    403: ("This is not for this account", "The account that is signed in may not do this."),
    404: ("There is nothing here", "No page has this address, or what stood at it was removed or renamed."),
    405: ("This address takes something else", "It is not opened in this way. Go back and use what the page offers."),
    409: ("This was not done", "It was changed meanwhile. Look at it again, then decide."),
    413: ("This is too large", "What was sent has more bytes than this page takes."),
    500: ("This went wrong", "It is not your doing. What happened is in the log of this program."),
}
"""What a page says that cannot be shown, by its status, where nobody says it better."""


def _error_page(error: HTTPException) -> Any:
    code = error.code or 500
    if code < 400:
        return error
    name, words = _ERRORS.get(code, (error.name, error.description))
    description = words if error.description == type(error).description else error.description
    if code == 404 and request.method == "GET" and wants_part():
        return render_template("gone.html", description=description), NO_MORE
    return render_template("error.html", code=code, name=name, description=description), code


def _not_done(error: StoreError) -> Any:
    """What no page foresaw: someone changed or removed the thing meanwhile, mostly."""
    return render_template("error.html", code=409, name="This was not done", description=str(error)), 409


def _took_too_long(error: TookTooLong) -> Any:
    return render_template("error.html", code=503, name="The question took too long", description=str(error)), 503


def _stale_form(error: CSRFError) -> Any:
    description = "The form was open too long or came from elsewhere. Go back, reload the page and send it again."
    return render_template("error.html", code=400, name="The form could not be taken", description=description), 400
