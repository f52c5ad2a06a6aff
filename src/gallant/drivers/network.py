"""Why a connection did not come about, in a few words: the system's own are for whoever wrote it."""

from __future__ import annotations

import os
import socket


def reason(error: OSError) -> str:
    """The cause of a failed connection. Errors of name resolution
    have numbers below 0, which no `errno` has (RFC 3493, 6.1)."""
    if isinstance(error, socket.gaierror) or (error.errno or 0) < 0:
        return "the name is not known"
    return os.strerror(error.errno).lower() if error.errno else str(error).lower()
