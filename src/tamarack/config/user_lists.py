"""End users in bulk, as CSV (RFC 4180): read with the line of every problem, all of them or none; and written.

Columns are `email` and `name`, and where wanted `groups` (with semicolons between) and `claims` (a JSON object).
"""

from __future__ import annotations

import csv
import io
import json
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from sqlmodel import Session, col, select

from tamarack.config.files import FileProblem, NotApplicable
from tamarack.core.documents.decoding import decode
from tamarack.core.documents.located import NotReadable
from tamarack.core.identity.mail_address import email_problem
from tamarack.store.audit.log import Actor
from tamarack.store.errors import NotPossible
from tamarack.store.people.attempts import account_of
from tamarack.store.sign_in import by_mail, users
from tamarack.store.sign_in.tables import Directory, EndUser

COLUMNS = ("email", "name", "groups", "claims")
MOST = 50_000
"""Users in one list."""
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


@dataclass(slots=True)
class Listed:
    """A user as a list names them."""

    line: int
    email: str
    name: str
    groups: list[str] = field(default_factory=list)
    claims: dict[str, Any] = field(default_factory=dict)


def read_list(path: Path) -> list[Listed]:
    """The users of a list. Raises `NotApplicable` with every problem and its line."""
    try:
        text = decode(path.read_bytes())
    except (OSError, NotReadable) as error:
        raise NotApplicable([FileProblem(str(path), 0, "", f"cannot be read: {error}")]) from error
    reader = csv.DictReader(io.StringIO(text, newline=""), strict=True)
    problems: list[FileProblem] = []
    found: list[Listed] = []
    try:
        known = [name.strip().lower() for name in reader.fieldnames or ()]
        unknown = next((name for name in known if name not in COLUMNS), None)
        if "email" not in known or "name" not in known or unknown is not None:
            words = f"is no column here ({', '.join(COLUMNS)})" if unknown is not None else "the first line names the"
            words = words if unknown is not None else "the first line has to name the columns email and name"
            raise NotApplicable([FileProblem(str(path), 1, unknown or "", words)])
        reader.fieldnames = known
        for row in reader:
            if len(found) >= MOST:
                raise NotApplicable(
                    [FileProblem(str(path), reader.line_num, "", f"at most {MOST:,} users go in a list")]
                )
            try:
                found.append(_listed(reader.line_num, row))
            except ValueError as error:
                problems.append(FileProblem(str(path), reader.line_num, *error.args))
    except csv.Error as error:
        problems.append(FileProblem(str(path), reader.reader.line_num, "", f"is no CSV: {error}"))
    lines: dict[str, int] = {}
    for one in found:
        if one.email in lines:
            problems.append(
                FileProblem(str(path), one.line, "email", f"{one.email!r} stands in line {lines[one.email]} too")
            )
        lines.setdefault(one.email, one.line)
    if problems:
        raise NotApplicable(problems)
    return found


def _listed(line: int, row: dict[str | Any, Any]) -> Listed:
    """One line. Raises ValueError with the column and words."""
    if None in row or any(value is None for value in row.values()):
        raise ValueError("", "has another number of columns than the first line")
    groups = [one.strip() for one in row.get("groups", "").split(";") if one.strip()]
    claims: Any = {}
    if row.get("claims", "").strip():
        try:
            claims = json.loads(row["claims"])
        except (ValueError, RecursionError):
            raise ValueError("claims", 'is not JSON; write an object like {"loyalty": "gold"}') from None
        if not isinstance(claims, dict):
            raise ValueError("claims", 'is no object; write one like {"loyalty": "gold"}')
    email = account_of(_as_meant(row["email"]))
    if wrong := email_problem(email):
        raise ValueError("email", f"{email[:80]!r}: {wrong}")
    return Listed(line, email, _as_meant(row["name"]), groups, claims)


def add_all(
    session: Session, actor: Actor, directory: Directory, path: Path, service: str, invite: bool
) -> list[tuple[str, str]]:
    """Make the users of a list, or ask them in by mail; whoever commits keeps all of them.

    Returns each mail address with its temporary password (empty for who is invited), which is kept nowhere.
    Raises `NotApplicable` with every line that cannot be, and then nothing may be committed.
    """
    made: list[tuple[str, str]] = []
    problems: list[FileProblem] = []
    for one in read_list(path):
        password = "" if invite else users.temporary_password(directory.password_rules)
        try:
            with session.begin_nested():
                if invite:
                    if one.groups or one.claims:
                        raise NotPossible(
                            "who is invited has no groups and claims yet; set them when they joined", "groups"
                        )
                    by_mail.invite(session, actor, directory, one.email, one.name, service)
                else:
                    user = users.make_user(session, actor, directory, one.email, one.name, password)
                    users.set_facts(session, actor, user, one.groups, one.claims)
        except NotPossible as error:
            problems.append(FileProblem(str(path), one.line, error.field, str(error)))
            continue
        made.append((one.email, password))
    if problems:
        raise NotApplicable(problems)
    return made


def written(session: Session, directory: Directory) -> str:
    """Every user of a directory as a list, by mail address; no password is in it."""
    out = io.StringIO(newline="")
    rows = csv.writer(out)
    rows.writerow(COLUMNS)
    query = select(EndUser).where(EndUser.directory == directory.name).order_by(col(EndUser.email))
    for user in session.exec(query.execution_options(yield_per=1_000)):
        claims = json.dumps(user.claims, ensure_ascii=False) if user.claims else ""
        rows.writerow([_plain(one) for one in (user.email, user.name, "; ".join(user.groups), claims)])
    return out.getvalue()


def _plain(text: str) -> str:
    """A cell that a spreadsheet takes for text, whatever a user called themselves."""
    return f"'{text}" if text.startswith(_FORMULA) else text


def _as_meant(cell: str) -> str:
    """A cell without the quote that `_plain` put before it."""
    return cell[1:] if cell.startswith("'") and cell[1:].startswith(_FORMULA) else cell
