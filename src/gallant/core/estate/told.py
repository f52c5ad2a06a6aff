"""Who is told: collectors of decisions, and people."""

from __future__ import annotations

from typing import Annotated, Literal
from urllib.parse import urlsplit

import msgspec

from gallant.core.estate.accounts import Account
from gallant.core.estate.places import command_words, host_and_port, is_loopback, secretless_in
from gallant.core.records import Record


class EventPlace(Record):
    """Where each entry of the ledger is also told: udp://HOST:PORT
    or tcp://HOST:PORT (syslog), or a file of JSON lines."""

    to: str
    enterprise: Annotated[int, msgspec.Meta(ge=1)] = 32473

    def __post_init__(self) -> None:
        parts = secretless_in("to", self.to)
        if parts.scheme in ("udp", "tcp"):
            if not parts.hostname or not parts.port:
                raise ValueError("to: write udp://HOST:PORT or tcp://HOST:PORT")
        elif parts.scheme:
            raise ValueError("to: udp://HOST:PORT, tcp://HOST:PORT, or the path of a file")


class Mail(Record, rename={"sender": "from"}):
    """A message by SMTP. `tls`: from the start (`whole`), once connected
    (`starttls`), or `none`, which only this machine may have."""

    to: tuple[str, ...]
    sender: str
    server: str
    tls: Literal["starttls", "whole", "none"] = "starttls"

    def __post_init__(self) -> None:
        host, _ = host_and_port(self.server)
        if not self.to or any("@" not in one or any(ord(c) <= 32 for c in one) for one in (*self.to, self.sender)):
            raise ValueError("to and from: write mail addresses")
        if self.tls == "none" and not is_loopback(host):
            raise ValueError("tls: a message to another machine is never sent in clear; write starttls or whole")


NOTIFIED_OF = ("held", "stopped", "finished", "late")


class NotifyPlace(Record):
    """Who is told when a roll is held, stopped or finished, or a step of it is late and
    goes on: a command of one's own (`run`), a `webhook`, or `mail`. `account` is for the
    two that go over the network: a bearer's token for a webhook, a login for mail."""

    when: tuple[str, ...] = NOTIFIED_OF
    run: str | None = None
    webhook: str | None = None
    mail: Mail | None = None
    account: Account | None = None

    def __post_init__(self) -> None:
        if sum(one is not None for one in (self.run, self.webhook, self.mail)) != 1:
            raise ValueError("write one of run, webhook and mail")
        if strange := next((word for word in self.when if word not in NOTIFIED_OF), None):
            raise ValueError(f"when: {strange!r} is none of {', '.join(NOTIFIED_OF)}")
        if self.run is not None and not command_words(self.run):
            raise ValueError("run: write a command and its arguments")
        if self.webhook is not None:
            parts = secretless_in("webhook", self.webhook)
            if parts.scheme != "https" and not (parts.scheme == "http" and is_loopback(parts.hostname or "")):
                raise ValueError("webhook: write https://…; a message to another machine is never sent in clear")

    @property
    def name(self) -> str:
        """What it is called where somebody is told of it."""
        if self.mail is not None:
            return f"mail to {', '.join(self.mail.to)}"
        return (
            f"webhook {urlsplit(self.webhook).hostname}" if self.webhook is not None else f"command {self.command[0]}"
        )

    @property
    def command(self) -> list[str]:
        """The words of its command."""
        return command_words(self.run or "")
