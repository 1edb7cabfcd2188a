"""The console's door, and the switch of environment."""

from typing import Any

from flask import redirect, request, session, url_for

from tamarack.console.page import me
from tamarack.store.people.sign_in import sign_in_staff
from tamarack.web.application import environments
from tamarack.web.people.door import make_door
from tamarack.web.safe import safe_next

pages = make_door(sign_in_staff, me, "sign_in.form")


@pages.post("/environment")
def switch() -> Any:
    chosen = request.form.get("environment", "")
    if chosen in environments():
        session["environment"] = chosen
    return redirect(safe_next(request.form.get("next", url_for("overview.front"))), code=303)
