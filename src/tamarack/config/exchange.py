"""Between the draft and files: `export`, and `apply` with its difference in words first."""

from pathlib import Path
from types import TracebackType

from sqlmodel import Session

from tamarack.config.document_reader import DocumentReader
from tamarack.config.documents import keep_documents
from tamarack.config.files import FileProblem, NotApplicable, load, write
from tamarack.core.configuration.difference import Change, difference
from tamarack.core.configuration.model import Configuration, check
from tamarack.core.environments.named_in import unknown_environments
from tamarack.settings import Settings
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.store.engine import make_engine
from tamarack.store.environments.queries import known


def draft_files(session: Session, configuration: Configuration) -> dict[str, str]:
    """The files that say what a configuration says, its documents with them."""
    names = [version.document for api in configuration.apis for version in api.versions]
    names += [page.document for api in configuration.apis for page in api.pages]
    return write(configuration, documents.document_texts(session, names))


def files_apart(session: Session, one: Configuration, other: Configuration) -> tuple[dict[str, str], dict[str, str]]:
    """The files of two configurations, without those of what both say alike: these are not even made."""
    return draft_files(session, _apart(one, other)), draft_files(session, _apart(other, one))


def _apart(one: Configuration, other: Configuration) -> Configuration:
    apis, kinds = {api.name: api for api in other.apis}, {kind.name: kind for kind in other.kinds}
    alone: dict[str, object] = {
        "apis": tuple(api for api in one.apis if api != apis.get(api.name)),
        "kinds": tuple(kind for kind in one.kinds if kind != kinds.get(kind.name)),
    }
    alone |= {name: () for name in ("backends", "products") if getattr(one, name) == getattr(other, name)}
    return one.model_copy(update=alone)  # what is built anew would bind the policies that both share


def export_to(settings: Settings, folder: Path) -> list[str]:
    """Write the draft into a folder; returns the paths written."""
    engine = make_engine(settings.database, size=1)
    with Session(engine) as session:
        files = draft_files(session, drafting.load_configuration(session))
    engine.dispose()
    for name, text in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    return sorted(files)


class Applying:
    """Files about to be put into the draft, in one transaction: all or nothing.

    Raises `NotApplicable` where the files, or what the draft would become, have problems.
    """

    def __init__(self, settings: Settings, path: Path, whole: bool) -> None:
        self._path = path
        self._loaded = load(path, whole)
        self._whole = whole
        self._engine = make_engine(settings.database, size=1)
        self.changes: list[Change] = []

    def __enter__(self) -> "Applying":
        self._session = Session(self._engine)
        before = drafting.load_configuration(self._session)
        with DocumentReader() as reader:
            unusable = keep_documents(self._session, self._loaded, reader.read)
        if unusable:
            self._close()
            raise NotApplicable(unusable)
        drafting.replace_all(self._session, COMMAND_LINE, self._loaded.configuration, self._whole)
        after = drafting.load_configuration(self._session)
        problems = [*unknown_environments(after, known(self._session)), *check(after)]
        if problems:
            self._close()
            raise NotApplicable([FileProblem(str(self._path), 0, p.field, p.message) for p in problems])
        self.changes = difference(before, after)
        return self

    def apply(self) -> None:
        """Keep it."""
        self._session.commit()

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._close()

    def _close(self) -> None:
        self._session.rollback()
        self._session.close()
        self._engine.dispose()
