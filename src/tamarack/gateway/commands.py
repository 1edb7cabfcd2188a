"""The commands of a node that joins: `join`, by a token, and `run`."""

from __future__ import annotations

import os
import socket
import ssl
import sys
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import click
import orjson
import urllib3

from tamarack import __version__
from tamarack.core.nodes.joining import CannotJoin, name_like, node_name
from tamarack.core.text import one_line
from tamarack.gateway import identity
from tamarack.gateway.feed.over_http import said_of
from tamarack.gateway.identity import NotJoined
from tamarack.gateway.processes.option import PROCESSES, TLS_PORT
from tamarack.settings import Settings

TOKEN = "TAMARACK_JOIN_TOKEN"  # noqa: S105 - the name of a variable


@click.group(context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="tamarack-node")
def node() -> None:
    """A gateway node that joins from another machine: it follows the feed and needs no database."""


_HOME = click.option(
    "--home",
    type=click.Path(path_type=Path, file_okay=False),
    default=Path("node"),
    show_default=True,
    help="Folder of the node: its credential, what it keeps, and its log.",
)


@node.command()
@click.option("--feed", required=True, help="Address of the feed, as this machine reaches it.")
@click.option("--token", help=f"The join token; taken from {TOKEN} unless given.")
@click.option(
    "--ca",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    help="Certificates (PEM) by which the feed proves who it is; this machine's own unless given.",
)
@click.option("--name", help="The node's name; made of the machine's unless given.")
@_HOME
def join(feed: str, token: str | None, ca: Path | None, name: str | None, home: Path) -> None:
    """Join an installation. A token is good for one node, for an hour."""
    token = token or os.environ.get(TOKEN, "")
    if not token:
        raise click.UsageError(f"Give the join token with --token, or in {TOKEN}.")
    if (home / identity.FILE).exists():
        raise click.ClickException(f"{home} holds a node already. Run it, or join in another folder with --home.")
    _only_safe(feed)
    pem = ca.read_text() if ca is not None else ""
    try:
        called = node_name(name) if name else name_like(socket.gethostname())
        told = _ask(feed, token, called, pem)
    except CannotJoin as error:
        raise click.ClickException(str(error)) from None
    kept = {key: told[key] for key in ("name", "environment", "credential", "keys", "addresses", "reach")}
    identity.keep(home, {"feed": feed.rstrip("/"), "ca": pem} | kept)
    click.echo(
        f"Joined as {told['name']}, of the environment {told['environment']}. What it is stands in {home.absolute()}."
    )


def _only_safe(feed: str) -> None:
    """Refuse an address by which credentials would be sent in the open."""
    parts = urlsplit(feed)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise click.BadParameter(f"{feed!r} is no address like https://feed.skerry.example", param_hint="--feed")
    if parts.scheme == "http" and parts.hostname not in ("127.0.0.1", "::1", "localhost"):
        raise click.BadParameter(
            f"{feed} would carry the token and the node's keys in the open; use https outside of this machine",
            param_hint="--feed",
        )


def _ask(feed: str, token: str, name: str, ca: str) -> dict[str, Any]:
    from tamarack.gateway.feed.over_http import checked_by

    try:
        context = checked_by(ca) if feed.startswith("https:") else None
    except ssl.SSLError as error:
        raise CannotJoin(f"--ca holds no certificates that can be read: {said_of(error)}") from error
    with urllib3.PoolManager(retries=False, ssl_context=context) as pool:
        try:
            answer = pool.request(
                "POST", f"{feed.rstrip('/')}/join", body=orjson.dumps({"name": name}), redirect=False, timeout=15.0,
                headers={"Authorization": f"Bearer {token}", "Content-Type": "application/json"},
            )  # fmt: skip
        except (urllib3.exceptions.HTTPError, OSError) as error:
            raise CannotJoin(f"The feed at {feed} cannot be reached: {said_of(error)}.") from error
    try:
        told = orjson.loads(answer.data)
        if answer.status != 200:
            raise CannotJoin(one_line(str(told["detail"]))[:500])
        if told["version"] != __version__:
            click.echo(f"The control side runs version {told['version']}, this node {__version__}.", err=True)
        return dict(told)
    except (ValueError, KeyError, TypeError) as error:
        raise CannotJoin(f"{feed} answered {answer.status}, and not as a feed does. Is that its address?") from error


@node.command()
@_HOME
@click.option("--port", type=click.IntRange(1, 65535), default=8080, show_default=True, help="Port to listen on.")
@click.option("--host", default="127.0.0.1", show_default=True, help="Address to listen on.")
@click.option("--address", default="", help="Where callers reach it, if that is not where it listens.")
@TLS_PORT
@PROCESSES
def run(home: Path, port: int, host: str, address: str, tls_port: int, processes: int) -> None:
    """Run the node that joined from a folder, until it is stopped."""
    from tamarack.gateway.node import Where
    from tamarack.gateway.run import run_node

    try:
        who = identity.joined(home)
    except NotJoined as error:
        raise click.ClickException(str(error)) from None
    settings = _settings(home, who)
    sys.exit(
        run_node(
            settings, lambda place: identity.joined(home, place.first), Where(port, host, tls_port, address), processes
        )
    )


def _settings(home: Path, who: identity.NodeIdentity) -> Settings:
    """How the node runs: by this machine's environment; where backends may be is the installation's to say, unless it
    is said here."""
    own = Settings(home=home)
    said = {name: getattr(own, name) or value for name, value in who.reach.items()}
    return own.model_copy(update={**said, "redis_url": own.redis_url or "none"})


def main() -> None:
    """The program `tamarack-node`."""
    node(prog_name="tamarack-node")
