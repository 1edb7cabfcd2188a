"""A private Redis on loopback, from Debian's package: counters that all nodes share. It writes to disk every second."""

import shutil
from pathlib import Path

from tamarack.start.errors import CannotStart


def redis_command(home: Path, port: int, password: str) -> list[str]:
    """The command of the server. Its password stands in a file that only the owner can read, not in the command."""
    server = shutil.which("redis-server")
    if server is None:
        raise CannotStart(
            "Redis is not installed: install Debian's package redis-server, or set TAMARACK_REDIS_URL=none"
        )
    folder = home / "redis"
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    lines = {
        "bind": "127.0.0.1",
        "port": str(port),
        "requirepass": password,
        "save": '""',
        "appendonly": "yes",  # quotas outlast a restart; at most the last second of counting is lost
        "appendfsync": "everysec",
        "auto-aof-rewrite-min-size": "16mb",
        "maxmemory": "256mb",
        "maxmemory-policy": "volatile-ttl",
        "dir": str(folder.absolute()),
    }
    path = folder / "redis.conf"
    path.touch(mode=0o600)
    path.write_text("".join(f"{name} {value}\n" for name, value in lines.items()))
    return [server, str(path.absolute())]
