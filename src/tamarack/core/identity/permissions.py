"""Who may do what: roles of staff in the console, and of people in the portal, as one table each."""

from collections.abc import Mapping

STAFF_ROLES: Mapping[str, frozenset[str]] = {
    "platform-admin": frozenset(
        {
            "see",
            "edit",
            "roll-out:test",
            "roll-out:production",
            "subscribers",
            "bench",
            "secrets",
            "staff",
            "audit",
            "prompts",
            "nodes",
        }
    ),
    "api-owner": frozenset({"see", "edit", "roll-out:test", "subscribers", "bench", "prompts"}),
    "support": frozenset({"see", "subscribers", "bench"}),
    "analyst": frozenset({"see"}),
}
"""What each role of staff may do. `edit` is the draft; `subscribers` organizations and applications,
`bench` sending calls and asking for traces, `secrets` the secret store and the signing keys,
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


def person_may(role: str, action: str) -> bool:
    """Whether a role in an organization may do something in the portal."""
    return action in PORTAL_ROLES.get(role, frozenset())
