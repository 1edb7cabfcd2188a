"""The feed as a joined node is told it: the same statements that a node near by runs, and of what they bring only what
its environment needs.
"""

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from sqlmodel import Session

from tamarack.core.identity.credentials import CredentialKeys
from tamarack.core.identity.sealing import NONCE_BYTES, NotSealedHere, seal, unseal
from tamarack.core.nodes.feed import FeedEntry, News, Report, up_to_date
from tamarack.core.nodes.for_node import Reseal, for_node
from tamarack.core.nodes.keys import sealing_key
from tamarack.store.nodes import statements
from tamarack.store.nodes.tables import Node

Random = Callable[[int], bytes]


def resealer(keys: CredentialKeys, node: str, random: Random) -> Reseal:
    """Seals for a node what was sealed for the installation. What cannot be opened stays as it is: the node says so."""
    own = sealing_key(keys.sealing, node)

    def reseal(sealed: str, about: str) -> str:
        try:
            return seal(unseal(sealed, keys.sealing, about), own, random(NONCE_BYTES), about)
        except NotSealedHere:
            return sealed

    return reseal


def look(session: Session, node: Node, after: int, above: int, reseal: Reseal) -> News:
    """What is new for a node: items after a sequence number, a rollout above a number, what it is asked to do."""
    here = {"name": node.name, "environment": node.environment}
    newest, number, asked = _rows(session, statements.WHERE_THINGS_ARE, here)[0]
    entries: list[FeedEntry] = []
    if newest > after:
        found = [FeedEntry(*row) for row in _rows(session, statements.ITEMS, {"after": after})]
        entries = [for_node(entry, node.environment, reseal) for entry in found]
    rollout = None
    if number > above and up_to_date(entries, newest):
        rollout = next((tuple(row) for row in _rows(session, statements.ROLLOUT, here | {"above": above})), None)
    return News(newest, entries, rollout, asked, node.new_credential_asked)


def report(session: Session, node: Node, said: Report) -> float | None:
    """Keep what a node says of itself; returns the time it is (seconds), None where it was revoked meanwhile."""
    for statement, values in statements.steps_of(node.name, node.environment, said):
        for one in values:
            session.connection().exec_driver_sql(statement, dict(one))
    row = statements.report_values(node.name, node.environment, said, joined=True)
    found = _rows(session, statements.REPORT, row)
    return float(found[0][0]) if found else None


def find_tokens(session: Session, digests: Sequence[str]) -> dict[str, dict[str, Any]]:
    """What each of some opaque tokens stands for, by its digest; those that are not good are left out."""
    return {row[0]: row[1] for row in _rows(session, statements.TOKENS, {"digests": list(digests)})}


def ask_for_key_set(session: Session, url: str) -> None:
    """Have a key set fetched anew."""
    _rows(session, statements.ASK_FOR_KEYS, {"channel": statements.KEY_SETS, "url": url})


def _rows(session: Session, statement: str, values: Mapping[str, Any]) -> list[Any]:
    return list(session.connection().exec_driver_sql(statement, dict(values)).fetchall())
