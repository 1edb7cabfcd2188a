"""An operation as its document describes it, and the path of a call of it."""

from typing import Any
from urllib.parse import quote

from tamarack.core.configuration.model import Operation, Version
from tamarack.core.openapi.reference import OperationView, view_operation
from tamarack.store.documents.queries import document_tree
from tamarack.web.application import db


def view_of(version: Version, operation: Operation) -> OperationView:
    """An operation as its document describes it, or bare."""
    found = view_operation(document_tree(db(), version.document), operation.call)
    if found is not None:
        return found
    return OperationView(operation.call, operation.method, operation.path, operation.summary, "", (), deprecated=False)


def path_of(version: Version, operation: Operation, typed: dict[str, Any]) -> str:
    """The path of a call with its parameters in place."""
    path = operation.path
    query = []
    for name, value in typed["parameters"].items():
        place, _, plain = name.partition(".")
        if place == "path":
            path = path.replace("{" + plain + "}", quote(value, safe="") or "%20")
        elif place == "query" and value:
            query.append(f"{quote(plain)}={quote(value, safe='')}")
    if path.endswith("/*"):
        path = path[:-1] + typed["rest"].lstrip("/")
    path = version.base_path + ("" if path == "/" else path)
    return path + ("?" + "&".join(query) if query else "")
