"""The feed program on a real socket, and nodes that joined by it."""

import threading
from collections.abc import Iterator
from contextlib import contextmanager

from sqlmodel import Session
from werkzeug.serving import make_server

from tamarack.feed.app import make_app
from tamarack.settings import Settings
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.nodes import joining
from tamarack.store.nodes.tables import Node


@contextmanager
def serving(settings: Settings) -> Iterator[str]:
    """The feed, served; its address."""
    app = make_app(settings)
    server = make_server("127.0.0.1", 0, app, threaded=True)
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.port}"
    finally:
        server.shutdown()
        thread.join(10)
        server.server_close()
        app.extensions["tamarack_waker"].close()
        app.extensions["tamarack_engine"].dispose()


def joined(session: Session, name: str = "pier-1", environment: str = "production") -> tuple[Node, str]:
    """A node that joined, and its credential."""
    token = joining.make_token(session, COMMAND_LINE, environment)
    made = joining.join(session, token.value, name)
    session.commit()
    return made
