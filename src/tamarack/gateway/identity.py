"""Who a node is: its name, environment and keys, and how it reaches the control side. A node near by has them from the
installation; one that joined keeps them in a file of its own.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import orjson

from tamarack.core.nodes.keys import NodeKeys, asking_key
from tamarack.gateway.feed.contract import Feed
from tamarack.gateway.feed.handing_in import HandIn
from tamarack.settings import Settings

FILE = "node.json"


class NotJoined(Exception):
    """There is no node in a folder, or what is kept of it cannot be read."""


@dataclass(frozen=True, slots=True)
class NodeIdentity:
    """One node."""

    name: str
    environment: str
    keys: NodeKeys
    feed: Feed
    portal_url: str
    gateway_url: str
    sign_in_url: str
    reach: Mapping[str, str] = field(default_factory=dict)
    """The installation's settings of where backends may be, for a node that joined."""
    hand_in: HandIn | None = None
    """Where its records go; None where the worker takes them from its folder."""
    forget: Callable[[], None] = lambda: None
    """Forgets what it is: it was revoked."""


def near(settings: Settings, name: str, environment: str) -> NodeIdentity:
    """A node that shares the installation's folder and database."""
    from tamarack.gateway.feed.database import DatabaseFeed

    keys = settings.keys
    own = NodeKeys(keys.raw("pepper"), keys.raw("secrets"), asking_key(keys.raw("bench"), name))
    return NodeIdentity(
        name, environment, own, DatabaseFeed(settings.database, name, environment, own.pepper),
        settings.portal_url, settings.gateway_url(environment), settings.sign_in_url,
    )  # fmt: skip


def joined(home: Path, first: bool = True) -> NodeIdentity:
    """The node that joined from this folder. Of its processes the first takes new credentials, and the others read what
    it kept. Raises `NotJoined`."""
    from tamarack.gateway.feed.over_http import HttpFeed

    path = home / FILE
    try:
        kept: dict[str, Any] = orjson.loads(path.read_bytes())
        keys = NodeKeys(*(bytes.fromhex(kept["keys"][name]) for name in NodeKeys._fields))
        addresses = kept["addresses"]

        def keep_credential(credential: str) -> None:
            keep(home, kept | {"credential": credential})
            kept["credential"] = credential

        def read_credential() -> str:
            return str(orjson.loads(path.read_bytes())["credential"])

        feed = HttpFeed(
            kept["feed"], kept["credential"], keys.pepper, kept.get("ca", ""),
            keep_credential if first else None, read_credential,
        )  # fmt: skip
        return NodeIdentity(
            kept["name"], kept["environment"], keys, feed,
            addresses["portal"], addresses["gateway"], addresses["sign_in"],
            {name: str(kept["reach"][name]) for name in ("unreachable", "reachable")},
            feed.hand_in, lambda: path.unlink(missing_ok=True),
        )  # fmt: skip
    except FileNotFoundError:
        raise NotJoined(
            f"No node joined from {home}: there is no {FILE}. Make a join token under Nodes, and join with it."
        ) from None
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise NotJoined(f"{path} cannot be read: {type(error).__name__}: {error}. Join anew.") from error


def keep(home: Path, kept: dict[str, Any]) -> None:
    """Keep what a node is, in one step, for its owner alone."""
    home.mkdir(parents=True, exist_ok=True, mode=0o700)
    part = home / f".{FILE}.{os.getpid()}"
    part.touch(mode=0o600)
    part.write_bytes(orjson.dumps(kept, option=orjson.OPT_INDENT_2))
    part.replace(home / FILE)
