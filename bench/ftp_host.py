"""The FTP stand-in as a process of its own: ROOT plain|explicit PORT PASSIVE-PORT..."""

from __future__ import annotations

import asyncio
import logging
import sys
from pathlib import Path

from nailer.standins.certificates import make_certificate
from nailer.standins.ftp import FtpHost


async def main(root: Path, tls: str, port: int, passive: list[int]) -> None:
    logging.disable(logging.CRITICAL)
    host = FtpHost(root, "bench", "carry-and-count", port=port, passive_ports=passive)
    if tls == "explicit":
        host.tls, host.certificate = tls, root.parent / "certificate.pem"
        make_certificate(host.certificate, "localhost")
    await host.start()
    print("ready", flush=True)
    await asyncio.Event().wait()


if __name__ == "__main__":
    asyncio.run(main(Path(sys.argv[1]), sys.argv[2], int(sys.argv[3]), [int(one) for one in sys.argv[4:]]))
