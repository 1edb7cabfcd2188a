"""The modules on a call's way as machine code.

They are Python like all others, and run as such. Where they were compiled (`tamarack.compiling`), what was compiled is
imported in their place. It is kept in the virtual environment under a digest of the sources, so a source that was
edited since is never shadowed: then all of them run as Python until they are compiled again. What they use of other
modules is looked up while they run, as always.
"""

from __future__ import annotations

import os
import platform
import sys
from collections.abc import Mapping, Sequence
from hashlib import sha256
from importlib.abc import MetaPathFinder
from importlib.machinery import ModuleSpec
from importlib.util import spec_from_file_location
from inspect import getmodulename
from pathlib import Path
from types import ModuleType

SOURCES = Path(__file__).parents[1]
"""The folder that this package is in."""
MODULES = tuple(
    f"tamarack.{module}"
    for module in (
        "core.balancing.route",
        "core.carrying.call",
        "core.carrying.forwarding",
        "core.carrying.identifying",
        "core.carrying.metering",
        "core.carrying.needs",
        "core.carrying.program",
        "core.carrying.receiving",
        "core.carrying.request_head",
        "core.carrying.routing",
        "core.carrying.steps",
        "core.http.fields",
        "core.http.heads",
        "core.http.own",
        "core.http.query",
        "core.identity.caller",
        "core.identity.callers",
        "core.limits.algorithms",
        "core.limits.memory",
        "core.limits.store",
        "core.limits.told",
        "core.policies.identify.places",
        "core.policies.identify.shown_key",
        "core.policies.meter.keys",
        "core.told.recording",
        "gateway.driver",
        "gateway.gateway",
        "gateway.metering",
        "gateway.redirecting",
        "gateway.upstream.connection",
        "gateway.upstream.pool",
        "gateway.wire.connection",
        "gateway.wire.server",
    )
)
"""What is worth compiling: what runs for every call."""


def source_of(module: str) -> Path:
    """The file of one of them."""
    return SOURCES / (module.replace(".", "/") + ".py")


def compiled_folder() -> Path:
    """Where they are when they are compiled from the sources that are here, for this Python on this machine."""
    digest = sha256(f"{sys.version} {platform.machine()}".encode())
    for module in MODULES:
        digest.update(source_of(module).read_bytes())
    return Path(sys.prefix) / "compiled" / digest.hexdigest()[:16]


class _Compiled(MetaPathFinder):
    """Finds what was compiled, before the sources are looked at."""

    def __init__(self, files: Mapping[str, Path]) -> None:
        self._files = files

    def find_spec(
        self, fullname: str, path: Sequence[str] | None, target: ModuleType | None = None
    ) -> ModuleSpec | None:
        file = self._files.get(fullname)
        return spec_from_file_location(fullname, file) if file is not None else None


def use_compiled() -> None:
    """Import what was compiled in place of its source from now on, where it is there and not told otherwise
    (TAMARACK_COMPILED=no). What was not compiled, or is not whole, runs as Python."""
    if os.environ.get("TAMARACK_COMPILED") == "no":
        return
    try:
        folder = compiled_folder()
        files = {
            ".".join((*file.parent.relative_to(folder).parts, getmodulename(file.name) or "")): file
            for file in folder.rglob("*.so")
        }
    except OSError:  # packed in a way that has no files of its own
        return
    if set(MODULES) <= files.keys():
        sys.meta_path.insert(0, _Compiled(files))


def is_compiled() -> bool:
    """Whether the call path of this process runs as machine code."""
    return any(isinstance(finder, _Compiled) for finder in sys.meta_path)
