"""What the command line compares: documents in files, and descriptions of versions in the draft or in what runs."""

from pathlib import Path
from typing import Any

from sqlmodel import Session

from tamarack.core.openapi.read import describe
from tamarack.store.documents import queries as documents
from tamarack.store.draft.queries import load_configuration
from tamarack.store.environments.queries import known
from tamarack.store.rollouts import queries as rolling


class NotComparable(ValueError):
    """What was named is no description that can be compared."""


def of_file(path: Path) -> dict[str, Any]:
    """The description in a file. Raises `NotComparable`, in words."""
    try:
        found = describe(path.read_text())
    except (OSError, UnicodeDecodeError) as error:
        raise NotComparable(f"{path} cannot be read: {error}") from error
    if not found.usable or not found.document:
        wrong = next((problem for problem in found.problems if problem.severity == "error"), None)
        words = f"line {wrong.line}: {wrong.message}" if wrong is not None else "it describes nothing"
        raise NotComparable(f"{path} is no OpenAPI document that can be compared; {words}")
    return found.document


def of_version(session: Session, named: str) -> dict[str, Any]:
    """The description of `API/VERSION` in the draft, or of `API/VERSION@ENVIRONMENT` in what runs there.

    Raises `NotComparable`, in words.
    """
    place, _, where = named.partition("@")
    there = known(session)
    if where and where not in there:
        raise NotComparable(f"{where!r} is no environment; there are {there.said}")
    configuration = rolling.running_configuration(session, where) if where else load_configuration(session)
    api, _, label = place.partition("/")
    found = configuration.api(api)
    version = found.version(label) if found is not None else None
    if version is None:
        versions = ", ".join(f"{one.name}/{v.version}" for one in configuration.apis for v in one.versions) or "none"
        raise NotComparable(f"there is no version {place!r}, nor a file of that name; there are {versions}")
    tree = documents.document_tree(session, version.document) if version.document else {}
    if not tree:
        raise NotComparable(f"{named} has no description")
    return tree
