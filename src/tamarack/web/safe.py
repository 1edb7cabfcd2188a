"""Where a page may send its reader on to."""


def safe_next(target: str) -> str:
    """A path of this application to go on to; anything else becomes the front page."""
    plain = target.startswith("/") and not target.startswith(("//", "/\\"))
    return target if plain and not any(ord(letter) < 0x20 for letter in target) else "/"
