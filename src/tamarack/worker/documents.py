"""Reads the documents that wait for it, each in a process that it cannot harm."""

from datetime import timedelta

from sqlalchemy import Engine, update
from sqlmodel import Session, col

from tamarack.config.document_reader import MOST_WAITED_S, DocumentReader
from tamarack.store.columns import now
from tamarack.store.documents import queries as documents
from tamarack.store.documents.tables import DocumentReading
from tamarack.store.portal import search as catalogue
from tamarack.worker.runner import Log

LEFT = timedelta(seconds=2 * MOST_WAITED_S)
"""After this time a reading that was begun has no reader any more."""


class DocumentTask:
    """Reads one document after the other."""

    def __init__(self, engine: Engine, log: Log) -> None:
        self._engine, self._log = engine, log
        self._reader = DocumentReader()

    def read_next(self) -> bool:
        """Read the document that waits longest; whether there was one."""
        with Session(self._engine) as session:
            reading = documents.next_to_read(session, now() - LEFT)
            text = documents.document_text(session, reading.sha256) if reading is not None else None
            sha256 = reading.sha256 if reading is not None else ""
            session.commit()
        if not sha256:
            return False
        description = self._reader.read(text or "", lambda step: self._note(sha256, step))
        with Session(self._engine) as session:
            documents.take_in(session, sha256, description)
            catalogue.index_again_with(session, sha256)
            session.commit()
        if not description.dialect:
            self._log(f"document {sha256[:12]}: {description.problems[0].message[:200]}")
        return True

    def _note(self, sha256: str, step: str) -> None:
        with Session(self._engine) as session:
            session.connection().execute(
                update(DocumentReading).where(col(DocumentReading.sha256) == sha256).values(step=step)
            )
            session.commit()

    def close(self) -> None:
        self._reader.close()
