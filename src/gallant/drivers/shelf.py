"""Where profiles lie, and what a look at one's file says without reading all of its calls."""

from __future__ import annotations

from functools import lru_cache
from importlib import resources
from pathlib import Path

import msgspec

from gallant.core.documents import Document, suggestion
from gallant.core.errors import WrongUse

# Acts on releases that a driver gives by its protocol alone; its other acts are not asked for here.
OWN_ACTS = {"install": ("redfish", "debian", "manual"), "preload": ("debian",)}


class Glance(msgspec.Struct):
    """What of a profile says whether a device can be brought to another release."""

    driver: str
    acts: dict[str, object] = {}
    without: tuple[str, ...] = ()


def file_of(name: str, folder: Path) -> tuple[str, bytes]:
    """A profile's file and what it holds, by the name of a built-in one, or by a path relative to the estate's
    folder."""
    if name.endswith((".yaml", ".yml")):
        path = folder / name
        try:
            return str(path), path.read_bytes()
        except OSError as error:
            raise WrongUse(f"Profile {path} cannot be read: {error.strerror}.") from None
    builtin = resources.files("gallant.drivers") / "profiles"
    known = sorted(p.name.removesuffix(".yaml") for p in builtin.iterdir() if p.name.endswith(".yaml"))
    if name not in known:
        raise WrongUse(
            f"No profile {name!r}{suggestion(name, known)}.",
            next=f"Built in: {', '.join(known)}; or write the path of a YAML file.",
        )
    return f"{name}.yaml", (builtin / f"{name}.yaml").read_bytes()


@lru_cache(maxsize=64)
def _glance(name: str, folder: Path) -> Glance | None:
    try:
        return msgspec.convert(Document(*file_of(name, folder)).values, Glance)
    except msgspec.ValidationError:
        return None  # what is wrong with it is said where it is used


def can(name: str, folder: Path, act: str) -> bool:
    """Whether a device of this profile can be given an act on its
    releases. Raises `WrongUse` where there is no such profile."""
    said = _glance(name, folder)
    if said is None:
        return True
    return act in said.acts or (said.driver in OWN_ACTS.get(act, ()) and act not in said.without)


def brings_releases(name: str, folder: Path) -> bool:
    """Whether a device of this profile can be brought to another release at all."""
    return can(name, folder, "install") or can(name, folder, "update_all")
