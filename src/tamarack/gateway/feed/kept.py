"""What a node keeps on disk, so that it starts and serves while the control side is away."""

from pathlib import Path
from typing import Any

import orjson

from tamarack.core.nodes.feed import FeedEntry
from tamarack.gateway.recording.quota_use import Row


class KeptState:
    """The last snapshot, and the feed as a log that is put in order at each start."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        self._snapshot = folder / "snapshot.json"
        self._log = folder / "callers.jsonl"
        self._quotas = folder / "quotas.jsonl"

    def snapshot(self) -> tuple[int, dict[str, Any]] | None:
        """The last rollout taken up: its number and snapshot; None where there is none to be read."""
        try:
            kept = orjson.loads(self._snapshot.read_bytes())
            return int(kept["number"]), kept["snapshot"]
        except (OSError, ValueError, KeyError, TypeError):
            return None

    def keep_snapshot(self, number: int, snapshot: dict[str, Any]) -> None:
        """Keep a rollout, in one step."""
        _replace(self._snapshot, orjson.dumps({"number": number, "snapshot": snapshot}))

    def feed(self) -> list[FeedEntry]:
        """The newest state of everything in the feed. A line cut off by a crash ends the reading."""
        newest: dict[tuple[str, str], FeedEntry] = {}
        try:
            lines = self._log.read_bytes().splitlines()
        except OSError:
            return []
        for line in lines:
            try:
                entry = FeedEntry(*orjson.loads(line))
            except (ValueError, TypeError):
                break
            newest[entry.kind, entry.key] = entry
        entries = sorted(newest.values())
        _replace(self._log, b"".join(orjson.dumps(tuple(entry)) + b"\n" for entry in entries))
        return entries

    def keep_feed(self, entries: list[FeedEntry]) -> None:
        """Add what came by the feed."""
        with self._log.open("ab") as log:
            log.write(b"".join(orjson.dumps(tuple(entry)) + b"\n" for entry in entries))

    def quotas(self, now: float) -> list[Row]:
        """What was counted against quotas whose stretches are running. The log is put in order."""
        together: dict[tuple[str, str, int], Row] = {}
        try:
            lines = self._quotas.read_bytes().splitlines()
        except OSError:
            return []
        for line in lines:
            try:
                environment, id, key, start, end, limit, many = orjson.loads(line)
            except (ValueError, TypeError):
                break
            if end > now:
                known = together.get((id, key, start))
                together[id, key, start] = (environment, id, key, start, end, limit, many + (known[6] if known else 0))
        rows = list(together.values())
        _replace(self._quotas, b"".join(orjson.dumps(row) + b"\n" for row in rows))
        return rows

    def keep_quotas(self, rows: list[Row]) -> None:
        """Add what was counted since the last batch. A full disk must not stop a node."""
        try:
            with self._quotas.open("ab") as log:
                log.write(b"".join(orjson.dumps(row) + b"\n" for row in rows))
        except OSError:
            return

    def forget(self) -> None:
        """Drop everything: the node was revoked."""
        for path in (self._snapshot, self._log, self._quotas):
            path.unlink(missing_ok=True)

    def forget_feed(self) -> None:
        """Drop the log: the feed starts over."""
        self._log.unlink(missing_ok=True)


def _replace(path: Path, content: bytes) -> None:
    part = path.with_suffix(".part")
    part.touch(mode=0o600)
    part.write_bytes(content)
    part.replace(path)
