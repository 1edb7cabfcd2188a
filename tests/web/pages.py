"""Reading pages as a browser does, for tests that walk them: elements with their attributes, and forms as they are sent."""

from collections.abc import Iterator
from dataclasses import dataclass, field
from html.parser import HTMLParser


@dataclass
class Form:
    """A form: where it goes, and what it sends as it stands."""

    action: str
    method: str
    hidden: dict[str, str] = field(default_factory=dict)
    typed: dict[str, str] = field(default_factory=dict)
    """Fields of text, with what is in them."""
    chosen: dict[str, list[str]] = field(default_factory=dict)
    """Choices and ticks, as they are set."""


class Page(HTMLParser):
    """A page that was read: every element with its attributes, and the forms."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.elements: list[tuple[str, list[tuple[str, str | None]]]] = []
        self.forms: list[Form] = []
        self._form: Form | None = None
        self._by_id: dict[str, Form] = {}
        self._area = self._select = ""
        self._options: list[str] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.elements.append((tag, attrs))
        said = {name: value or "" for name, value in attrs}
        if tag == "form":
            self._form = Form(said.get("action", ""), said.get("method", "get").lower())
            self.forms.append(self._form)
            self._by_id[said.get("id", "")] = self._form
        form = self._by_id.get(said["form"]) if said.get("form") else self._form
        name = said.get("name", "")
        if form is None or (not name and tag != "option"):
            return
        if tag == "input":
            self._input(form, name, said)
        elif tag == "textarea":
            self._area = name
            form.typed[name] = ""
        elif tag == "select":
            self._select = name
            form.chosen[name] = []
        elif tag == "option" and self._select and ("selected" in said or not form.chosen[self._select]):
            form.chosen[self._select] = [said.get("value", "")]

    @staticmethod
    def _input(form: Form, name: str, said: dict[str, str]) -> None:
        match said.get("type", "text"):
            case "hidden":
                form.hidden[name] = said.get("value", "")
            case "checkbox" | "radio":
                if "checked" in said:
                    form.chosen.setdefault(name, []).append(said.get("value", "on"))
            case "file" | "submit":
                pass
            case _:
                form.typed[name] = said.get("value", "")

    def handle_endtag(self, tag: str) -> None:
        if tag == "form":
            self._form = None
        elif tag == "textarea":
            self._area = ""
        elif tag == "select":
            self._select = ""

    def handle_data(self, data: str) -> None:
        if self._area and self._form is not None:
            self._form.typed[self._area] += data

    def posting(self) -> Iterator[Form]:
        """The forms that change something."""
        return (form for form in self.forms if form.method == "post")
