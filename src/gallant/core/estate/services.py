"""Services that users depend on, and how each is asked whether it answers."""

from __future__ import annotations

import re
from typing import Annotated

import msgspec

from gallant.core.estate.places import command_words, host_and_port
from gallant.core.records import Record


class Read(Record):
    """A data read: what a probe sends, and a pattern that a right answer matches from its start."""

    send: str
    expect: str

    def __post_init__(self) -> None:
        import regex  # few services are read so, and every command reads the estate

        try:
            regex.compile(self.expect)
        except regex.error as error:
            raise ValueError(f"expect: no pattern: {error}") from None


class HttpAsked(Record):
    """A request for a page: the statuses that are well, and what must hold of its JSON (JMESPath, `well`)."""

    path: str = "/"
    status: tuple[int, ...] = (200,)
    well: str | None = None
    tls: bool = True

    def __post_init__(self) -> None:
        if not self.path.startswith("/") or any(ord(c) <= 32 for c in self.path):
            raise ValueError("path: begins with /, and has no blank")
        if self.well is not None:
            import jmespath

            try:
                jmespath.compile(self.well)
            except jmespath.exceptions.JMESPathError as error:
                raise ValueError(f"well: {' '.join(str(error).split())}") from None
        if not self.status or any(not 100 <= code <= 599 for code in self.status):
            raise ValueError("status: one or more of 100 to 599")


# How a service may be asked, each a field of `Service` of that
# name; `tcp`, a connect alone, where none of them is given.
ASKED = ("read", "tls", "http", "dns", "ntp", "ping", "run")


# Seconds of real time between two probes. A connect costs next to
# nothing; whatever makes the other side work is asked less often.
FAST_S, SLOW_S = 0.08, 1.0


# A name as DNS has it (RFC 1035, section 2.3.4): labels of at most 63 characters.
HOST_NAME = re.compile(
    r"(?=.{1,253}$)"
    r"([A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?)"
    r"(\.[A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?)*\.?"
)


class Service(Record):
    """An address that users of the system depend on, and how it is asked: a `read`, a
    `tls` handshake, a page (`http`), a name (`dns`), the time (`ntp`), an echo
    (`ping`), or a command of one's own that ends with 0 (`run`); else a connect.

    An answer that takes longer than `within_ms` (real milliseconds) is none, nor one under a certificate that ends
    within `certificate_days`. `budget_s` is for how long it may be out at a time; past it the work on its system holds.
    `every_s` are real seconds between two probes. `unscaled`: its stand-in keeps real time.
    """

    address: str
    read: Read | None = None
    tls: bool = False
    http: HttpAsked | None = None
    dns: str | None = None
    ntp: bool = False
    ping: bool = False
    run: str | None = None
    within_ms: Annotated[float, msgspec.Meta(gt=0, le=60_000)] | None = None
    certificate_days: Annotated[float, msgspec.Meta(ge=0, le=3650)] | None = None
    budget_s: Annotated[float, msgspec.Meta(gt=0)] | None = None
    every_s: Annotated[float, msgspec.Meta(ge=FAST_S, le=60)] | None = None
    unscaled: bool = False

    def __post_init__(self) -> None:
        host_and_port(self.address)
        given = [name for name in ASKED if getattr(self, name)]
        if len(given) > 1:
            raise ValueError(f"{' and '.join(given)}: a service is asked in one way; give it a second name for another")
        if self.dns is not None and HOST_NAME.fullmatch(self.dns) is None:
            raise ValueError("dns: write the name that is asked for")
        if self.run is not None and not command_words(self.run):
            raise ValueError("run: write a command and its arguments")
        if self.certificate_days is not None and not (self.tls or (self.http is not None and self.http.tls)):
            raise ValueError("certificate_days: only an answer by tls, or by http with tls, comes under a certificate")

    @property
    def asked(self) -> str:
        """How the service is asked: by a connection where nothing else is said."""
        return next((name for name in ASKED if getattr(self, name)), "tcp")

    @property
    def pace_s(self) -> float:
        """Seconds between two probes."""
        return self.every_s or (FAST_S if self.asked in ("tcp", "read") else SLOW_S)

    @property
    def command(self) -> list[str]:
        """The words of its command."""
        return command_words(self.run or "")

    @property
    def endpoint(self) -> tuple[str, int]:
        """Host and port of its address."""
        return host_and_port(self.address)
