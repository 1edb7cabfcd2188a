"""Where someone goes on to after a page, inside the directory and nowhere else."""

from flask import url_for

from tamarack.store.sign_in.tables import Directory
from tamarack.web.safe import safe_next


def onwards(directory: Directory, target: str) -> str:
    """A page of this directory to go on to; its own front page in the place of any other."""
    found = safe_next(target)
    return found if found.startswith(f"/{directory.name}/") else url_for("mine.page", directory=directory.name)
