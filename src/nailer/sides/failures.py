"""What went wrong on the way to a server, in words: what libraries put into their errors is for programmers."""

from __future__ import annotations

import os
import re
import socket
import ssl

_ERRNO = re.compile(r"^\[(?:Errno|SSL)[^\]]*\]\s*")


def failure_words(error: BaseException, most: int = 160) -> str:
    """The reason of an error, without numbers of the system; '' where it gives none.

    >>> failure_words(socket.gaierror(-2, "Name or service not known"))
    'the name has no address'
    >>> failure_words(ConnectionRefusedError(111, "Connection refused"))
    'connection refused'
    >>> failure_words(ValueError("too long"))
    'too long'
    """
    for one in _causes(error):
        if isinstance(one, socket.gaierror):
            return "the name has no address"
        if isinstance(one, ssl.SSLCertVerificationError):
            return f"the certificate is not trusted: {one.verify_message}"
        if isinstance(one, ssl.SSLError):
            return (one.reason or "the encrypted connection failed").replace("_", " ").lower()
        if isinstance(one, OSError) and one.errno:
            words = os.strerror(one.errno)
            return words[:1].lower() + words[1:]
    return _ERRNO.sub("", str(error)).strip()[:most]


def _causes(error: BaseException) -> list[BaseException]:
    found = [error]
    while (one := found[-1].__cause__ or found[-1].__context__) is not None and len(found) < 8:
        found.append(one)
    return found
