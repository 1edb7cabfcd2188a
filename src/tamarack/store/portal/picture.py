"""Pictures that people upload: of applications, and the portal's logo. What is kept was encoded anew by Tamarack."""

import hashlib
from datetime import datetime

from sqlalchemy import Column, LargeBinary
from sqlmodel import Field, Session, SQLModel

from tamarack.store.columns import Moment


class Picture(SQLModel, table=True):
    """A picture by the SHA-256 of its PNG."""

    sha256: str = Field(primary_key=True)
    data: bytes = Field(sa_column=Column(LargeBinary, nullable=False))
    made_at: datetime = Moment()


def keep_picture(session: Session, png: bytes) -> str:
    """Keep a picture; returns its name."""
    sha256 = hashlib.sha256(png).hexdigest()
    if session.get(Picture, sha256) is None:
        session.add(Picture(sha256=sha256, data=png))
        session.flush()
    return sha256
