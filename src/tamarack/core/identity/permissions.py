"""Who may do what: roles of staff in the console, and of people in the portal, as one table each."""

from collections.abc import Mapping

from tamarack.core.environments.environment import Environment

STAFF_ROLES: Mapping[str, frozenset[str]] = {
    "platform-admin": frozenset(
        {
            "see",
            "edit",
            "roll-out",
            "environments",
            "subscribers",
            "bench",
            "secrets",
            "staff",
            "audit",
            "prompts",
            "nodes",
        }
    ),
    "api-owner": frozenset({"see", "edit", "roll-out-where-open", "subscribers", "bench", "prompts"}),
    "support": frozenset({"see", "subscribers", "bench"}),
    "analyst": frozenset({"see"}),
}
"""What each role of staff may do. `edit` is the draft; `roll-out` to every environment, `roll-out-where-open` to those
that are open to API owners, `environments` making, changing and removing them; `subscribers` organizations and
applications, `bench` sending calls and asking for traces, `secrets` the secret store and the signing keys,
`prompts` reading what callers wrote to models, `nodes` letting nodes join and saying what they do."""

ROLE_TITLES: Mapping[str, str] = {
    "platform-admin": "platform admin",
    "api-owner": "API owner",
    "support": "support",
    "analyst": "analyst",
    "lead": "lead",
    "member": "member",
}

PORTAL_ROLES: Mapping[str, frozenset[str]] = {
    "lead": frozenset({"see", "applications", "subscribe", "credentials", "team"}),
    "member": frozenset({"see", "applications", "subscribe", "credentials"}),
}
"""What people of an organization may do in the portal, within their own organization."""


def staff_may(role: str, action: str) -> bool:
    """Whether a role of staff may do something. An unknown role may do nothing."""
    return action in STAFF_ROLES.get(role, frozenset())


def staff_may_roll_out(role: str, to: Environment | None) -> bool:
    """Whether a role of staff may roll out to an environment. Nobody may to one that is not there."""
    if to is None:
        return False
    return staff_may(role, "roll-out") or (to.open_to_owners and staff_may(role, "roll-out-where-open"))


def person_may(role: str, action: str) -> bool:
    """Whether a role in an organization may do something in the portal."""
    return action in PORTAL_ROLES.get(role, frozenset())
