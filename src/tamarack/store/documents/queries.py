"""Keeping documents and asking what is in them.

Reading happens in the worker, in a process of its own (`config.document_reader`): whoever asks finds what was read,
or how far it is.
"""

import hashlib
import json
from collections.abc import Iterable
from datetime import datetime
from typing import Any

from pydantic import TypeAdapter
from sqlmodel import Session, col, delete, select
from sqlmodel.sql.expression import SelectOfScalar

from tamarack.core.openapi.read import Description
from tamarack.core.text import cleaned
from tamarack.store.columns import now
from tamarack.store.documents.tables import Document, DocumentReading

_DESCRIPTION = TypeAdapter(Description)


def keep_page(session: Session, text: str) -> str:
    """Keep a page's text; returns its name, the SHA-256."""
    return _keep(session, text, kept=True).sha256


def name_of(text: str) -> str:
    """What a document is called: the SHA-256 of its text."""
    return hashlib.sha256(text.encode()).hexdigest()


def keep_document(session: Session, text: str) -> str:
    """Keep an OpenAPI document's text, to be read; returns its name, the SHA-256."""
    return _asked(session, _keep(session, text, kept=True)).sha256


def ask(session: Session, text: str) -> str:
    """Ask for a text to be read, without keeping it for good; returns its name, the SHA-256."""
    return _asked(session, _keep(session, text, kept=False)).sha256


def _keep(session: Session, text: str, kept: bool) -> Document:
    sha256 = name_of(text)
    document = session.get(Document, sha256)
    if document is None:
        document = Document(sha256=sha256, text=text, kept=kept)
    document.kept = document.kept or kept
    document.made_at = document.made_at if document.kept else now()
    session.add(document)
    session.flush()
    return document


def _asked(session: Session, document: Document) -> Document:
    if session.get(DocumentReading, document.sha256) is None:
        session.add(DocumentReading(sha256=document.sha256))
        session.flush()
    return document


def document_text(session: Session, sha256: str) -> str | None:
    """The text of a document, or None."""
    document = session.get(Document, sha256) if sha256 else None
    return document.text if document is not None else None


def document_texts(session: Session, names: Iterable[str]) -> dict[str, str]:
    """The texts of documents and pages by their names, of those that there are: asked for all at once."""
    wanted = sorted({name for name in names if name})
    query = select(Document.sha256, Document.text).where(col(Document.sha256).in_(wanted))
    return dict(session.exec(query).all()) if wanted else {}


def reading_of(session: Session, sha256: str) -> DocumentReading | None:
    """How far reading a document is; None where it was never asked for."""
    return session.get(DocumentReading, sha256) if sha256 else None


def description_of(session: Session, sha256: str) -> Description | None:
    """What a document was understood to say, without the document itself; None where it was not read yet."""
    reading = reading_of(session, sha256)
    return _DESCRIPTION.validate_python(reading.described) if reading is not None and reading.described else None


def document_tree(session: Session, sha256: str) -> dict[str, Any]:
    """A document brought to 3.x; empty where there is none, or none that was understood yet."""
    reading = reading_of(session, sha256)
    found: dict[str, Any] = json.loads(reading.tree) if reading is not None and reading.tree else {}
    return found


def tree_size(session: Session, sha256: str) -> int:
    """Characters of a document's tree, 0 where there is none: what keeping it in memory goes by."""
    reading = reading_of(session, sha256)
    return len(reading.tree) if reading is not None else 0


def take_in(session: Session, sha256: str, description: Description) -> None:
    """Note what reading a document found."""
    reading = session.get(DocumentReading, sha256) or DocumentReading(sha256=sha256)
    reading.tree = json.dumps(description.document, ensure_ascii=False) if description.document else ""
    reading.described = cleaned(description.told() | {"document": {}})
    reading.state, reading.step = "read", ""
    session.add(reading)
    session.flush()


def to_read(begun_before: datetime) -> SelectOfScalar[DocumentReading]:
    """The readings that wait, and those that were begun before that time and came to no end."""
    state, begun = col(DocumentReading.state), col(DocumentReading.begun_at)
    return select(DocumentReading).where((state == "waiting") | ((state == "reading") & (begun < begun_before)))


def next_to_read(session: Session, begun_before: datetime) -> DocumentReading | None:
    """The reading that waits longest, now begun; or one that was begun before that time and came to no end."""
    waiting = to_read(begun_before).order_by(col(DocumentReading.asked_at)).limit(1)
    reading = session.exec(waiting.with_for_update(skip_locked=True)).first()
    if reading is not None:
        reading.state, reading.begun_at, reading.step = "reading", now(), ""
        session.add(reading)
        session.flush()
    return reading


def drop_unkept(session: Session, made_before: datetime) -> int:
    """Drop what was looked at before that time and never saved; returns how many."""
    gone = session.exec(delete(Document).where(col(Document.kept).is_(False), col(Document.made_at) < made_before))
    return int(gone.rowcount)
