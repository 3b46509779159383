"""The connections on which files arrive: at the pace of their system, and where one is cut, that is
known.
"""

from __future__ import annotations

import logging
from typing import Any

from OpenSSL import SSL
from pyftpdlib.handlers import ThrottledDTPHandler, TLS_DTPHandler


class _TellsCuts:
    """pyftpdlib takes a connection that was reset for one that ended. Where it was closed in order,
    the socket still knows its peer.
    """

    def close(self: Any) -> None:
        if not self._closed and self.receive and self.transfer_finished and self._is_cut():
            self.transfer_finished = False
            self._resp = ("426 The connection ended within the file.", logging.debug)
        super().close()  # type: ignore[misc]

    def _is_cut(self: Any) -> bool:
        try:
            self.socket.getpeername()
        except OSError:
            return True
        return False


class DataChannel(_TellsCuts, ThrottledDTPHandler):  # type: ignore[misc]
    """At the pace of its system, not of this connection alone as pyftpdlib counts."""

    read_limit = 1  # has pyftpdlib ask after every piece
    auto_sized_buffers = False

    def _throttle_bandwidth(self, len_chunk: int, max_speed: int) -> None:
        pause = self.cmd_channel.pace.pause_after(self.cmd_channel.fs.jail.system, len_chunk)
        if pause:
            self.del_channel()
            self._cancel_throttler()
            self._throttler = self.ioloop.call_later(pause, self._go_on, _errback=self.handle_error)

    def _go_on(self) -> None:
        self.add_channel(events=self.ioloop.READ)


class TlsDataChannel(DataChannel, TLS_DTPHandler):  # type: ignore[misc]
    pass


class CarriedDataChannel(TlsDataChannel):
    """Of a connection that a site's worker carries. On its way a cut looks like an end, so TLS must
    say that it is one (RFC 8446, section 6.1; RFC 5246, section 7.2.1).
    """

    def _is_cut(self) -> bool:
        return not self.socket.get_shutdown() & SSL.RECEIVED_SHUTDOWN
