"""Batches that the database refused for what is in them: kept on the node's disk, noted here, and told."""

from collections.abc import Callable
from contextlib import suppress
from datetime import datetime

from sqlalchemy import Engine
from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Field, Session, SQLModel, col, select

from tamarack.core.text import one_line
from tamarack.store.columns import Moment
from tamarack.store.mail import telling

LONGEST = 500


class SetAside(SQLModel, table=True):
    """One batch out of the way, so that those behind it are taken in."""

    __tablename__ = "set_aside"

    name: str = Field(primary_key=True)
    """The file's name, which says what it holds."""
    node: str
    at: datetime = Moment(index=True)
    problem: str
    """What the database, or the reading of it, said."""
    path: str
    """Where the file is kept."""


def noter(engine: Engine) -> Callable[[str, str, str, str], None]:
    """`note`, in a transaction of its own. A batch is out of the way whether or not it can be noted."""

    def noted(name: str, node: str, problem: str, path: str) -> None:
        with suppress(SQLAlchemyError), Session(engine) as session:
            note(session, name, node, problem, path)
            session.commit()

    return noted


def note(session: Session, name: str, node: str, problem: str, path: str) -> None:
    """Note a batch, and tell the platform's admins. One that is noted already changes nothing."""
    if session.get(SetAside, name) is not None:
        return
    said = one_line(problem)[:LONGEST]
    session.add(SetAside(name=name, node=node, problem=said, path=path))
    title = f"A batch of records of {node} was set aside"
    text = f"{title}: {said}. The file is kept at {path}; later records were taken in. See it under Nodes."
    telling.tell_admins(session, title, text)


def newest(session: Session, most: int = 20) -> list[SetAside]:
    """The batches set aside last."""
    return list(session.exec(select(SetAside).order_by(col(SetAside.at).desc()).limit(most)))
