"""What stands at a node's port without TLS where calls belong to the one with it: every call is told where."""

from __future__ import annotations

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.nodes.own_paths import OWN
from tamarack.gateway.driver import NodeDriver
from tamarack.gateway.gateway import Gateway
from tamarack.gateway.wire.connection import CallerConnection

HTTPS = 443
_NOWHERE = Refusal(REASONS["ambiguous-request"], note="the call names no host that it could be sent on to")


class RedirectDriver(NodeDriver):
    """Answers 308 (RFC 9110, 15.4.9), so that method and body stay; what is asked of the node itself it answers."""

    __slots__ = ("_port",)

    def __init__(self, gateway: Gateway, connection: CallerConnection, port: int) -> None:
        super().__init__(gateway, connection)
        self._port = port

    def begin(self, call: Call) -> None:
        """Carry no call: say where it belongs."""
        self.call = call
        self._head_sent = False
        try:
            if call.path.startswith(OWN) and self._asked_of_node(call):
                return
            host = call.host
            if not host:
                self._end(_NOWHERE)
                return
            if b":" in host and not host.endswith(b"]"):
                host = host.rpartition(b":")[0]
            if self._port != HTTPS:
                host += b":%d" % self._port
            query = b"?" + call.query if call.query else b""
            self._end(Reply(308, b"location: https://%b%b%b\r\n" % (host, call.path, query)))
        except Exception as error:
            self._broke(error)
