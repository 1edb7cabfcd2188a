"""OpenAPI documents as trees of 3.x, read from their texts once."""

from functools import lru_cache
from typing import Any

import orjson
from sqlmodel import Session

from tamarack.core.openapi.read import describe
from tamarack.store.draft.tables import Document


@lru_cache(maxsize=16)
def _tree(text: str) -> str:
    tree = describe(text, validated=False).document
    return orjson.dumps(tree, option=orjson.OPT_NON_STR_KEYS).decode()


def document_tree(session: Session, sha256: str) -> dict[str, Any]:
    """A document brought to 3.x; empty where there is none or it cannot be read. Kept once it was read."""
    document = session.get(Document, sha256) if sha256 else None
    if document is None:
        return {}
    if document.tree is None:
        document.tree = _tree(document.text)
        session.add(document)
        session.flush()
    found: dict[str, Any] = orjson.loads(document.tree)
    return found
