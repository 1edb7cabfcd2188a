"""The form of a new account, the same in every place that makes one."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field

from tamarack.core.identity.mail_address import email_problem
from tamarack.core.identity.passwords import password_problem
from tamarack.core.text import line_problem


@dataclass(slots=True)
class AccountForm:
    """What was typed for a new account, without its password, and what is wrong with it."""

    typed: dict[str, str]
    password: str
    errors: dict[str, str] = field(default_factory=dict)


def read_account(posted: Mapping[str, str], roles: Collection[str]) -> AccountForm:
    """Read e-mail address, name, role and password, each held to its rules."""
    typed = {name: posted.get(name, "").strip() for name in ("email", "name", "role")}
    typed["email"] = typed["email"].lower()
    form = AccountForm(typed, posted.get("password", ""))
    email = typed["email"]
    wrong = email_problem(email)
    if wrong:
        form.errors["email"] = wrong
    if not 1 <= len(typed["name"]) <= 120:
        form.errors["name"] = "is missing" if not typed["name"] else "has more than 120 characters"
    elif line_problem(typed["name"]):
        form.errors["name"] = line_problem(typed["name"])
    if typed["role"] not in roles:
        form.errors["role"] = f"{typed['role']!r} is not a role; it is one of {', '.join(roles)}"
    problem = password_problem(form.password, email)
    if problem is not None:
        form.errors["password"] = problem
    return form
