"""A mail server that keeps what it gets for reading (RFC 5321), in memory; it sends nothing on."""

from __future__ import annotations

import socket
from collections import deque
from dataclasses import dataclass, field
from email import message_from_bytes
from email.message import Message
from email.policy import default as modern

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session

_MOST = 100


@dataclass
class MailHost:
    """Listens in a thread of its own on a free port of loopback."""

    port: int = 0
    address: str = "127.0.0.1"
    letters: deque[Message] = field(default_factory=lambda: deque(maxlen=_MOST))

    def start(self) -> int:
        """Listen; return the port."""
        if not self.port:
            # The library tries its own port out, and so must know it beforehand.
            with socket.create_server((self.address, 0)) as free:
                self.port = free.getsockname()[1]
        self._controller = Controller(_Keeper(self), hostname=self.address, port=self.port)
        self._controller.start()
        return self.port

    def stop(self) -> None:
        self._controller.stop()


class _Keeper:
    def __init__(self, host: MailHost) -> None:
        self._host = host

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:  # noqa: N802
        self._host.letters.append(message_from_bytes(envelope.original_content or b"", policy=modern))
        return "250 kept"
