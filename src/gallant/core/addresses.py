"""Addresses that people write: taken apart, and kept free of secrets, since an address is shown, logged and told of."""

from __future__ import annotations

from urllib.parse import SplitResult, urlsplit

WITHOUT_SECRETS = (
    "no user, password or token in an address, which is shown and logged; account: says where a secret is kept"
)


def parts_of(text: str) -> SplitResult:
    """The parts of an address whose port is a port. Raises ValueError, without the text, for one that is none."""
    try:
        parts = urlsplit(text)
        _ = parts.port
    except ValueError:
        raise ValueError("no address: its host or its port is not in form") from None
    return parts


def secretless(text: str) -> SplitResult:
    """The parts of an address that names no account and has no query. Raises ValueError, without the text, for
    another."""
    parts = parts_of(text)
    if parts.username is not None or parts.password is not None or "@" in parts.netloc or parts.query:
        raise ValueError(WITHOUT_SECRETS)
    return parts
