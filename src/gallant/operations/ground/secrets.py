"""Where a secret is kept, and getting it from there at the moment it is needed. No secret is kept by Gallant."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator
from pathlib import Path

from gallant.core.checks.facts import UNATTENDED, Unattended
from gallant.core.errors import Unreached, WrongUse
from gallant.core.estate.accounts import Account
from gallant.core.estate.systems import Estate, System

Asker = Callable[[str], str]


def resolve(account: Account, folder: Path, asker: Asker | None, what: str) -> str:
    """The secret that an account's reference leads to; `what` names it for a person. Raises `WrongUse` or
    `Unreached`."""
    kind, _, where = account.secret.partition(":")
    if kind == "agent":  # anyone who holds the key signs with it; there is nothing to fetch
        return ""
    found = {"env": _env, "file": _file, "key": _file, "keyring": _keyring, "ask": _ask}[kind](
        where, account, folder, asker, what
    )
    if not found:
        raise WrongUse(
            f"{what}: the secret is empty.",
            f"{account.secret} leads to nothing.",
            "Put it where estate.yaml says it is kept.",
        )
    return found


TIMER = "secrets/timer.env"  # of an estate's folder: what the units of gallant init --timer have in their environment


def unattended(estate: Estate, system: System, folder: Path) -> Iterator[Unattended]:
    """The secrets of a system's accounts that are not there when nobody is at a terminal."""
    for purpose, account in {**estate.accounts, **system.accounts}.items():
        kind, _, where = account.secret.partition(":")
        if kind in UNATTENDED and not (kind == "env" and where in _of_timers(folder)):
            yield Unattended(purpose=purpose, kind=kind, where=where)


def _of_timers(folder: Path) -> set[str]:
    """The variables that a file of systemd.exec(5), EnvironmentFile=, sets."""
    try:
        lines = (folder / TIMER).read_text("utf-8", "replace").splitlines()
    except OSError:
        return set()
    return {
        line.partition("=")[0].strip() for line in lines if "=" in line and not line.lstrip().startswith(("#", ";"))
    }


def _env(where: str, account: Account, folder: Path, asker: Asker | None, what: str) -> str:
    if where not in os.environ:
        raise WrongUse(
            f"{what}: the environment variable {where} is not set.",
            next=f"Set {where}, or name another place in estate.yaml.",
        )
    return os.environ[where]


def _file(where: str, account: Account, folder: Path, asker: Asker | None, what: str) -> str:
    path = folder / Path(where).expanduser()
    try:
        if stat.S_IMODE(path.stat().st_mode) & 0o077:
            raise WrongUse(
                f"{what}: {path} can be read by others.", "A secret that others can read is none.", f"chmod 600 {path}"
            )
        return path.read_text("utf-8").rstrip("\r\n")
    except OSError as error:
        raise WrongUse(
            f"{what}: {path} cannot be read: {error.strerror}.", next="Look at secret: in estate.yaml."
        ) from None
    except UnicodeDecodeError:
        raise WrongUse(f"{what}: {path} is not text.", next="Look at secret: in estate.yaml.") from None


def _keyring(where: str, account: Account, folder: Path, asker: Asker | None, what: str) -> str:
    import keyring  # half a second of import, for those who use it
    import keyring.errors

    try:
        return keyring.get_password(where, account.user) or ""
    except keyring.errors.KeyringError as error:
        raise Unreached(
            f"{what}: the keyring does not give {where}: {error}.",
            next="Unlock it, or name another place in estate.yaml.",
        ) from None


def _ask(where: str, account: Account, folder: Path, asker: Asker | None, what: str) -> str:
    if asker is None:
        raise WrongUse(
            f"{what}: its secret has to be typed, and nobody is at a terminal.",
            next="Run it from a terminal, or name another place in estate.yaml.",
        )
    return asker(f"Secret of {account.user} for {what}")
