"""The packages that a node needs, with the versions and digests of the project's lock file: a part of it, so that a
node runs what was tested.
"""

import re
from collections.abc import Collection
from functools import cache
from pathlib import Path

import tamarack

LOCK = Path(tamarack.__file__).parents[2] / "requirements.lock"

NEEDS = (
    "cel-expr-python", "click", "cryptography", "graphql-core", "hiredis", "httptools", "joserfc", "jsonschema-rs",
    "lxml", "minijinja", "numpy", "orjson", "prometheus-client", "pydantic", "pydantic-settings", "python-jsonpath",
    "pyyaml", "tzdata", "urllib3", "uvloop", "wordllama",
)  # fmt: skip
"""What a node's own code imports."""

_ENTRY = re.compile(r"^(?P<name>[A-Za-z0-9][A-Za-z0-9._-]*)(?:\[[^]]*\])?==(?P<version>[^\s;\\]+)")
_VIA = re.compile(r"^    # +(?:via +)?(?P<name>[A-Za-z0-9][A-Za-z0-9._-]*)$")


def entries_of(lock: str) -> dict[str, str]:
    """A lock file's entries, each with its digests, by the package's name."""
    found: dict[str, list[str]] = {}
    name = ""
    for line in lock.splitlines():
        entry = _ENTRY.match(line)
        if entry is not None:
            name = entry["name"].lower()
            found[name] = []
        if name:
            found[name].append(line)
    return {name: "\n".join(lines) for name, lines in found.items()}


def needed_of(lock: str, needs: Collection[str] = NEEDS) -> str:
    """The part of a lock file that some packages need, with all that those need in turn. Each entry of a lock says
    because of which others it is there. Raises LookupError where the lock lacks one.
    """
    entries = entries_of(lock)
    missing = sorted(set(needs) - set(entries))
    if missing:
        raise LookupError(f"the lock file has no entry for {', '.join(missing)}")
    because = {
        name: {via["name"].lower() for line in text.splitlines() if (via := _VIA.match(line)) is not None}
        for name, text in entries.items()
    }
    wanted, before = set(needs), 0
    while len(wanted) != before:
        before = len(wanted)
        wanted |= {name for name, vias in because.items() if vias & wanted}
    return "".join(entries[name] + "\n" for name in sorted(wanted))


@cache
def node_lock() -> str:
    """The lock file of a node."""
    return needed_of(LOCK.read_text())


def pinned(lock: str) -> list[str]:
    """What a lock file asks for, as requirements without digests."""
    return [match.group(0) for line in lock.splitlines() if (match := _ENTRY.match(line)) is not None]
