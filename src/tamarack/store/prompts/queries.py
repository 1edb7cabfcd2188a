"""Keeping what nodes logged of prompts, reading it, and deleting it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from psycopg.types.json import Jsonb
from sqlalchemy import ColumnElement, delete
from sqlmodel import Session, col, func, or_, select

from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.prompts.tables import LoggedPrompt

_COLUMNS = (
    "call", "at", "until", "policy", "environment", "api", "version", "operation", "organization", "application",
    "model", "status", "reason", "texts", "question", "answer", "cut",
)  # fmt: skip
INSERT_PROMPT = (
    f"INSERT INTO logged_prompt ({', '.join(_COLUMNS)}) VALUES ({', '.join(['%s'] * len(_COLUMNS))})"  # noqa: S608
    " ON CONFLICT (call) DO NOTHING"
)


def prompt_row(body: dict[str, Any]) -> tuple[Any, ...]:
    """What a node logged, as the values of `INSERT_PROMPT`; one that comes a second time changes nothing."""
    at = datetime.fromtimestamp(body["at"], UTC)
    texts = [[str(role), str(text)] for role, text in body["texts"]]
    question = next((text for role, text in reversed(texts) if role in ("user", "")), "")
    made = body | {"at": at, "until": at + timedelta(days=body["days"]), "texts": Jsonb(texts), "question": question}
    return tuple(made[column] for column in _COLUMNS)


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which prompts of an environment are meant. What is empty is not asked for."""

    environment: str
    api: str = ""
    application: str = ""
    """As `organization/application`."""
    search: str = ""
    """Part of a question or an answer."""

    def conditions(self) -> list[ColumnElement[bool]]:
        """The same for a query."""
        found = [col(LoggedPrompt.environment) == self.environment]
        if self.api:
            found.append(col(LoggedPrompt.api) == self.api)
        if self.application:
            organization, _, application = self.application.partition("/")
            found.append(col(LoggedPrompt.organization) == organization)
            found.append(col(LoggedPrompt.application) == application)
        if self.search:
            texts = (col(LoggedPrompt.question), col(LoggedPrompt.answer))
            found.append(or_(*(text.icontains(self.search, autoescape=True) for text in texts)))
        return found


def found(session: Session, wanted: Wanted, first: int, most: int) -> list[LoggedPrompt]:
    """The prompts that are meant, the newest first, from a place on."""
    query = select(LoggedPrompt).where(*wanted.conditions()).order_by(col(LoggedPrompt.at).desc())
    return list(session.exec(query.offset(first).limit(most)))


def many(session: Session, wanted: Wanted) -> int:
    """How many are meant."""
    return session.exec(select(func.count()).select_from(LoggedPrompt).where(*wanted.conditions())).one()


def questions(session: Session, wanted: Wanted, most: int) -> list[str]:
    """The newest different questions, in the order in which they came."""
    newest = select(LoggedPrompt.question, func.max(LoggedPrompt.at).label("at")).where(*wanted.conditions())
    query = newest.where(LoggedPrompt.question != "").group_by(LoggedPrompt.question)
    rows = session.exec(query.order_by(func.max(LoggedPrompt.at).desc()).limit(most))
    return [question for question, _ in rows][::-1]


def applications(session: Session, environment: str) -> list[str]:
    """The applications that something is kept of, as `organization/application`."""
    query = select(LoggedPrompt.organization, LoggedPrompt.application).where(LoggedPrompt.environment == environment)
    return sorted(f"{organization}/{application}" for organization, application in session.exec(query.distinct()))


def of_call(session: Session, call: str) -> LoggedPrompt | None:
    """What is kept of a call; None where nothing is."""
    return session.get(LoggedPrompt, call)


def forget(session: Session, actor: Actor, wanted: Wanted) -> int:
    """Delete the prompts that are meant; returns how many."""
    done = session.execute(delete(LoggedPrompt).where(*wanted.conditions()))
    gone = int(done.rowcount)  # type: ignore[attr-defined]
    of = ", ".join(one for one in (wanted.api, wanted.application, wanted.search) if one) or "all"
    auditing.record(session, actor, "delete logged prompts", of, environment=wanted.environment, prompts=gone)
    return gone


def note_reading(session: Session, actor: Actor, wanted: Wanted, call: str = "") -> None:
    """Note that someone reads what callers wrote: one prompt, or a list of them."""
    about = wanted.application or wanted.api or "all"
    more = {"call": call} if call else {"search": wanted.search} if wanted.search else {}
    auditing.record(session, actor, "read logged prompts", about, environment=wanted.environment, **more)


def drop_over(connection: Any) -> None:
    """Delete what is past its time."""
    connection.execute("DELETE FROM logged_prompt WHERE until < now()")
