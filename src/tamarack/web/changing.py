"""Making a change and saying on the next page what came of it, the same way on every page.

Where it cannot be made, what was typed comes back with the page: `again` gives it to the form that it was typed in.
"""

import json
from collections.abc import Callable
from typing import Any

from flask import flash, g, request, session
from sqlmodel import Session

from tamarack.store.errors import NotPossible

MOST_KEPT = 1_500
"""Characters of a form that are carried to the next page, in the session's cookie; a longer one is not."""
_NEVER_KEPT = ("csrf_token", "password", "key", "value")


def make_change(session: Session, change: Callable[[], Any], said: str | Callable[[], str]) -> bool:
    """Make a change and keep it, and say so; or undo it and say why it cannot be. Returns whether it was made.

    Words that depend on what became of it are given as a function, asked after the change.
    """
    try:
        change()
        words = said if isinstance(said, str) else said()
    except NotPossible as error:
        session.rollback()
        flash(str(error), "bad")
        keep_typed()
        return False
    session.commit()
    flash(words, "done")
    return True


def keep_typed() -> None:
    """Carry what this request's form holds to the next page, but for secrets."""
    typed = {name: text for name, text in request.form.items() if name not in _NEVER_KEPT}
    if typed and len(json.dumps(typed)) <= MOST_KEPT:
        session["typed"] = {"path": request.path, "form": typed}


def again(action: str, name: str, default: str = "") -> str:
    """What was typed into a field of the form that posts to `action`, where that could not be done just now."""
    if "typed" not in g:
        g.typed = session.pop("typed", {})
    if g.typed.get("path") != action:
        return default
    return str(g.typed["form"].get(name, default))
