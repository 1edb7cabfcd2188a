"""What a program says of itself (User-Agent, RFC 9110, 10.1.5), in words for whoever looks at their sessions."""

from __future__ import annotations

import re

_BROWSERS = (("Edg", "Edge"), ("OPR", "Opera"), ("Firefox", "Firefox"), ("FxiOS", "Firefox"), ("CriOS", "Chrome"),
             ("HeadlessChrome", "Chrome"), ("Chrome", "Chrome"), ("Safari", "Safari"))  # fmt: skip
"""What stands in a browser's text, and what people call it; the first counts, for each names others too."""
_SYSTEMS = (("iPhone", "an iPhone"), ("iPad", "an iPad"), ("Android", "Android"), ("Windows", "Windows"),
            ("Mac OS X", "a Mac"), ("CrOS", "ChromeOS"), ("Linux", "Linux"))  # fmt: skip
LONGEST = 60


def agent_in_words(text: str) -> str:
    """A browser and what it runs on, as `Firefox on Windows`; of any other program what it says, shortened."""
    if text.startswith("Mozilla/"):
        browser = next((name for mark, name in _BROWSERS if f"{mark}/" in text), "")
        system = next((name for mark, name in _SYSTEMS if mark in text), "")
        if browser:
            return f"{browser} on {system}" if system else browser
    plain = re.sub(r"\s+", " ", text).strip()
    if not plain:
        return "a program that does not say what it is"
    return plain if len(plain) <= LONGEST else f"{plain[: LONGEST - 1]}…"
