"""Second places for backups: a folder, or a host by SFTP, as the estate names them."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, cast
from urllib.parse import urlsplit

from gallant.core.errors import GallantError
from gallant.core.estate.systems import CopyPlace, Node
from gallant.core.records import clean
from gallant.operations.ground.secrets import resolve
from gallant.operations.ground.workplace import Workplace
from gallant.vault.backups import FolderPlace, SecondPlace
from gallant.vault.digests import archive_digest

if TYPE_CHECKING:
    from asyncssh import SFTPClient

CHUNK = 256 * 1024
PATIENCE_S = 20.0


def second_places(place: Workplace) -> list[SecondPlace]:
    """The second places of the estate; nothing is contacted yet."""
    return [
        FolderPlace(copy.to, place.folder / copy.to) if copy.is_folder else SftpPlace(place, copy)
        for copy in place.estate.backups.copies
    ]


class SftpPlace:
    """A folder on another host, over SSH; its host key is pinned, or in the estate's known_hosts."""

    def __init__(self, place: Workplace, copy: CopyPlace) -> None:
        self.name, self._place, self._copy = copy.to, place, copy
        self._root = PurePosixPath(urlsplit(copy.to).path)

    @contextlib.asynccontextmanager
    async def _client(self) -> AsyncIterator[SFTPClient]:
        from gallant.drivers.ssh import connect
        from gallant.drivers.tools import Credential

        copy, parts = self._copy, urlsplit(self._copy.to)
        assert copy.account is not None  # CopyPlace says so
        secret = resolve(copy.account, self._place.folder, self._place.asker, f"the copies at {parts.hostname}")
        kind = {"key": "key", "agent": "agent"}.get(copy.account.secret.partition(":")[0], "password")
        where = f"ssh://{parts.netloc}"
        node = Node(address=where, serial="", fingerprint=copy.fingerprint)
        credential = Credential(copy.account.user, secret, kind)
        connection = await connect(self.name, node, credential, self._place.folder, PATIENCE_S, None)
        try:
            async with connection.start_sftp_client() as client:
                yield client
        except GallantError:
            raise
        except Exception as error:
            raise GallantError(
                f"{self.name} cannot be written: {clean(str(error) or type(error).__name__, 120)}."
            ) from None
        finally:
            connection.close()

    async def put(self, system: str, source: Path, name: str, digest: str, size: int) -> None:
        folder = self._root / system
        async with self._client() as client:
            if await self._is_there(client, folder / name, digest, size):
                return
            await client.makedirs(str(folder), exist_ok=True)
            for left in await client.listdir(str(folder)):  # by a copy that was cut off
                if str(left).startswith(".") and str(left).endswith(".part"):
                    await client.remove(str(folder / str(left)))
            partial = folder / f".{name}.part"
            async with client.open(str(partial), "wb") as into:
                with source.open("rb") as file:
                    while piece := file.read(CHUNK):
                        await into.write(piece)
                with contextlib.suppress(Exception):  # an extension that not every server knows
                    await into.fsync()
            if not await self._is_there(client, partial, digest, size):
                raise GallantError(f"{self.name}: {name} does not read back as it was written.")
            await client.posix_rename(str(partial), str(folder / name))

    async def check(self, system: str, name: str, digest: str, size: int) -> str | None:
        try:
            async with self._client() as client:
                well = await self._is_there(client, self._root / system / name, digest, size)
        except GallantError as error:
            return error.what.rstrip(".")
        return None if well else "its bytes are not those that were written, or it is not there"

    async def remove(self, system: str, name: str) -> None:
        with contextlib.suppress(GallantError):
            async with self._client() as client:
                await client.remove(str(self._root / system / name))

    async def _is_there(self, client: SFTPClient, path: PurePosixPath, digest: str, size: int) -> bool:
        """Whether the whole file is there: every byte of it is read again, over the network."""
        found, seen = archive_digest(), 0
        try:
            async with client.open(str(path), "rb") as file:
                while piece := cast(bytes, await file.read(CHUNK)):  # it is opened for bytes
                    found.update(piece)
                    seen += len(piece)
        except (OSError, ValueError) as error:
            raise GallantError(f"{self.name} cannot be read: {clean(str(error), 100)}.") from None
        except Exception:  # no such file
            return False
        return (found.hexdigest(), seen) == (digest, size)
