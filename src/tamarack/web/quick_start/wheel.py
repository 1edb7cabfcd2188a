"""The node's package as a wheel (Python packaging's binary distribution format), made of the code that runs here: a
node is never of another version than the control side that it was set up from.
"""

from __future__ import annotations

import io
import zipfile
from base64 import urlsafe_b64encode
from functools import cache
from hashlib import sha256
from pathlib import Path

import tamarack
from tamarack import __version__
from tamarack.web.quick_start.packages import node_lock, pinned

NAME = "tamarack_node"
WHEEL = f"{NAME}-{__version__}-py3-none-any.whl"
_PARTS = ("__init__.py", "compiled.py", "settings.py", "embedding.py", "tls.py", "core", "gateway")
_ONLY_NEAR = frozenset(("gateway/feed/database.py", "gateway/counters/restore.py"))
"""What reads the database."""
_WHEN = (2026, 1, 1, 0, 0, 0)  # the same code makes the same bytes


def contents() -> dict[str, bytes]:
    """The files of the package by their places in it."""
    root = Path(tamarack.__file__).parent
    found: dict[str, bytes] = {}
    for part in _PARTS:
        path = root / part
        for file in sorted(path.rglob("*")) if path.is_dir() else [path]:
            place = file.relative_to(root).as_posix()
            if file.is_file() and "__pycache__" not in file.parts and place not in _ONLY_NEAR:
                found[f"tamarack/{place}"] = file.read_bytes()
    return found


@cache
def node_wheel() -> bytes:
    """The wheel."""
    info = f"{NAME}-{__version__}.dist-info"
    needs = "".join(f"Requires-Dist: {one}\n" for one in pinned(node_lock()))
    files = contents() | {
        f"{info}/METADATA": (
            f"Metadata-Version: 2.1\nName: tamarack-node\nVersion: {__version__}\n"
            f"Summary: A gateway node of Tamarack.\nRequires-Python: >=3.11\n{needs}"
        ).encode(),
        f"{info}/WHEEL": b"Wheel-Version: 1.0\nGenerator: tamarack\nRoot-Is-Purelib: true\nTag: py3-none-any\n",
        f"{info}/entry_points.txt": b"[console_scripts]\ntamarack-node = tamarack.gateway.commands:main\n",
    }
    listed = "".join(f"{name},sha256={_digest(content)},{len(content)}\n" for name, content in files.items())
    files[f"{info}/RECORD"] = f"{listed}{info}/RECORD,,\n".encode()
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files.items():
            entry = zipfile.ZipInfo(name, _WHEN)
            entry.external_attr = 0o644 << 16
            archive.writestr(entry, content, zipfile.ZIP_DEFLATED)
    return made.getvalue()


def _digest(content: bytes) -> str:
    return urlsafe_b64encode(sha256(content).digest()).rstrip(b"=").decode()
