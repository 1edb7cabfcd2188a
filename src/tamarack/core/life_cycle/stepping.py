"""A version taken to another state, with what belongs to that: the day from which it is deprecated."""

from datetime import date

from tamarack.core.configuration.model import Api, State, Version


def stepped(api: Api, version: Version, state: State, day: date) -> Api:
    """The API with one of its versions in another state from a day on."""
    changes: dict[str, object] = {"state": state}
    if state == "deprecated" and (version.deprecated_on is None or version.deprecated_on > day):
        changes["deprecated_on"] = day
    now = version.model_copy(update=changes)
    return api.model_copy(
        update={"versions": tuple(now if one.version == version.version else one for one in api.versions)}
    )
