"""Trying a profile: one node, read and nothing else, with every call shown as it was made."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from contextlib import AsyncExitStack
from pathlib import Path
from urllib.parse import urlsplit

from gallant.core.errors import GallantError, WrongUse
from gallant.core.estate.accounts import Account
from gallant.core.estate.systems import Estate, Node, Site, System
from gallant.core.readings import IMAGE, UNKNOWN, Reading
from gallant.core.records import Record
from gallant.core.versions import NotAVersion, parse
from gallant.drivers.base import ProfiledDriver
from gallant.drivers.profile import Profile
from gallant.drivers.profile_reading import load_profile
from gallant.drivers.tools import CallTold, Credential, Tools
from gallant.operations.ground.clock import EstateClock
from gallant.operations.ground.secrets import Asker, resolve

UNKNOWN_SERIAL = "not known yet"


class TrialCall(Record):
    """One call: what was asked, what was answered, which fields were taken from it. Secrets are masked."""

    asked: str
    answered: str
    fields: dict[str, object]


class TrialResult(Record):
    """What came of it: the calls in their order, and the reading or why
    there is none; `warnings` say what of it is of no use as it is."""

    profile: str
    capabilities: tuple[str, ...]
    calls: tuple[TrialCall, ...]
    reading: Reading | None
    problem: str | None = None
    next: str | None = None
    exit_code: int = 0
    warnings: tuple[str, ...] = ()


class Trial(Record):
    """One machine and the profile it is read by; `secret` is a reference, as accounts have it."""

    profile: Path
    address: str
    user: str
    secret: str
    fingerprint: str | None = None
    ca: str | None = None


async def try_profile(
    trial: Trial,
    asker: Asker | None = None,
    learn: Callable[[str, str, str], bool] | None = None,
    hands: Callable[[str], str | None] | None = None,
) -> TrialResult:
    """Read one node by a profile that is being written.

    Raises `WrongUse` for a profile or an address that is wrong in itself.
    """
    from gallant.operations.ground.workplace import SPEAK_HTTP, driver_of

    folder = Path.cwd()
    taught = load_profile(_name(trial), folder)
    system, account = _system(trial, taught)
    estate = Estate(gallant="estate/1", name="trial", sites={"here": Site()}, systems={"trial": system})
    told: list[CallTold] = []

    def credential(purpose: str) -> Credential:
        typed = {"key": "key", "agent": "agent"}.get(trial.secret.partition(":")[0], "password")
        return Credential(trial.user, resolve(account, folder, asker, f"{urlsplit(trial.address).hostname}"), typed)

    async with AsyncExitStack() as stack:
        session = None
        if taught.driver in SPEAK_HTTP:
            from gallant.drivers.http.driver import new_session

            session = await stack.enter_async_context(new_session())
        tools = Tools(
            credentials=credential, clock=EstateClock(estate), folder=folder, session=session, told=told.append,
            learn_key=learn, hands=hands, one_by_one=True,
        )  # fmt: skip
        driver = driver_of(system, taught, tools)
        stack.push_async_callback(driver.close)
        driver.expects_serial = False
        reading, failed = await _read(driver)
    return TrialResult(
        profile=taught.name,
        capabilities=tuple(sorted(driver.capabilities())),
        calls=tuple(TrialCall(asked=t.call, answered=t.answer, fields=t.fields) for t in told),
        reading=reading,
        problem=" ".join(p for p in (failed.what, failed.why) if p) if failed else None,
        next=failed.next if failed else None,
        exit_code=0 if failed is None else 3 if failed.exit_code == 4 else failed.exit_code,
        warnings=tuple(_warnings(reading, {field for t in told for field in t.fields})) if reading is not None else (),
    )


def _warnings(reading: Reading, taken: Collection[str]) -> Iterator[str]:
    """Versions that no scheme can read in order, and words that are not taken, or that stand in no table."""
    for name, version in (
        ("version", reading.version),
        *((c.name, c.version) for c in reading.components if c.name != IMAGE),
    ):
        if version and not _is_read(version):
            yield (
                f"{name} {version}: only as text can it be compared; take off what stands before its first number"
                " (trim: in the profile)"
            )
    for field in ("state", "role"):
        if getattr(reading, field) != UNKNOWN:
            continue
        if field in taken:
            yield f"{field}: the device's word stands in no table of the profile"
        else:
            yield f"{field} is not taken, so it stays unknown" + (
                ", and no work is begun on a node that is not known to be in service" if field == "state" else ""
            )


def _is_read(version: str) -> bool:
    """Whether some scheme takes its parts for what they are; rpm reads whatever stands there."""
    for scheme in ("dotted", "deb", "semver"):
        try:
            parse(scheme, version)
        except NotAVersion:
            continue
        return True
    return False


def _name(trial: Trial) -> str:
    """A profile's file as it was given, or the name of one that comes with Gallant."""
    return str(trial.profile) if trial.profile.suffix in (".yaml", ".yml") else trial.profile.name


def _system(trial: Trial, taught: Profile) -> tuple[System, Account]:
    try:
        node = Node(address=trial.address, serial=UNKNOWN_SERIAL, fingerprint=trial.fingerprint, ca=trial.ca)
        account = Account(user=trial.user, secret=trial.secret)
    except ValueError as error:
        raise WrongUse(f"{error}.", next="gallant survey --help") from None
    system = System(
        name="trial",
        product=taught.product,
        shape="single",
        site="here",
        driver=taught.driver,
        profile=_name(trial),
        nodes={"n": node},
    )
    return system, account


async def _read(driver: ProfiledDriver) -> tuple[Reading | None, GallantError | None]:
    try:
        return await driver.read("n"), None
    except GallantError as error:
        return None, error
