"""The fields of a version's form that say how it lives: its state, how it ends, and who may try it as a preview."""

from typing import Any

from flask import request
from sqlmodel import select

from tamarack.console.apis.audience_form import lines
from tamarack.core.configuration.model import Version
from tamarack.core.life_cycle.trial import Trial
from tamarack.core.types import Problem
from tamarack.store.people.tables import Organization
from tamarack.web.application import db

PLAIN = ("state", "deprecated_on", "sunset_on", "successor")
FIELDS = (*PLAIN, "brown_outs", "trial", "trial_invited", "trial_limits")
_USUAL = "\n".join(map(str, Trial().limits))


def kept(version: Version) -> dict[str, Any]:
    """What the fields show of a version as it stands."""
    trial = version.trial
    return {
        "brown_outs": "\n".join(map(str, version.brown_outs)),
        "trial": "" if trial is None else "invited" if trial.invited else "everyone",
        "trial_invited": list(trial.invited) if trial is not None else [],
        "trial_limits": "\n".join(map(str, trial.limits)) if trial is not None else _USUAL,
    }


def typed_fields() -> dict[str, Any]:
    """The fields in the form that was sent."""
    typed: dict[str, Any] = {name: request.form.get(name, "").strip() for name in FIELDS}
    typed["trial_invited"] = [name.lower() for name in lines("\n".join(request.form.getlist("trial_invited")))]
    return typed


def as_version(typed: dict[str, Any]) -> dict[str, Any]:
    """The same as fields of a version, still to be validated."""
    found = {name: typed[name] for name in PLAIN}
    found["brown_outs"] = [line for line in typed["brown_outs"].splitlines() if line.strip()]
    found["trial"] = None
    if typed["trial"]:
        invited = typed["trial_invited"] if typed["trial"] == "invited" else []
        limits = [line for line in typed["trial_limits"].splitlines() if line.strip()]
        found["trial"] = {"invited": invited, "limits": limits}
    return found


def organizations() -> list[tuple[str, str]]:
    """Whom a preview may be offered to: names with titles."""
    return [(row[0], row[1]) for row in db().exec(select(Organization.name, Organization.title).order_by(
        Organization.title))]  # fmt: skip


def errors_of(typed: dict[str, Any]) -> dict[str, str]:
    """What is wrong with whom a preview is offered to, by the field's name."""
    if typed["trial"] != "invited":
        return {}
    if not typed["trial_invited"]:
        return {"trial_invited": "nobody is invited; tick an organization, or let everyone try it"}
    there = dict(organizations())
    missing = next((name for name in typed["trial_invited"] if name not in there), "")
    return {"trial_invited": f"there is no organization {missing!r}"} if missing else {}


def field_of(problem: Problem) -> str:
    """The form's field that a problem of a version belongs to."""
    first, *rest = problem.path or ("",)
    if first == "naming":
        return f"naming_{rest[0]}" if rest and rest[0] in ("name", "default") else "naming_name"
    return f"trial_{rest[0]}" if first == "trial" and rest else str(first)
