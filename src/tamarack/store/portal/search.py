"""The portal's search: what runs in the live environment, as words in PostgreSQL (full text search, English)."""

import re
from collections.abc import Collection, Iterator
from dataclasses import dataclass

from sqlalchemy import text
from sqlmodel import Session, col, delete, select

from tamarack.core.configuration.model import Api, Configuration
from tamarack.core.configuration.seen import SHOWN_STATES
from tamarack.core.openapi.reference import outline_texts
from tamarack.core.portal.markdown_words import markdown_words
from tamarack.store.documents.queries import document_tree
from tamarack.store.documents.tables import Document
from tamarack.store.environments.queries import known
from tamarack.store.portal.search_table import CatalogueEntry
from tamarack.store.rollouts.tables import Rollout

MOST_TEXT = 100_000
MOST_WORDS = 12
MARK_FROM, MARK_TO = "\x02", "\x03"
"""What stands around found words in an excerpt; whoever shows it escapes the text first."""


def index(session: Session, configuration: Configuration) -> None:
    """Make the search look through a configuration, in place of what it looked through before."""
    session.exec(delete(CatalogueEntry).where(col(CatalogueEntry.id) > 0))
    for api in configuration.apis:
        session.add_all(_entries(session, api))
    session.flush()


def index_if_missing(session: Session) -> None:
    """Make the search of an installation that rolled out before there was one."""
    if session.exec(select(CatalogueEntry.id).limit(1)).first() is None:
        configuration = _live(session)
        if configuration is not None:
            index(session, configuration)


def index_again_with(session: Session, document: str) -> None:
    """Make the search anew where what runs in the live environment has this document, which was read just now."""
    configuration = _live(session)
    used = [version.document for api in (configuration.apis if configuration else ()) for version in api.versions]
    if configuration is not None and document in used:
        index(session, configuration)


def _live(session: Session) -> Configuration | None:
    live = known(session).live
    newest = select(Rollout).where(Rollout.environment == live).order_by(col(Rollout.number).desc()).limit(1)
    rollout = session.exec(newest).first()
    return Configuration.model_validate(rollout.configuration) if rollout is not None else None


def _entries(session: Session, api: Api) -> Iterator[CatalogueEntry]:
    shown = [version for version in api.versions if version.state in SHOWN_STATES]
    if not shown:
        return
    labels = " ".join(version.version for version in shown)
    yield CatalogueEntry(kind="api", api=api.name, title=api.title, summary=api.summary, text=labels)
    for page in api.pages:
        document = session.get(Document, page.document)
        words = markdown_words(document.text if document is not None else "")
        yield CatalogueEntry(kind="page", api=api.name, place=page.name, title=page.title, text=words[:MOST_TEXT])
    for version in shown:
        texts = outline_texts(document_tree(session, version.document))
        for operation in version.operations:
            summary, id, words = texts.get(operation.call, (operation.summary, "", ""))
            call = re.sub(r"[^\w]+", " ", f"{operation.call} {id}")
            yield CatalogueEntry(
                kind="operation",
                api=api.name,
                version=version.version,
                place=operation.call,
                title=summary or operation.call,
                summary=call,
                text=words[:MOST_TEXT],
            )


@dataclass(frozen=True, slots=True)
class Hit:
    """Something found: an API, an operation (`place` is its call) or a page (`place` is its name)."""

    kind: str
    api: str
    version: str
    place: str
    title: str
    excerpt: str


def query_of(typed: str) -> str:
    """What was typed as a query that all words must match, each from its beginning; empty where it has no word."""
    words = re.findall(r"\w+", typed.lower())[:MOST_WORDS]
    return " & ".join(f"{word}:*" for word in words)


def search(session: Session, typed: str, apis: Collection[str], most: int = 400) -> list[Hit]:
    """What matches among these APIs, the best first."""
    query = query_of(typed)
    if not query or not apis:
        return []
    options = f"StartSel={MARK_FROM}, StopSel={MARK_TO}, MaxWords=22, MinWords=8, MaxFragments=1"
    statement = text(
        "SELECT kind, api, version, place, title, ts_headline('english', text, wanted, :options) AS excerpt"
        " FROM (SELECT e.*, q.wanted,"
        "   ts_rank_cd(e.words, q.wanted) * (CASE e.kind WHEN 'api' THEN 3 ELSE 1 END) AS rank"
        "  FROM catalogue_entry AS e, to_tsquery('english', :query) AS q(wanted)"
        "  WHERE e.words @@ q.wanted AND e.api = ANY(:apis) ORDER BY rank DESC, e.id LIMIT :most) AS found"
        " ORDER BY rank DESC, id"
    )
    rows = session.connection().execute(
        statement, {"query": query, "apis": list(apis), "options": options, "most": most}
    )
    return [Hit(row.kind, row.api, row.version, row.place, row.title, row.excerpt) for row in rows]
