"""The script of the quick start, with the values of one join put in."""

from pathlib import Path
from shlex import quote

_SCRIPT = Path(__file__).with_name("node.sh")


def script(feed: str, token: str, wheel: str, digest: str, ca: str = "") -> str:
    """The script (POSIX shell) that sets a node up and runs it. `digest` is the wheel's SHA-256 in hexadecimal, `ca`
    the certificates (PEM) by which the feed proves who it is, empty for those that every machine knows."""
    values = {"FEED": feed, "TOKEN": token, "WHEEL": wheel, "DIGEST": digest, "CA": ca}
    lines = "".join(f"{name}={quote(value)}\n" for name, value in values.items())
    return _SCRIPT.read_text().replace("# values\n", lines, 1)
