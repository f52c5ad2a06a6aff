"""Trying a profile: one node, read and nothing else, with every call shown as it was made."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from urllib.parse import urlsplit

from gallant.core.errors import GallantError, WrongUse
from gallant.core.estate.systems import Account, Estate, Node, Site, System
from gallant.core.readings import Reading
from gallant.core.records import Record
from gallant.drivers.base import Credential, Told, Tools
from gallant.drivers.profile import load_profile
from gallant.operations.clock import EstateClock
from gallant.operations.secrets import Asker, resolve

UNKNOWN_SERIAL = "not known yet"


class Call(Record):
    """One call: what was asked, what was answered, which fields were taken from it. Secrets are masked."""

    asked: str
    answered: str
    fields: dict[str, object]


class Tried(Record):
    """What came of it: the calls in their order, and the reading or why there is none."""

    profile: str
    capabilities: tuple[str, ...]
    calls: tuple[Call, ...]
    reading: Reading | None
    problem: str | None = None
    next: str | None = None
    exit_code: int = 0


async def try_profile(
    profile: Path,
    address: str,
    user: str,
    secret: str,
    *,
    fingerprint: str | None = None,
    ca: str | None = None,
    asker: Asker | None = None,
    learn: Callable[[str, str, str], bool] | None = None,
    hands: Callable[[str], str | None] | None = None,
) -> Tried:
    """Read one node by a profile that is being written; `secret` is a reference, as accounts have it.

    Raises `WrongUse` for a profile or an address that is wrong in itself.
    """
    from importlib import import_module

    from gallant.operations.workplace import DRIVER_CLASSES, SPEAK_HTTP

    folder = Path.cwd()
    name = str(profile) if profile.suffix in (".yaml", ".yml") else profile.name
    taught = load_profile(name, folder)
    try:
        node = Node(address=address, serial=UNKNOWN_SERIAL, fingerprint=fingerprint, ca=ca)
        account = Account(user=user, secret=secret)
    except ValueError as error:
        raise WrongUse(f"{error}.", next="gallant survey --help") from None
    system = System(
        name="trial",
        product=taught.product,
        shape="single",
        site="here",
        driver=taught.driver,
        profile=name,
        nodes={"n": node},
    )
    estate = Estate(gallant="estate/1", name="trial", sites={"here": Site()}, systems={"trial": system})
    told: list[Told] = []
    kind = {"key": "key", "agent": "agent"}.get(secret.partition(":")[0], "password")

    def credential(purpose: str) -> Credential:
        return Credential(user, resolve(account, folder, asker, f"{urlsplit(address).hostname}"), kind)

    session = None
    if taught.driver in SPEAK_HTTP:
        from gallant.drivers.http import new_session

        session = new_session()
    tools = Tools(
        credentials=credential, clock=EstateClock(estate), folder=folder, session=session, told=told.append,
        learn_key=learn, hands=hands, one_by_one=True,
    )  # fmt: skip
    module, cls = DRIVER_CLASSES[taught.driver]
    driver = getattr(import_module(module), cls)(system, taught, tools)
    driver.expects_serial = False
    reading, problem, todo, code = None, None, None, 0
    try:
        reading = await driver.read("n")
    except GallantError as error:
        problem, todo, code = " ".join(p for p in (error.what, error.why) if p), error.next, error.exit_code
    finally:
        await driver.close()
        if session is not None:
            await session.close()
    return Tried(
        profile=taught.name,
        capabilities=tuple(sorted(driver.capabilities())),
        calls=tuple(Call(asked=t.call, answered=t.answer, fields=t.fields) for t in told),
        reading=reading,
        problem=problem,
        next=todo,
        exit_code=3 if code == 4 else code,
    )
