"""One-time codes of end users: set up, checked so that none works twice, turned off. Their secret is kept sealed."""

from __future__ import annotations

import secrets
from typing import NamedTuple

from sqlmodel import Session

from tamarack.core.identity.sealing import NONCE_BYTES, seal, unseal
from tamarack.core.sign_in.one_time_codes import SECRET_BYTES, matching_step
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.columns import now
from tamarack.store.sign_in import grants as granting
from tamarack.store.sign_in.clients import digest_of
from tamarack.store.sign_in.tables import EndUser

SPARE = 8
_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"


class CodeKeys(NamedTuple):
    """What secrets are sealed with, and what spare codes are hashed with."""

    sealing: bytes
    pepper: bytes


def _about(user: EndUser) -> str:
    return f"code secret of {user.id}"


def new_code_secret(user: EndUser, keys: CodeKeys) -> str:
    """A fresh secret for a user, sealed; it is kept when they have shown that their device makes codes from it."""
    return seal(secrets.token_bytes(SECRET_BYTES), keys.sealing, secrets.token_bytes(NONCE_BYTES), _about(user))


def opened(user: EndUser, sealed: str, keys: CodeKeys) -> bytes:
    """A user's sealed secret. Raises `NotSealedHere`."""
    return unseal(sealed, keys.sealing, _about(user))


def turn_on(session: Session, user: EndUser, sealed: str, typed: str, keys: CodeKeys) -> list[str]:
    """Ask a user for codes from now on, if the one typed is right; every session of theirs ends.

    Returns the spare codes, which are never shown again; none where the code is wrong.
    """
    step = matching_step(opened(user, sealed, keys), typed, now().timestamp())
    if step is None:
        return []
    spare = ["-".join("".join(secrets.choice(_LETTERS) for _ in range(5)) for _ in range(2)) for _ in range(SPARE)]
    user.code_secret, user.code_step = sealed, step
    user.spare_codes = [digest_of(code, keys.pepper) for code in spare]
    user.session_epoch += 1
    session.add(user)
    session.flush()
    return spare


def check(session: Session, user: EndUser, typed: str, keys: CodeKeys) -> bool:
    """Whether a user shows a good code, or one of the spare ones; it is used up with that, however many ask at once."""
    session.refresh(user, with_for_update=True)
    if not user.code_secret:
        return False
    step = matching_step(opened(user, user.code_secret, keys), typed, now().timestamp(), user.code_step)
    if step is not None:
        user.code_step = step
    else:
        shown = digest_of(typed.strip().lower()[:40], keys.pepper)
        if shown not in user.spare_codes:
            return False
        user.spare_codes = [one for one in user.spare_codes if one != shown]
    session.add(user)
    session.flush()
    return True


def turn_off(session: Session, user: EndUser) -> None:
    """Ask a user for no codes any more."""
    user.code_secret, user.code_step, user.spare_codes = "", 0, []
    session.add(user)
    session.flush()


def turned_off_by_staff(session: Session, actor: Actor, user: EndUser) -> None:
    """Staff let a user in without codes, whose device is lost; sessions and tokens end."""
    turn_off(session, user)
    user.session_epoch += 1
    session.add(user)
    session.flush()
    granting.end_all_of(session, user.id, "one-time codes turned off by staff")
    auditing.record(session, actor, "turn off one-time codes of user", user.id, directory=user.directory)
