"""Who Gallant is on a device, and where a secret is kept: never here."""

from __future__ import annotations

from gallant.core.records import Record

PURPOSES = ("read", "act", "elevate")


SECRET_KINDS = ("env", "file", "keyring", "key")


NO_REFERENCE = ("ask", "agent")


class Account(Record):
    """Who Gallant is on a device. The secret itself never stands here, only where it is kept."""

    user: str
    secret: str

    def __post_init__(self) -> None:
        kind, colon, where = self.secret.partition(":")
        if self.secret not in NO_REFERENCE and not (kind in SECRET_KINDS and colon and where):
            raise ValueError(
                "secret: write env:NAME, file:PATH, keyring:SERVICE, key:PATH (an SSH key), agent or ask; a secret"
                " never stands in this file"
            )
