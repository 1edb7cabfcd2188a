"""The small model that finds out the meaning of a text: on this machine, from a file that is installed with it.

It takes some 95 MB and half a second to load, so it is loaded by who asks for a meaning first, and beside the calls.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import Any

_LONGEST_WORD = 40
_MOST_WORDS = 8_192


def load() -> Callable[[str], Any]:
    """The model: the meaning of a text as a numpy array of 256 float32 numbers, of length 1; None for a
    text that has none. No network is asked."""
    import wordllama  # here, for it and its file are read only where prompts are compared by meaning

    model = wordllama.WordLlama.load(cache_dir=Path(wordllama.__file__).parent, disable_download=True)

    def meaning(text: str) -> Any:
        found = model.embed([text])[0]
        length = float((found @ found) ** 0.5)
        return found / length if length else None

    words = lru_cache(_MOST_WORDS)(meaning)
    return lambda text: words(text) if len(text) <= _LONGEST_WORD else meaning(text)


class Embedding:
    """A `core.language_models.near_equal.question.Embed` that loads its model when it is first asked, on a thread of
    its own; until then no meaning is known."""

    def __init__(self, log: Callable[[str], None], load: Callable[[], Callable[[str], Any]] = load) -> None:
        self._log = log
        self._load = load
        self._meaning: Callable[[str], Any] | None = None
        self._loading: threading.Thread | None = None

    def __call__(self, text: str) -> Any:
        """The meaning of a text; None where the model is not at hand yet."""
        if self._meaning is not None:
            return self._meaning(text)
        if self._loading is None:
            self._loading = threading.Thread(target=self._begin, name="embedding", daemon=True)
            self._loading.start()
        return None

    def wait(self) -> None:
        """Wait until the model is loaded, or could not be."""
        self("ready?")
        if self._loading is not None:
            self._loading.join()

    def _begin(self) -> None:
        try:
            self._meaning = self._load()
        except Exception as error:
            self._log(f"prompts are compared by their words alone: the model of meanings cannot be loaded: {error}")
