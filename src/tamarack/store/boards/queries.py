"""Keeping explorations and boards: who sees them, who may change them, and the boards that ship.

What someone saved is theirs; those whose role it is shared with see it. Shipped boards are files of the program:
everyone sees them, nobody changes them, and a copy is anyone's own.
"""

from collections.abc import Sequence
from functools import lru_cache
from importlib import resources

from sqlmodel import Session, col, select

from tamarack.core.identity.permissions import STAFF_ROLES
from tamarack.core.traffic.board import Board, read_board
from tamarack.core.traffic.explore import Exploration
from tamarack.store.audit.log import Actor, record
from tamarack.store.boards.tables import BoardRow, SavedExploration
from tamarack.store.columns import now
from tamarack.store.errors import NotPossible

MOST_SAVED = 500
"""Explorations, and boards, of one person."""


@lru_cache(maxsize=1)
def shipped() -> dict[str, Board]:
    """The boards that ship, by name."""
    folder = resources.files("tamarack") / "boards"
    files = sorted((file for file in folder.iterdir() if file.name.endswith(".json")), key=lambda file: file.name)
    return {board.name: board for board in (read_board(file.read_text()) for file in files)}


def _sees(owner: str, roles: Sequence[str], email: str, role: str) -> bool:
    return owner == email or role in roles


def _roles(roles: Sequence[str]) -> list[str]:
    wrong = next((role for role in roles if role not in STAFF_ROLES), None)
    if wrong is not None:
        raise NotPossible(f"{wrong!r} is no role; those are {', '.join(STAFF_ROLES)}.")
    return sorted(set(roles))


def saved(session: Session, email: str, role: str) -> list[SavedExploration]:
    """The explorations that someone sees: their own, and those shared with their role."""
    found = session.exec(select(SavedExploration).order_by(col(SavedExploration.title)))
    return [one for one in found if _sees(one.owner, one.roles, email, role)]


def saved_one(session: Session, id: str, email: str, role: str) -> SavedExploration | None:
    """An exploration that someone sees; None where there is none."""
    found = session.get(SavedExploration, id)
    return found if found is not None and _sees(found.owner, found.roles, email, role) else None


def save_exploration(
    session: Session, actor: Actor, title: str, question: Exploration, roles: Sequence[str], id: str = ""
) -> SavedExploration:
    """Keep an exploration, or change one of one's own. Raises NotPossible."""
    title = title.strip()
    if not 1 <= len(title) <= 120:
        raise NotPossible("Give the exploration a title of 1 to 120 characters.")
    kept = session.get(SavedExploration, id) if id else None
    if id and (kept is None or kept.owner != actor.name):
        raise NotPossible("Only its owner can change an exploration; save it under another title.")
    if kept is None:
        many = len(session.exec(select(SavedExploration.id).where(SavedExploration.owner == actor.name)).all())
        if many >= MOST_SAVED:
            raise NotPossible(f"You keep {many} explorations already; remove some first.")
        kept = SavedExploration(title=title, question={}, owner=actor.name)
    kept.title, kept.question, kept.roles = title, question.model_dump(mode="json"), _roles(roles)
    kept.changed_at = now()
    session.add(kept)
    session.flush()
    record(session, actor, "save exploration", f"exploration {kept.id}", title=title, roles=kept.roles)
    return kept


def remove_exploration(session: Session, actor: Actor, id: str) -> str:
    """Remove one of one's own; returns its title. Boards hold copies, and keep theirs. Raises NotPossible."""
    kept = session.get(SavedExploration, id)
    if kept is None or kept.owner != actor.name:
        raise NotPossible("Only its owner can remove an exploration.")
    session.delete(kept)
    record(session, actor, "remove exploration", f"exploration {id}", title=kept.title)
    return kept.title


def boards(session: Session, email: str, role: str) -> list[tuple[Board, BoardRow | None]]:
    """The boards that someone sees, shipped ones first; these have no row."""
    rows = session.exec(select(BoardRow).order_by(col(BoardRow.name)))
    mine = [(Board.model_validate(row.body), row) for row in rows if _sees(row.owner, row.roles, email, role)]
    return [*((board, None) for board in shipped().values()), *mine]


def board(session: Session, name: str, email: str, role: str) -> tuple[Board, BoardRow | None] | None:
    """A board that someone sees, by name."""
    if name in shipped():
        return shipped()[name], None
    row = session.get(BoardRow, name)
    if row is None or not _sees(row.owner, row.roles, email, role):
        return None
    return Board.model_validate(row.body), row


def save_board(session: Session, actor: Actor, board: Board, roles: Sequence[str] | None = None) -> BoardRow:
    """Keep a board; one's own of that name is replaced. Raises NotPossible."""
    if board.name in shipped():
        raise NotPossible(f"The board {board.name} ships with Tamarack and stays as it is; give yours another name.")
    row = session.get(BoardRow, board.name)
    if row is not None and row.owner != actor.name:
        raise NotPossible(f"There is a board {board.name} of {row.owner}; give yours another name.")
    if row is None:
        many = len(session.exec(select(BoardRow.name).where(BoardRow.owner == actor.name)).all())
        if many >= MOST_SAVED:
            raise NotPossible(f"You keep {many} boards already; remove some first.")
        row = BoardRow(name=board.name, body={}, owner=actor.name)
    row.body = board.model_dump(mode="json", exclude_defaults=True)
    if roles is not None:
        row.roles = _roles(roles)
    row.changed_at = now()
    session.add(row)
    session.flush()
    record(session, actor, "save board", f"board {board.name}", title=board.title, tiles=len(board.tiles))
    return row


def remove_board(session: Session, actor: Actor, name: str) -> str:
    """Remove a board of one's own; returns its title. Raises NotPossible."""
    row = session.get(BoardRow, name)
    if row is None or row.owner != actor.name:
        raise NotPossible("Only its owner can remove a board; the boards that ship with Tamarack stay.")
    session.delete(row)
    record(session, actor, "remove board", f"board {name}", title=str(row.body.get("title", name)))
    return str(row.body.get("title", name))
