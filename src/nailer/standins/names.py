"""A name server for the stand-ins' made-up names (RFC 1035 over UDP): a table, and nothing asked elsewhere."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, MutableMapping, Sequence

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdataclass
import dns.rdatatype
import dns.rrset


class NameHost(asyncio.DatagramProtocol):
    """Answers by a table from names to their records by kind, e.g. `{"skerry.example": {"A": ["192.0.2.1"]}}`."""

    def __init__(self, table: MutableMapping[str, Mapping[str, Sequence[str]]], port: int = 0) -> None:
        self.port = port
        self.table = table
        self._transport: asyncio.DatagramTransport | None = None

    async def start(self) -> int:
        """Listen; return the port."""
        loop = asyncio.get_running_loop()
        try:
            self._transport, _ = await loop.create_datagram_endpoint(lambda: self, ("127.0.0.1", self.port))
        except OSError:
            self._transport, _ = await loop.create_datagram_endpoint(lambda: self, ("127.0.0.1", 0))
        self.port = int(self._transport.get_extra_info("sockname")[1])
        return self.port

    def stop(self) -> None:
        """Answer nobody any more."""
        if self._transport is not None:
            self._transport.close()

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        """One question, one answer."""
        try:
            asked = dns.message.from_wire(data)
        except dns.exception.DNSException:
            return
        answer = dns.message.make_response(asked)
        answer.flags |= dns.flags.AA
        for question in asked.question:
            known = self.table.get(question.name.to_text().rstrip(".").lower())
            if known is None:
                answer.set_rcode(dns.rcode.NXDOMAIN)
                continue
            kind = dns.rdatatype.to_text(question.rdtype)
            if known.get(kind):
                answer.answer.append(dns.rrset.from_text(question.name, 300, "IN", kind, *known[kind]))
        if self._transport is not None:
            self._transport.sendto(answer.to_wire(), addr)
