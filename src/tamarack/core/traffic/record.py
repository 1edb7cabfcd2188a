"""What is recorded of one call: the one list of fields, used by node, store and pages."""

from typing import NamedTuple


class Record(NamedTuple):
    """One call as it is recorded. Times are microseconds, sizes bytes, `at` microseconds since the epoch.

    Names are empty where they do not apply; `status` is what the caller was answered. The query string
    is never recorded, for it may carry a credential.
    """

    id: str
    at: int
    total_us: int
    backend_us: int
    environment: str
    node: str
    rollout: int
    api: str
    version: str
    operation: str
    method: str
    path: str
    status: int
    reason: str
    request_bytes: int
    response_bytes: int
    organization: str
    application: str
    subscription: str
    plan: str
    credential: str
    address: str
    agent: str
    target: str
    held_us: int = 0
    """How long the call was held until its turn came under a limit; it is part of `total_us`."""
    mark: str = ""
    """What was noted of a call that was let through all the same, like `over-quota`."""


FIELDS: tuple[str, ...] = Record._fields

OVER_QUOTA = "over-quota"
LONGEST_PATH = 400
LONGEST_AGENT = 200
