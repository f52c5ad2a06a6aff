"""SSH connections to nodes: the host key is held against a pin or a file of known hosts, and never believed unseen.

asyncssh takes half a second to import, so it is imported when the first connection is made.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from gallant.core.errors import GallantError, WrongUse
from gallant.core.estate.systems import Node
from gallant.core.ports import AnswerLost, LoginRefused, NotReached
from gallant.core.records import clean
from gallant.disk import appending
from gallant.drivers.base import ProfiledDriver
from gallant.drivers.network import reason
from gallant.drivers.tools import Credential

if TYPE_CHECKING:
    from asyncssh import SSHClientConnection, SSHKey

KNOWN_HOSTS = "known_hosts"
KEEPALIVE_S = 15
Learn = Callable[[str, str, str], bool]


def ssh_port(node: Node, standard: int = 22) -> int:
    return node.port or standard


async def connect(
    name: str,
    node: Node,
    credential: Credential,
    folder: Path,
    timeout_s: float,
    learn: Learn | None,
    standard: int = 22,
) -> SSHClientConnection:
    """An authenticated connection. Raises `NotReached` or
    `LoginRefused`; a key that is not known is shown, and refused."""
    import asyncssh

    host, port = node.host, ssh_port(node, standard)
    known = folder / KNOWN_HOSTS
    shown: list[SSHKey] = []

    class Client(asyncssh.SSHClient):
        def validate_host_public_key(self, host: str, addr: str, port: int, key: SSHKey) -> bool:
            shown.append(key)
            if node.fingerprint is not None:
                return key.get_fingerprint("sha256") == node.fingerprint.rstrip("=")
            return False

    options = _options(name, credential, timeout_s)
    options["known_hosts"] = str(known) if node.fingerprint is None and known.is_file() else b""
    for may_learn in (learn, None):  # a key that a person trusts is kept, and met a second time as a known one
        shown.clear()
        try:
            return await asyncssh.connect(host, port, client_factory=Client, **options)
        except asyncssh.HostKeyNotVerifiable as error:
            if not shown:
                raise NotReached(f"{name} shows no host key that can be used: {clean(str(error), 100)}.") from None
            if not _is_trusted(name, node, shown[-1], may_learn):
                raise _strange_key(name, node, shown[-1].get_fingerprint("sha256"), known) from None
            _keep(known, host, port, shown[-1])
            options["known_hosts"] = str(known)
        except Exception as error:
            raise explained(name, node, error, False, credential.user) from None
    raise AssertionError("unreachable")


def _is_trusted(name: str, node: Node, key: SSHKey, learn: Learn | None) -> bool:
    """Whether a person says that a key is the node's; nobody is asked about one that is not the pinned one."""
    if node.fingerprint is not None or learn is None:
        return False
    return learn(name, key.get_algorithm(), key.get_fingerprint("sha256"))


def _options(name: str, credential: Credential, timeout_s: float) -> dict[str, Any]:
    """Keyword arguments of the library's; nothing of this user's own SSH is asked for."""
    return {
        "config": None,
        "agent_path": None,
        "client_keys": None,
        "keepalive_interval": KEEPALIVE_S,
        "connect_timeout": timeout_s,
        "login_timeout": timeout_s,
        "username": credential.user,
        **_proof(name, credential),
    }


def _proof(name: str, credential: Credential) -> dict[str, Any]:
    """How we prove who we are."""
    import asyncssh

    if credential.kind == "agent":
        path = os.environ.get("SSH_AUTH_SOCK")
        if not path:
            raise WrongUse(
                f"{name}: the account {credential.user} is proven by an SSH agent, and none is running here.",
                next="Start one and add the key, or name another place in estate.yaml.",
            )
        return {"agent_path": path, "preferred_auth": "publickey"}
    if credential.kind == "key":
        try:
            return {"client_keys": [asyncssh.import_private_key(credential.secret)], "preferred_auth": "publickey"}
        except (asyncssh.KeyImportError, ValueError):
            raise WrongUse(
                f"{name}: the key of {credential.user} cannot be used: it is none, or it has a passphrase.",
                next="Add it to an SSH agent and write secret: agent.",
            ) from None
    return {"password": credential.secret, "preferred_auth": "password,keyboard-interactive"}


def _keep(known: Path, host: str, port: int, key: SSHKey) -> None:
    """Add a key that a person has looked at."""
    where = host if port == 22 else f"[{host}]:{port}"
    line = f"{where} {key.export_public_key().decode().strip()}\n"
    with appending(known) as file:
        file.write(line.encode())


def _strange_key(name: str, node: Node, fingerprint: str, known: Path) -> LoginRefused:
    if node.fingerprint is not None:
        why = f"It shows {fingerprint}; the estate pins {node.fingerprint}."
        todo = (
            f"If the machine was set up anew and its console shows the same, write under {name}:  fingerprint:"
            f" {fingerprint}"
        )
    elif known.is_file():
        why = f"It shows {fingerprint}, which is not what {known.name} has for it, or it is not in there."
        todo = f"Compare it with what its console shows; then: gallant survey {name} --learn-keys"
    else:
        why = f"It shows {fingerprint}."
        todo = f"Compare it with what its console shows; then: gallant survey {name} --learn-keys"
    return LoginRefused(f"{name} shows a host key that is not known here; nothing was sent to it.", why, todo)


def explained(name: str, node: Node, error: Exception, sent: bool, user: str = "") -> GallantError:
    """A failure of a connection in our words, and in the class that says what may have happened."""
    import asyncssh

    todo = f"Is {name} up? Then: gallant survey {name}"
    if isinstance(error, GallantError):
        return error
    if isinstance(error, asyncssh.PermissionDenied):
        return LoginRefused(
            f"{name} refuses the login of {user}: {clean(error.reason, 120)}.",
            next=f"Look at accounts in estate.yaml and at the secret they name, then: gallant survey {name}",
            counted=True,
        )
    if sent and isinstance(error, (asyncssh.Error, OSError, asyncio.IncompleteReadError)):
        late = isinstance(error, TimeoutError)
        kind = "it took too long" if late else "the connection was cut"
        return AnswerLost(f"{name} gave no answer: {kind}.", next=f"gallant survey {name}", late=late)
    if isinstance(error, asyncssh.Error):
        return NotReached(f"{name}: there is no SSH connection: {clean(str(error), 120)}.", next=todo)
    if isinstance(error, TimeoutError):
        return NotReached(
            f"{name} cannot be reached at {node.address}: no answer in time.",
            next=todo,
            late=True,
            cause="no connection in time",
        )
    if isinstance(error, OSError):
        why = clean(reason(error), 100)
        return NotReached(f"{name} cannot be reached at {node.address}: {why}.", next=todo, cause=clean(why, 60))
    raise error


class Connections:
    """One connection for each node and purpose, made when it is first needed."""

    def __init__(self, driver: ProfiledDriver, standard: int = 22) -> None:
        """`standard` is the protocol's port, where an address names none."""
        self._driver, self._standard = driver, standard
        self.host_keys: dict[str, str] = {}  # by node, as it last showed one
        self._open: dict[tuple[str, str], SSHClientConnection] = {}
        self._locks: dict[tuple[str, str], asyncio.Lock] = {}

    async def get(self, node: str, purpose: str) -> SSHClientConnection:
        key = (node, purpose)
        async with self._locks.setdefault(key, asyncio.Lock()):
            if key in self._open and not self._open[key].is_closed():
                return self._open[key]
            self._open[key] = await self._driver.logged_in(node, purpose, lambda: self._made(node, purpose))
            return self._open[key]

    async def _made(self, node: str, purpose: str) -> SSHClientConnection:
        driver = self._driver
        made = await connect(
            driver.name_of(node),
            driver.system.nodes[node],
            driver.credential(purpose),
            driver.tools.folder,
            driver.profile.timeout_s,
            driver.tools.learn_key,
            self._standard,
        )
        key = made.get_server_host_key()
        assert key is not None
        self.host_keys[node] = key.get_fingerprint("sha256")
        return made

    def drop(self, node: str) -> None:
        """Forget a node's connections: it may be another machine, or another start of it, that answers next."""
        for key in [k for k in self._open if k[0] == node]:
            self._open.pop(key).abort()

    async def hang_up(self, node: str) -> None:
        """End a node's connections."""
        await self._end([self._open.pop(key) for key in [k for k in self._open if k[0] == node]])

    async def close(self) -> None:
        made, self._open = list(self._open.values()), {}
        await self._end(made)

    async def _end(self, made: Sequence[SSHClientConnection]) -> None:
        for connection in made:
            connection.close()
        for connection in made:
            with contextlib.suppress(Exception):
                async with asyncio.timeout(2):
                    await connection.wait_closed()
