"""Options of the commands that run a node."""

from typing import Any

import click

from tamarack.gateway.processes.how_many import how_many


class _Processes(click.ParamType):  # type: ignore[type-arg]
    """A number of processes, or `auto`."""

    name = "N"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int:
        try:
            return how_many(str(value))
        except ValueError as error:
            self.fail(str(error), param, ctx)


PROCESSES = click.option(
    "--processes",
    type=_Processes(),
    default="1",
    show_default=True,
    help="On how many processes the node runs behind its port; auto for one on each core.",
)
TLS_PORT = click.option(
    "--tls-port",
    type=click.IntRange(0, 65535),
    default=0,
    help="Port for callers over TLS; the certificates are named by TAMARACK_TLS_CERTIFICATES.",
)
