"""Whose process this is: the account that the kernel says, and beside it who asked sudo for it."""

from __future__ import annotations

import grp
import os
import pwd
from functools import lru_cache
from typing import NamedTuple

from gallant.core.errors import WrongUse
from gallant.core.records import clean

SUDO_USER = "SUDO_USER"  # sudo(8) sets it; so may anyone, for which it is believed for nothing alone


class Person(NamedTuple):
    """An account, and who asked sudo for it as the environment says; None where nobody did."""

    uid: int
    name: str
    sudo_user: str | None

    @property
    def account(self) -> str:
        """As other programs take an account: by its name, or by its number where it has none."""
        return str(self.uid) if self.name == _nameless(self.uid) else self.name


def this_person() -> Person:
    """Who runs this process. No name of the environment stands for an account (LOGNAME, USER)."""
    uid = os.getuid()
    name, asked = account_name(uid), clean(os.environ.get(SUDO_USER, ""), 80)
    return Person(uid, name, asked if asked and asked != name else None)


@lru_cache(maxsize=64)
def account_name(uid: int) -> str:
    """An account's name, or its number where it has none."""
    try:
        return clean(pwd.getpwuid(uid).pw_name, 80)
    except KeyError:
        return _nameless(uid)


def _nameless(uid: int) -> str:
    return f"uid {uid}"


@lru_cache(maxsize=256)
def is_member(uid: int, gid: int) -> bool:
    """Whether an account is one of a group, as the machine's lists of both have it."""
    try:
        account = pwd.getpwuid(uid)
    except KeyError:
        return False
    return gid in os.getgrouplist(account.pw_name, account.pw_gid)


def group_name(gid: int) -> str:
    """A group's name, or its number where it has none."""
    try:
        return clean(grp.getgrgid(gid).gr_name, 80)
    except KeyError:
        return f"gid {gid}"


def group_number(name: str) -> int:
    """The number of a group that this process may give files to. Raises
    `WrongUse` where there is no such group, or this account is none of it."""
    try:
        gid = int(name) if name.isdecimal() else grp.getgrnam(name).gr_gid
    except KeyError:
        raise WrongUse(
            f"This machine has no group {clean(name, 80)}.", next="getent group shows them; groupadd makes one"
        ) from None
    if os.geteuid() != 0 and gid not in {os.getegid(), *os.getgroups()}:
        raise WrongUse(
            f"{account_name(os.getuid())} is none of the group {group_name(gid)}.",
            "Files can be given only to a group that one is in.",
            "Have the administrator of this machine put you in (usermod -aG), and log in anew; you are in:"
            f" {', '.join(map(group_name, os.getgroups()))}",
        )
    return gid
