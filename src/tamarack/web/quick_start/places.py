"""Other kinds of place for a node than the quick start's: step by step, as a system service, in a container. Each is a
text that is copied, with the values of one join put in; the tests run what they say.
"""

from __future__ import annotations

from shlex import quote
from typing import NamedTuple

from tamarack.web.quick_start.wheel import WHEEL


class Way(NamedTuple):
    """One way to set a node up."""

    name: str
    title: str
    words: str
    text: str


def by_hand(feed: str, token: str, pin: str = "") -> str:
    """What the quick start does, command by command. With a `pin` the feed's authority is fetched first by that key."""
    proved = " --cacert authority.pem" if pin else ""
    first = f"curl -fsSOk --pinnedpubkey {quote(pin)} {quote(f'{feed}/quick-start/authority.pem')}"
    return "\n".join(
        (
            *((first,) if pin else ()),
            f"curl -fsSO{proved} {quote(f'{feed}/quick-start/{WHEEL}')}",
            f"curl -fsSO{proved} {quote(f'{feed}/quick-start/requirements.txt')}",
            "python3 -m venv venv",
            "venv/bin/pip install --no-deps --require-hashes -r requirements.txt",
            f"venv/bin/pip install --no-deps --no-index {WHEEL}",
            f"TAMARACK_JOIN_TOKEN={quote(token)} venv/bin/tamarack-node join --feed {quote(feed)} --home node"
            + (" --ca authority.pem" if pin else ""),
            "venv/bin/tamarack-node run --home node --port 8080",
        )
    )


def without_index(feed: str, pin: str = "") -> str:
    """How packages are fetched, on a machine that reaches an index, for one that does not."""
    pinned = f" -k --pinnedpubkey {quote(pin)}" if pin else ""
    return "\n".join(
        (
            f"curl -fsSO{pinned} {quote(f'{feed}/quick-start/requirements.txt')}",
            "pip download --no-deps --require-hashes -r requirements.txt -d packages",
        )
    )


def service(folder: str = "/opt/tamarack-node") -> str:
    """A unit for systemd: the node runs under a user of its own, and is started again unless it was revoked."""
    return f"""[Unit]
Description=Tamarack gateway node
After=network-online.target
Wants=network-online.target

[Service]
User=tamarack-node
WorkingDirectory={folder}
ExecStart={folder}/venv/bin/tamarack-node run --home {folder}/node --host 0.0.0.0 --port 8080
Restart=always
RestartPreventExitStatus=78
TimeoutStopSec=30
NoNewPrivileges=yes
ProtectSystem=strict
ReadWritePaths={folder}/node
PrivateTmp=yes

[Install]
WantedBy=multi-user.target
"""


def container(pinned: bool, feed: str) -> str:
    """A description of a container, made beside the three files that the way step by step fetches. The token is given
    when it first runs, never while it is made."""
    files = f"{WHEEL} requirements.txt{' authority.pem' if pinned else ''}"
    ca = " --ca authority.pem" if pinned else ""
    return f"""FROM docker.io/library/python:3.11-slim
RUN useradd --create-home node
USER node
WORKDIR /home/node
COPY --chown=node {files} ./
RUN python3 -m venv venv \\
 && venv/bin/pip install --no-deps --require-hashes -r requirements.txt \\
 && venv/bin/pip install --no-deps --no-index {WHEEL}
VOLUME /home/node/state
CMD [ -e state/node.json ] || venv/bin/tamarack-node join --feed {feed}{ca} --home state; \\
    exec venv/bin/tamarack-node run --home state --host 0.0.0.0 --port 8080
"""


def ways(feed: str, token: str, pin: str = "") -> tuple[Way, ...]:
    """Every other way."""
    return (
        Way("hand", "Step by step", "The same as the command above does, one command after another.",
            by_hand(feed, token, pin)),
        Way("service", "As a system service",
            "Run the command above in /opt with --no-run after sh -s --, then keep this as"
            " /etc/systemd/system/tamarack-node.service and start it.", service()),
        Way("container", "In a container",
            "Fetch the files as the way step by step does, and make the image beside them. Run it once with the"
            " environment variable TAMARACK_JOIN_TOKEN; what it is then stays in its volume.",
            container(bool(pin), feed)),
    )  # fmt: skip
