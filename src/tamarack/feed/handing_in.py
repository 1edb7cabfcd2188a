"""Taking in a node's batches: each is put into the node's spool folder here, from where the worker takes it into the
database as any other. A batch that comes twice is known there by its name.
"""

import os
import zlib
from pathlib import Path

import orjson
from flask import Blueprint, abort, current_app, request

from tamarack.core.nodes.batches import batch_name, check_rows
from tamarack.feed import signed_in
from tamarack.web.application import settings_of

pages = Blueprint("handing_in", __name__)

LARGEST = 64_000_000
"""Bytes of a batch once it is unpacked."""


@pages.put("/feed/batches/<name>")
def take(name: str) -> tuple[str, int]:
    """Take a batch. 204 means that it is on disk here."""
    node = signed_in.node()
    stem, ending = batch_name(name)
    content = _unpacked(request.get_data())
    try:
        rows = orjson.loads(content)
    except ValueError as error:
        abort(422, f"The batch is no JSON: {error}")
    check_rows(ending, rows, node.environment, node.name)
    _keep(settings_of(current_app).node_home(node.name) / "spool", f"{stem}.{ending}", content)
    return "", 204


def _unpacked(content: bytes) -> bytes:
    """A body as it was before it was packed (gzip, RFC 1952), within bounds."""
    if request.headers.get("Content-Encoding", "").lower() != "gzip":
        found = content
    else:
        unpacker = zlib.decompressobj(wbits=31)
        try:
            found = unpacker.decompress(content, LARGEST + 1)
        except zlib.error as error:
            abort(422, f"The batch is not packed as gzip: {error}")
        if not unpacker.eof and len(found) <= LARGEST:
            abort(422, "The batch is not whole.")
    if len(found) > LARGEST:
        abort(413, f"A batch holds at most {LARGEST:,} bytes.")
    return found


def _keep(spool: Path, name: str, content: bytes) -> None:
    """Write a batch so that it is whole and on disk before the node forgets it."""
    spool.mkdir(parents=True, exist_ok=True, mode=0o700)
    part = spool / f"{name}.{os.urandom(4).hex()}.part"
    try:
        with part.open("wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        part.rename(spool / name)
    finally:
        part.unlink(missing_ok=True)
