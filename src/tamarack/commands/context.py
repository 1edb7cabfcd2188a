"""What commands work with: the settings of this installation, and a session on its database."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from tamarack.settings import Settings

if TYPE_CHECKING:
    from sqlmodel import Session


def here() -> Settings:
    """The settings, with the port base that the start command last used on this home folder."""
    current = Settings()
    kept = current.home / "port-base"
    if "TAMARACK_PORT_BASE" not in os.environ and kept.is_file():
        return Settings(port_base=int(kept.read_text()))
    return current


@contextmanager
def database_session() -> "Iterator[Session]":
    """A session on the installation's database, closed with its connection."""
    from sqlmodel import Session

    from tamarack.store.engine import make_engine

    engine = make_engine(here().database, size=1)
    try:
        with Session(engine) as session:
            yield session
    finally:
        engine.dispose()
