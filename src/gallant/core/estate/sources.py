"""Where catalogs come from: a publisher's own catalog, or a channel of packages; and how a source is reached."""

from __future__ import annotations

import re
from datetime import datetime

from gallant.core.addresses import secretless
from gallant.core.estate.accounts import Account
from gallant.core.estate.systems import FINGERPRINT
from gallant.core.records import Record

_WORD = re.compile(r"[A-Za-z0-9][A-Za-z0-9._+/~-]{0,127}", re.ASCII)


class Access(Record):
    """How a source is reached: by a proxy, held against a CA file or a pinned certificate, under an account.

    The account's secret never stands here, only where it is kept.
    """

    proxy: str | None = None
    ca: str | None = None
    fingerprint: str | None = None
    account: Account | None = None

    def __post_init__(self) -> None:
        if self.proxy is not None:
            try:
                parts = secretless(self.proxy)
            except ValueError as error:
                raise ValueError(f"proxy: {error}") from None
            if parts.scheme not in ("http", "https") or not parts.hostname:
                raise ValueError("proxy: write http://HOST:PORT")
        if self.fingerprint is not None and not FINGERPRINT.fullmatch(self.fingerprint.lower()):
            raise ValueError("fingerprint: write sha256: and 64 hexadecimal digits")
        if self.ca is not None and self.fingerprint is not None:
            raise ValueError("ca: a CA file or a fingerprint, not both")


class News(Record):
    """What a sync brought that the one before did not have: `what` is new, recalled or gone."""

    what: str
    product: str
    version: str


class AptChannel(Record):
    """A source of Debian packages, as `deb [arch=amd64] URL SUITE COMPONENT…` writes it (sources.list(5)).

    A suite that ends with a slash is a flat repository and has no components.
    """

    url: str
    suite: str
    components: tuple[str, ...] = ()
    arch: str = "amd64"

    @property
    def is_flat(self) -> bool:
        """Whether its suite is a path and has no components."""
        return self.suite.endswith("/")

    @property
    def release_folder(self) -> str:
        """Where Release lies, relative to the URL."""
        return self.suite.removeprefix("./") if self.is_flat else f"dists/{self.suite}/"

    @property
    def as_listed(self) -> str:
        """The name that a host's reading has for it."""
        return f"{self.url.rstrip('/')} {self.suite}"

    @property
    def text(self) -> str:
        """As a line of a sources.list (sources.list(5))."""
        return " ".join(["deb", f"[arch={self.arch}]", self.url, self.suite, *self.components])


def parse_channel(text: str) -> AptChannel | None:
    """The channel that a one-line entry names; None for a text that is none. Raises ValueError for one that is
    wrong."""
    words = text.split()
    if not words or words[0] != "deb":
        return None
    arch, rest = "amd64", words[1:]
    if rest and rest[0].startswith("["):
        closing = next((n for n, word in enumerate(rest) if word.endswith("]")), None)
        if closing is None:
            raise ValueError("the options of a channel end with ]")
        options = " ".join(rest[: closing + 1]).strip("[] ").split()
        rest = rest[closing + 1 :]
        for option in options:
            key, _, value = option.partition("=")
            if key == "arch" and "," not in value and value:
                arch = value
            elif key not in ("signed-by", "lang"):
                raise ValueError(
                    f"the option {option!r} of a channel is not understood; arch=ARCH is, for one architecture"
                )
    if len(rest) < 2:
        raise ValueError("a channel is: deb [arch=amd64] URL SUITE COMPONENT…")
    url, suite, *components = rest
    parts = secretless(url)
    if parts.scheme not in ("http", "https", "file") or (parts.scheme != "file" and not parts.hostname):
        raise ValueError(f"{url!r} is not the address of a channel; write https://, http:// or file:///")
    channel = AptChannel(url=url.rstrip("/") + "/", suite=suite, components=tuple(components), arch=arch)
    for word in (suite.strip("./") or "x", *components, arch):
        if not _WORD.fullmatch(word) or ".." in word or ".." in suite:
            raise ValueError(f"{word!r} is not the name of a suite, component or architecture")
    if channel.is_flat == bool(components):
        raise ValueError("a suite has components, and a flat repository (its suite ends with /) has none")
    return channel


class Source(Record):
    """A catalog's place and pinned key, how it is reached, and how far it was followed.

    `serial` is the highest ever accepted; `state` is reachable, unreachable or unauthenticated as it was last found
    (None: never tried); `news` what the last sync that changed anything brought.
    """

    name: str
    source: str
    key: str
    added: datetime
    checked: datetime | None = None
    problem: str | None = None
    serial: int = 0
    sha256: str | None = None
    fetched: datetime | None = None
    tag: str | None = None
    state: str | None = None
    access: Access | None = None
    news: tuple[News, ...] = ()
