"""A body changed on its way, in or back: edited as JSON, brought to another form, or made from a text."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Annotated, Any, Literal
from urllib.parse import parse_qsl, quote_plus

from pydantic import AfterValidator, Field, StringConstraints, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.errors import CoreError
from tamarack.core.form_hints import hints
from tamarack.core.http.fields import Header
from tamarack.core.policies.guard.body_size import Size, size_in_words
from tamarack.core.policies.kind import Policy
from tamarack.core.shaping import json_bodies
from tamarack.core.shaping.json_edits import MOST_EDITS, JsonEdit, compiled
from tamarack.core.shaping.wanted import When
from tamarack.core.shaping.xml_json import NotConverted, XmlForm, from_xml, is_element_name, to_xml
from tamarack.core.types import Readable
from tamarack.core.values.call_values import known_of
from tamarack.core.values.template import Template, TemplateFailed, check_template_text, into

Do = Literal["edit JSON", "JSON to XML", "XML to JSON", "form to JSON", "JSON to form", "from a text"]
Otherwise = Literal["refuse", "pass it on as it is"]
MOST_BYTES = 5_000_000
LARGEST_MADE = 20_000_000
_MOST_FIELDS = 10_000
_FORM = "application/x-www-form-urlencoded"
TAKES: dict[Do, str] = {"edit JSON": "json", "JSON to XML": "json", "JSON to form": "json", "XML to JSON": "xml",
                        "form to JSON": "form", "from a text": "any"}  # fmt: skip
MAKES: dict[Do, str] = {"edit JSON": "", "JSON to XML": "application/xml", "XML to JSON": "application/json",
                        "form to JSON": "application/json", "JSON to form": _FORM, "from a text": ""}  # fmt: skip
"""The media type of what comes out; empty where it stays, or is said."""
_UNTRUE = frozenset((b"content-length", b"content-md5", b"digest", b"content-digest", b"repr-digest", b"accept-ranges"))
"""Fields that say of a body what no longer holds once it is changed."""


class NotChanged(CoreError, ValueError):
    """A body that cannot be changed as it has to be; the message says why."""


def _size(value: int) -> int:
    if not 1 <= value <= MOST_BYTES:
        raise ValueError(f"{size_in_words(value)}: bodies of at most {size_in_words(MOST_BYTES)} are changed")
    return value


def _element(value: str) -> str:
    if not is_element_name(value):
        raise ValueError(f"{value[:60]!r} cannot be an element's name: a letter, then letters, digits and . - _")
    return value


ElementName = Annotated[str, StringConstraints(strip_whitespace=True, max_length=200), AfterValidator(_element)]
Text = Annotated[str, StringConstraints(max_length=100_000), Readable, AfterValidator(check_template_text)]


class BodyChange(Policy):
    """What both kinds of body changes hold."""

    do: Do = Field(default="edit JSON", title="What is done", description="Bodies of other types pass as they are.")
    edits: tuple[JsonEdit, ...] = Field(
        default=(),
        max_length=MOST_EDITS,
        title="Changes",
        description='One a line, made in this order: `set /ship/name: "Lark"`, `set /port: "{{ query.port }}"`,'
        " `remove /crew/*/phone`, `rename /from to origin`, `keep /id, /day`. `*` stands for every item or name.",
        json_schema_extra=hints(rows=4, only=("do", ("edit JSON",))),
    )
    text: Text = Field(
        default="",
        title="Text",
        description="With values of the call: `{{ body.from }}`, `{{ path.id }}`, `{{ caller.application }}`.",
        json_schema_extra=hints(rows=6, only=("do", ("from a text",))),
    )
    media: Annotated[str, StringConstraints(max_length=200, pattern=r"^[ -~]*$")] = Field(
        default="application/json",
        title="Content type",
        description="Of the text, like application/json.",
        json_schema_extra=hints(only=("do", ("from a text",))),
    )
    root: ElementName = Field(
        default="document",
        title="Outermost element",
        description="Where the JSON is not an object with one name.",
        json_schema_extra=hints(only=("do", ("JSON to XML",))),
    )
    item: ElementName = Field(
        default="item",
        title="Element of a list's items",
        description="Where no name of theirs is known.",
        json_schema_extra=hints(rare=True, only=("do", ("JSON to XML",))),
    )
    lists: tuple[ElementName, ...] = Field(
        default=(),
        max_length=60,
        title="Always lists",
        description="One a line: elements that become a list however many there are.",
        json_schema_extra=hints(rows=2, only=("do", ("XML to JSON",))),
    )
    read_values: bool = Field(
        default=False,
        title="Read numbers and truth values",
        description="`12`, `1.5`, `true` as JSON knows them; else all is text.",
        json_schema_extra=hints(only=("do", ("XML to JSON", "form to JSON"))),
    )
    keep_prefixes: bool = Field(
        default=False,
        title="Keep the prefixes of namespaces",
        description="As `prefix:name`; else names alone.",
        json_schema_extra=hints(rare=True, only=("do", ("XML to JSON",))),
    )
    otherwise: Otherwise = Field(
        default="refuse",
        title="A body that cannot be changed",
        description="Does not parse, or is too large.",
        json_schema_extra=hints(rare=True),
    )
    at_most: Size = Field(
        default=1_000_000, title="Bodies up to", description="Like 1 MB.", json_schema_extra=hints(rare=True)
    )
    when: When = ()

    @model_validator(mode="after")
    def _whole(self) -> BodyChange:
        if self.do == "edit JSON" and not self.edits:
            raise ValueError("write at least one change, like `remove /crew`, or choose another thing to do")
        if self.do == "from a text" and not self.text:
            raise ValueError("write the text that the body becomes")
        _size(self.at_most)
        return self

    @property
    def inexact(self) -> list[str]:
        """What does not come back as it was from the other form, for whoever places it."""
        if self.do == "JSON to XML":
            said = "XML does not tell a list of one item from the item, nor an empty list or text from nothing"
            return [f"{said}; whoever reads it back has to know."]
        if self.do != "XML to JSON":
            return []
        found = [] if self.lists else ["An element that stands once is no list; name those that may stand several times"
                                       " under ‘Always lists’."]  # fmt: skip
        return [*found, *([] if self.read_values else ["Numbers and truth values come as texts."])]

    @property
    def said(self) -> str:
        """What is done, for a sentence."""
        if self.do == "edit JSON":
            return f"edited as JSON ({len(self.edits)} change{'' if len(self.edits) == 1 else 's'})"
        if self.do == "from a text":
            return f"made from a text, as `{self.media}`"
        was, _, becomes = self.do.partition(" to ")
        return f"brought from {'a form' if was == 'form' else was} to {'a form' if becomes == 'form' else becomes}"


def kind_of_media(media: bytes | str) -> str:
    """What a body of a media type is: json, xml, form, or nothing of these."""
    kind = (media.decode("latin-1") if isinstance(media, bytes) else media).partition(";")[0].strip().lower()
    if kind.endswith(("/json", "+json")):
        return "json"
    if kind.endswith(("/xml", "+xml")):
        return "xml"
    return "form" if kind == _FORM else ""


Made = Callable[[bytes, Call], bytes]


def changer(policy: BodyChange) -> Made:
    """What makes the new body of the old one. Raises `NotChanged`."""
    inner = _changer(policy)

    def change(body: bytes, call: Call) -> bytes:
        try:
            made = inner(body, call)
        except (NotConverted, TemplateFailed) as error:
            raise NotChanged(str(error)) from error
        except (ValueError, RecursionError) as error:
            words = str(error).partition(":")[0] if isinstance(error, ValueError) else "it is nested too deeply"
            raise NotChanged(words) from error
        if len(made) > LARGEST_MADE:
            raise NotChanged(f"it would come to more than {size_in_words(LARGEST_MADE)}")
        return made

    return change


def _changer(policy: BodyChange) -> Made:
    form = XmlForm(policy.root, policy.item, frozenset(policy.lists), policy.read_values, policy.keep_prefixes)
    match policy.do:
        case "edit JSON":
            edit = compiled(policy.edits)
            return lambda body, call: json_bodies.dump(edit(json_bodies.load(body), call))
        case "JSON to XML":
            return lambda body, call: to_xml(json_bodies.load(body), form)
        case "XML to JSON":
            return lambda body, call: json_bodies.dump(from_xml(body, form))
        case "form to JSON":
            return lambda body, call: json_bodies.dump(_of_form(body, policy.read_values))
        case "JSON to form":
            return lambda body, call: _as_form(json_bodies.load(body))
        case "from a text":
            template = Template(policy.text, into(policy.media))

            def fill(body: bytes, call: Call) -> bytes:
                known = known_of(call, template.names)
                if "body" in known:
                    known["body"] = _readable(body, known["body"])
                return template.made_for(call, known)

            return fill


def _readable(body: bytes, otherwise: Any) -> Any:
    """A body's values for a text: those of the body that is changed."""
    try:
        return json_bodies.load(body)
    except ValueError:
        return otherwise


def _of_form(body: bytes, read_values: bool) -> dict[str, Any]:
    try:
        pairs = parse_qsl(body.decode(), keep_blank_values=True, strict_parsing=bool(body), max_num_fields=_MOST_FIELDS)
    except (ValueError, UnicodeDecodeError) as error:
        raise NotChanged("it is not a form as browsers send it") from error
    found: dict[str, list[Any]] = {}
    for name, value in pairs:
        found.setdefault(name, []).append(_read(value) if read_values else value)
    return {name: values if len(values) > 1 else values[0] for name, values in found.items()}


def _read(value: str) -> Any:
    try:
        found = json_bodies.load(value.encode())
    except ValueError:
        return value
    return found if isinstance(found, int | float) else value


def _as_form(value: Any) -> bytes:
    if not isinstance(value, dict):
        raise NotChanged("only an object becomes a form")
    return "&".join(f"{quote_plus(name)}={quote_plus(text)}" for name, text in _pairs(value)).encode()


def _pairs(value: dict[str, Any]) -> Iterable[tuple[str, str]]:
    for name, inner in value.items():
        for one in inner if isinstance(inner, list) else (inner,):
            if isinstance(one, dict | list):
                raise NotChanged(f"{name[:60]!r} holds objects or lists in lists, which a form cannot")
            text = "" if one is None else ("true" if one else "false") if isinstance(one, bool) else str(one)
            yield name, text


def media_after(policy: BodyChange) -> str:
    """The media type of what comes out; empty where it stays as it was."""
    return policy.media if policy.do == "from a text" else MAKES[policy.do]


def fields_after(headers: list[Header], media: str) -> list[Header]:
    """The fields of a message whose body was changed: its type, and nothing that no longer holds.

    A strong validator becomes a weak one: the body is not the one that it was given for (RFC 9110, 8.8.1).
    """
    made = []
    for name, value in headers:
        if name in _UNTRUE or (media and name == b"content-type"):
            continue
        made.append((name, b"W/" + value) if name == b"etag" and not value.startswith(b"W/") else (name, value))
    if media:
        made.append((b"content-type", media.encode()))
    return made


def applies(policy: BodyChange, media: bytes) -> bool:
    """Whether a body of a media type is one that the policy changes."""
    taken = TAKES[policy.do]
    return taken == "any" or kind_of_media(media) == taken
