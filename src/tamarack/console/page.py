"""What every page of the console needs: who is signed in, what they may do, the environment, the draft."""

from collections.abc import Callable, Sequence
from datetime import datetime
from functools import lru_cache, wraps
from typing import Any, TypeVar, cast

from flask import abort, flash, g, redirect, render_template, request, session, url_for
from werkzeug.wrappers import Response

from tamarack.core.configuration.difference import Change, difference
from tamarack.core.configuration.model import Configuration
from tamarack.core.identity.permissions import staff_may, staff_may_roll_out
from tamarack.store.audit.log import Actor
from tamarack.store.draft import queries as drafting
from tamarack.store.draft.tables import DraftChange
from tamarack.store.people.staff import Staff
from tamarack.store.rollouts import queries as rolling
from tamarack.store.rollouts.tables import Rollout
from tamarack.web.application import actor, db, environments
from tamarack.web.changing import make_change
from tamarack.web.people.own_password import FORM as CHANGE_PASSWORD
from tamarack.web.people.signed_in import who_is

View = TypeVar("View", bound=Callable[..., Any])
Answer = TypeVar("Answer")


def me() -> Staff | None:
    """Who is signed in, or None."""
    if "staff" not in g:
        g.staff = who_is(Staff)
    return cast(Staff | None, g.staff)


def acting() -> Actor:
    """Who is signed in, for the audit log."""
    staff = me()
    assert staff is not None
    return actor(staff.email)


def may(action: str) -> bool:
    """Whether whoever is signed in may do something."""
    staff = me()
    return staff is not None and staff_may(staff.role, action)


def may_roll_out(where: str) -> bool:
    """Whether whoever is signed in may roll out to an environment."""
    staff = me()
    return staff is not None and staff_may_roll_out(staff.role, environments().named(where))


def requires(action: str, must_change: bool = False) -> Callable[[View], View]:
    """Lets a view be used only by those who may do `action`; others are sent to sign in, or refused.

    Those who have to change their password first are sent to do so, but for a view that says `must_change`.
    """

    def decorate(view: View) -> View:
        @wraps(view)
        def guarded(*args: Any, **kwargs: Any) -> Any:
            staff = me()
            if staff is None:
                return redirect(url_for("sign_in.form", next=request.full_path if request.method == "GET" else "/"))
            if staff.must_change_password and not must_change:
                return redirect(url_for(CHANGE_PASSWORD))
            if not may(action):
                abort(403, f"Your role may not do this ({action}); a platform admin can change roles under Settings.")
            return view(*args, **kwargs)

        guarded.permission = action  # type: ignore[attr-defined]
        return cast(View, guarded)

    return decorate


def environment() -> str:
    """The environment that the pages speak of; kept from page to page, and taken from `?environment=`."""
    chosen = request.args.get("environment", "")
    there = environments()
    if chosen in there:
        session["environment"] = chosen
    kept = str(session.get("environment", ""))
    return kept if kept in there else there.live


@lru_cache(maxsize=8)
def _configuration(mark: str) -> Configuration:
    return drafting.load_configuration(db())


@lru_cache(maxsize=8)
def _running(mark: rolling.Mark) -> Configuration:
    rollout = db().get(Rollout, mark.number)
    return Configuration.model_validate(rollout.configuration) if rollout is not None else Configuration()


def _asked(question: Callable[..., Answer], *of: str) -> Answer:
    """What the database answers to a question. A request that only looks asks each once; one that may change the answer
    asks anew each time."""
    if request.method not in ("GET", "HEAD"):
        return question(db(), *of)
    answers: dict[Any, Any] = g.setdefault("answers", {})
    if (question, of) not in answers:
        answers[question, of] = question(db(), *of)
    return cast(Answer, answers[question, of])


def draft() -> Configuration:
    """The draft, read again only after an edit."""
    return _configuration(_asked(drafting.mark))


def running(where: str) -> tuple[Rollout | None, Configuration]:
    """What runs in an environment: the rollout, and its configuration."""
    rollout = _asked(rolling.running, where)
    return rollout, _running(rolling.mark_of(rollout)) if rollout is not None else Configuration()


@lru_cache(maxsize=8)
def _pending(runs: rolling.Mark | None, mark: str) -> tuple[Change, ...]:
    return tuple(difference(_running(runs) if runs is not None else Configuration(), _configuration(mark)))


def pending(where: str) -> Sequence[Change]:
    """What of the draft is not rolled out to an environment; every page asks, so it is worked out once."""
    return _pending(_asked(rolling.running_mark, where), _asked(drafting.mark))


def done(text: str, *changes: DraftChange | None) -> None:
    """Say on the next page what was done; what it changed of the draft can be undone from there, together."""
    made = "-".join(str(change.id) for change in changes if change is not None)
    flash(text, f"undo:{made}" if made else "done")


def refuse(text: str) -> None:
    """Say on the next page what was not done, and why."""
    flash(text, "bad")


def render(template: str, **values: Any) -> str:
    """A page, with what the masthead shows."""
    where = environment()
    return render_template(
        template,
        me=me(),
        may=may,
        may_roll_out=may_roll_out,
        environment=where,
        environments=environments().names,
        masthead=environments(),
        pending_count=len(pending(where)),
        **values,
    )


def calls_between(where: str) -> Callable[[datetime, datetime], str]:
    """For pictures: the address of an environment's calls between two moments."""
    return lambda first, last: url_for(
        "traffic.calls", environment=where, first=first.isoformat(), last=last.isoformat()
    )


def act(change: Callable[[], Any], said: str | Callable[[], str]) -> bool:
    """Make a change and keep it, and say so; or undo it and say why it cannot be. Returns whether it was made."""
    return make_change(db(), change, said)


def back_to(endpoint: str, **values: Any) -> Response:
    """See another page after a change (RFC 9110, 303), so that reload does not repeat it."""
    return redirect(url_for(endpoint, **values), code=303)
