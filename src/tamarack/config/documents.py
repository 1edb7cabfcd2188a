"""The documents and pages that files hold, put where a configuration finds them; documents are read on the way."""

from collections.abc import Callable

from sqlmodel import Session

from tamarack.config.files import FileProblem, Loaded
from tamarack.core.openapi.read import Description
from tamarack.store.documents import queries as documents


def keep_documents(session: Session, loaded: Loaded, read: Callable[[str], Description]) -> list[FileProblem]:
    """Keep what was loaded; returns what is wrong with documents that cannot be used.

    `read` is a `DocumentReader`'s, or the core's own where the texts are known to be harmless.
    """
    found = []
    for text in loaded.pages.values():
        documents.keep_page(session, text)
    for sha256, text in loaded.documents.items():
        documents.keep_document(session, text)
        description = documents.description_of(session, sha256)
        if description is None:
            description = read(text)
            documents.take_in(session, sha256, description)
        found += [
            FileProblem(loaded.origin.get(sha256, sha256), one.line, one.path, one.message)
            for one in description.problems
            if one.severity == "error"
        ]
    return found
