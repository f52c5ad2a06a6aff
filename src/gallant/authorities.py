"""Which authorities vouch for whom is spoken to: a TLS context that holds certificates against a file of them."""

from __future__ import annotations

import ssl
from functools import lru_cache

from gallant.core.errors import WrongUse


@lru_cache(maxsize=64)
def context_for(ca_file: str | None = None) -> ssl.SSLContext:
    """A verifying context (making one takes 70 ms), by a CA file or by the authorities
    of this host; raises `WrongUse` for a file that is none of certificates."""
    try:
        return ssl.create_default_context(cafile=ca_file)
    except ssl.SSLError as error:
        why = f"it holds no certificates in PEM ({(error.reason or 'unreadable').lower().replace('_', ' ')})"
    except OSError as error:
        why = error.strerror or type(error).__name__
    raise WrongUse(f"The CA file {ca_file} cannot be used: {why}.", next="Give a readable file of PEM certificates.")
