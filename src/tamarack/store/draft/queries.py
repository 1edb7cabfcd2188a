"""The draft: reading it as a `Configuration`, editing it, undoing an edit."""

from typing import Any

from sqlmodel import Session, col, func, select

from tamarack.core.configuration.backend import Backend
from tamarack.core.configuration.difference import difference
from tamarack.core.configuration.model import Api, Cap, Configuration
from tamarack.core.configuration.plans import Product
from tamarack.core.policies import AnyPolicy
from tamarack.core.types import Frozen
from tamarack.core.written.kind import WrittenKind
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.draft.tables import DraftChange, DraftItem
from tamarack.store.errors import StoreError


class Everywhere(Frozen):
    """The policies placed everywhere, as one item of the draft."""

    policies: tuple[AnyPolicy, ...] = ()


MODELS: dict[str, type[Frozen]] = {
    "backend": Backend,
    "kind": WrittenKind,
    "api": Api,
    "product": Product,
    "cap": Cap,
    "everywhere": Everywhere,
}


class EditedMeanwhile(StoreError):
    """Someone else changed the item since it was read."""

    def __init__(self, kind: str, name: str, by: str) -> None:
        super().__init__(f"{kind} {name} was changed by {by} meanwhile; look at their change, then make yours again")


def dump(model: Frozen) -> dict[str, Any]:
    """A model as the JSON that is kept: only what differs from the defaults."""
    return model.model_dump(mode="json", exclude_defaults=True)


def load_configuration(session: Session) -> Configuration:
    """The whole draft."""
    items = session.exec(select(DraftItem).order_by(col(DraftItem.kind), col(DraftItem.name))).all()
    by_kind: dict[str, list[dict[str, Any]]] = {kind: [] for kind in MODELS}
    for item in items:
        by_kind[item.kind].append(item.body)
    return Configuration.model_validate(
        {
            "everywhere": by_kind["everywhere"][0].get("policies", ()) if by_kind["everywhere"] else (),
            "kinds": by_kind["kind"],
            "backends": by_kind["backend"],
            "apis": by_kind["api"],
            "products": by_kind["product"],
            "caps": by_kind["cap"],
        }
    )


def mark(session: Session) -> str:
    """A text that is another after each edit of the draft."""
    row = session.exec(
        select(func.count(), func.coalesce(func.sum(DraftItem.revision), 0), func.max(DraftItem.changed_at))
    ).one()
    return f"{row[0]}-{row[1]}-{row[2].isoformat() if row[2] else ''}"


def revision(session: Session, kind: str, name: str) -> int:
    """The number of an item's last edit, 0 where there is none."""
    item = session.get(DraftItem, (kind, name))
    return item.revision if item is not None else 0


def save(
    session: Session,
    actor: Actor,
    kind: str,
    name: str,
    model: Frozen | None,
    summary: str,
    expected: int | None = None,
) -> DraftChange | None:
    """Put an item into the draft, or take it out (no model). Returns the change, None where nothing changed.

    `expected` is the revision that the edit was made on; raises `EditedMeanwhile` where it is no longer that.
    """
    item = session.get(DraftItem, (kind, name), with_for_update=True)
    if expected is not None and expected != (item.revision if item is not None else 0):
        raise EditedMeanwhile(kind, name, item.changed_by if item is not None else "someone")
    before = item.body if item is not None else None
    after = dump(model) if model is not None else None
    if before == after:
        return None
    _put(session, actor, kind, name, item, after)
    change = DraftChange(by=actor.name, kind=kind, name=name, summary=summary, before=before, after=after)
    session.add(change)
    auditing.record(session, actor, "draft", f"{kind} {name}".strip(), summary=summary)
    session.flush()
    return change


def _put(
    session: Session, actor: Actor, kind: str, name: str, item: DraftItem | None, body: dict[str, Any] | None
) -> None:
    if body is None:
        if item is not None:
            session.delete(item)
    elif item is None:
        session.add(DraftItem(kind=kind, name=name, body=body, changed_by=actor.name))
    else:
        item.body = body
        item.revision += 1
        item.changed_at = now()
        item.changed_by = actor.name
        session.add(item)
    session.flush()


def undo(session: Session, actor: Actor, change_id: int) -> DraftChange:
    """Put back what an item was before a change. Raises `EditedMeanwhile` where it was edited again since."""
    change = session.get(DraftChange, change_id, with_for_update=True)
    if change is None or change.undone:
        raise LookupError(f"there is no change {change_id} to undo")
    item = session.get(DraftItem, (change.kind, change.name), with_for_update=True)
    if (item.body if item is not None else None) != change.after:
        raise EditedMeanwhile(change.kind, change.name, item.changed_by if item is not None else "someone")
    _put(session, actor, change.kind, change.name, item, change.before)
    change.undone = True
    session.add(change)
    auditing.record(session, actor, "undo", f"{change.kind} {change.name}".strip(), summary=change.summary)
    session.flush()
    return change


def history(session: Session, kind: str, name: str, most: int = 50) -> list[DraftChange]:
    """The newest edits of an item."""
    query = select(DraftChange).where(DraftChange.kind == kind, DraftChange.name == name)
    return list(session.exec(query.order_by(col(DraftChange.id).desc()).limit(most)))


def discard(session: Session, actor: Actor, running: Configuration, kind: str, name: str) -> DraftChange | None:
    """Make one item of the draft what runs: changed back, put back, or taken out. None where it is that already.

    Raises `LookupError` for a kind that is none.
    """
    items: dict[str, Frozen | None] = {
        "backend": running.backend(name),
        "kind": running.kind(name),
        "api": running.api(name),
        "product": running.product(name),
        "cap": running.cap(name),
        "everywhere": Everywhere(policies=running.everywhere),
    }
    if kind not in items:
        raise LookupError(f"{kind!r} is not a kind of item in the draft")
    return save(session, actor, kind, name, items[kind], f"discarded what was drafted of {kind} {name}".strip())


def discard_all(session: Session, actor: Actor, running: Configuration) -> list[str]:
    """Make the whole draft what runs; returns the items touched. Each can be undone by itself."""
    changes = difference(running, load_configuration(session))
    touched = list(dict.fromkeys((change.kind, change.item) for change in changes))
    for kind, name in touched:
        discard(session, actor, running, kind, name)
    return [f"{kind} {name}".strip() for kind, name in touched]


def replace_all(session: Session, actor: Actor, wanted: Configuration, remove_others: bool) -> list[str]:
    """Make the draft say what a configuration says, item by item; returns the items touched.

    With `remove_others`, items that it does not name are taken out; without, they stay.
    """
    touched = []
    current = load_configuration(session)
    for kind, ours, theirs in (
        ("kind", current.kinds, wanted.kinds),
        ("backend", current.backends, wanted.backends),
        ("api", current.apis, wanted.apis),
        ("product", current.products, wanted.products),
        ("cap", current.caps, wanted.caps),
    ):
        names = {item.name for item in theirs}
        for item in theirs:
            if save(session, actor, kind, item.name, item, "applied from a file") is not None:
                touched.append(f"{kind} {item.name}")
        for name in (item.name for item in ours if remove_others and item.name not in names):
            save(session, actor, kind, name, None, "removed: not in the applied file")
            touched.append(f"{kind} {name}")
    if wanted.everywhere or remove_others:
        everywhere = Everywhere(policies=wanted.everywhere)
        if save(session, actor, "everywhere", "", everywhere, "applied from a file") is not None:
            touched.append("everywhere")
    return touched
