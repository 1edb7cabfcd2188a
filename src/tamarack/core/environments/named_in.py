"""Where a configuration names environments: in the caps, and where targets say what they serve."""

from collections.abc import Iterable

from tamarack.core.configuration.model import Configuration
from tamarack.core.text import in_words
from tamarack.core.types import Problem


def unknown_environments(configuration: Configuration, known: Iterable[str]) -> list[Problem]:
    """Where a configuration names environments that there are not."""
    names = tuple(known)
    found = []
    for place, cap in enumerate(configuration.caps):
        if cap.environment not in names:
            found.append(Problem(path=("caps", place, "environment"), message=_no_such(cap.environment, names)))
    for b, backend in enumerate(configuration.backends):
        for t, target in enumerate(backend.targets):
            for name in target.environments:
                if name not in names:
                    message = f"the target {target.address}: {_no_such(name, names)}"
                    found.append(Problem(path=("backends", b, "targets", t, "environments"), message=message))
    return found


def _no_such(name: str, names: tuple[str, ...]) -> str:
    return f"{name!r} is no environment; there {'is' if len(names) == 1 else 'are'} {in_words(names)}"


def only_served(configuration: Configuration, name: str) -> tuple[str, ...]:
    """The backends that have targets for one environment and for no other."""
    return tuple(
        backend.name
        for backend in configuration.backends
        if all(target.environments == (name,) for target in backend.targets)
    )


def without_environment(configuration: Configuration, name: str) -> Configuration:
    """A configuration that names an environment no more. A target that served it alone is left out: with none named
    it would serve all. For a configuration in which nothing is `only_served` there."""
    backends = []
    for backend in configuration.backends:
        targets = tuple(
            target.model_copy(update={"environments": tuple(one for one in target.environments if one != name)})
            for target in backend.targets
            if target.environments != (name,)
        )
        backends.append(backend if targets == backend.targets else backend.model_copy(update={"targets": targets}))
    caps = tuple(cap for cap in configuration.caps if cap.environment != name)
    return configuration.model_copy(update={"backends": tuple(backends), "caps": caps})
