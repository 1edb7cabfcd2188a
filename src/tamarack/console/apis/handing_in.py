"""A document in a form: a file, a text, or what an address answers with."""

from flask import current_app, request

from tamarack.core.documents.bounds import MOST_BYTES
from tamarack.core.documents.decoding import decode
from tamarack.core.documents.located import NotReadable
from tamarack.web.application import settings_of
from tamarack.web.outgoing.asking import NotReached, fetch_text


def handed_in() -> tuple[str, dict[str, str], dict[str, str]]:
    """The text that was handed in, what was typed, and what is wrong with it by the form's field."""
    typed = {name: request.form.get(name, "") for name in ("text", "address")}
    errors: dict[str, str] = {}
    text = ""
    file = request.files.get("file")
    try:
        if file is not None and file.filename:
            with file.stream:
                text = decode(file.read())
        elif typed["address"].strip():
            text = fetch_text(typed["address"].strip(), settings_of(current_app).reach)
        else:
            text = decode(typed["text"].encode("utf-8", "replace"))
        if not text.strip():
            errors["text"] = "choose a file, give an address, or paste a document"
        elif len(text) > MOST_BYTES:
            errors["text"] = f"has {len(text):,} characters; at most {MOST_BYTES:,} are read"
        elif "\x00" in text:
            errors["text"] = "holds a NUL character, which no document may; remove it"
    except NotReadable as error:
        errors["file"] = f"line {error.line}: {error}"
    except NotReached as error:
        errors["address"] = str(error)
    return text, typed, errors
