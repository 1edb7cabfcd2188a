"""The feed's application. Programs alone ask it, so it has no sessions and no forms; what goes wrong is told as a
problem (RFC 9457).
"""

from typing import Any

from flask import Flask, Response, current_app, g, jsonify
from sqlalchemy.exc import OperationalError
from werkzeug.exceptions import HTTPException

from tamarack.core.errors import CoreError
from tamarack.core.http.addresses import networks
from tamarack.feed import following, handing_in, joining
from tamarack.feed.waker import Waker
from tamarack.settings import Settings
from tamarack.store.engine import make_engine
from tamarack.store.errors import StoreError
from tamarack.web.behind_proxy import BehindProxy
from tamarack.web.quick_start import pages as quick_start

MOST_BYTES = 64_000_000
"""Of a request's body, as it comes."""


def make_app(settings: Settings | None = None) -> Flask:
    """The feed, ready to serve."""
    settings = settings or Settings()
    app = Flask("tamarack.feed", static_folder=None)
    app.config.update(MAX_CONTENT_LENGTH=MOST_BYTES)
    app.extensions["tamarack_settings"] = settings
    app.extensions["tamarack_engine"] = make_engine(settings.database)
    app.extensions["tamarack_door"] = "feed"
    app.extensions["tamarack_waker"] = Waker(settings.database)
    if settings.trusted_proxies:
        behind = BehindProxy(app.wsgi_app, networks(settings.trusted_proxies))
        app.wsgi_app = behind  # type: ignore[assignment]
    for pages in (following.pages, handing_in.pages, joining.pages, quick_start.pages):
        app.register_blueprint(pages)
    app.teardown_appcontext(_close)
    app.after_request(_finish)
    app.register_error_handler(HTTPException, _problem)
    app.register_error_handler(CoreError, lambda error: problem(422, str(error)))
    app.register_error_handler(StoreError, lambda error: problem(409, str(error)))
    app.register_error_handler(OperationalError, _away)
    app.add_url_rule("/-/health", "health", lambda: jsonify(status="ready"))
    return app


def problem(status: int, detail: str, **more: Any) -> tuple[Response, int]:
    """What went wrong, for a program and its people."""
    answer = jsonify(status=status, detail=detail, **more)
    answer.mimetype = "application/problem+json"
    return answer, status


def _problem(error: HTTPException) -> Any:
    return problem(error.code or 500, error.description or error.name, **getattr(error, "more", {}))


def _away(error: OperationalError) -> Any:
    current_app.logger.warning("the database does not answer: %s", type(error.orig).__name__)
    return problem(503, "The database does not answer. Try again in a moment.")


def _finish(response: Response) -> Response:
    response.headers.setdefault("Cache-Control", "no-store")
    response.headers.setdefault("X-Content-Type-Options", "nosniff")
    return response


def _close(error: BaseException | None) -> None:
    session = g.pop("db", None)
    if session is not None:
        session.close()
