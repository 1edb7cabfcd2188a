"""The fields with which a call of an operation names its version, where the base path does not."""

from tamarack.core.configuration.model import Api, Version
from tamarack.core.openapi.reference import OperationView


def named_by(api: Api, version: Version, view: OperationView | None = None) -> dict[str, str]:
    """Names and values; none where each version has a base path of its own.

    What a call accepts besides is the media type of the operation's first answer that has one.
    """
    if api.naming is None:
        return {}
    bodies = [body for answer in view.answers for body in answer.bodies] if view is not None else []
    return api.naming.fields(version.version, bodies[0].media if bodies else "")
