"""Logging in to a node, and out again: sessions that every request carries."""

from __future__ import annotations

import asyncio
import base64
import contextlib
import re
from collections.abc import Mapping
from functools import lru_cache
from typing import NamedTuple

from multidict import CIMultiDictProxy

from gallant.core.errors import GallantError
from gallant.core.ports import AnswerLost, DeviceRefused, LoginRefused, NotReached
from gallant.drivers.base import READ_TRIES, RETRY_PAUSE_S
from gallant.drivers.calls import Get
from gallant.drivers.http.wire import HttpWire
from gallant.drivers.profile import fill
from gallant.drivers.tools import Asked


@lru_cache(maxsize=4096)
def getting(path: str) -> Get:
    """A call for a path as a device said it; braces in it are its own."""
    return Get(get=path.replace("{", "%7B"))


class Whole(NamedTuple):
    """An answer with all of its bytes."""

    status: int
    raw: bytes
    headers: CIMultiDictProxy[str]
    cookies: Mapping[str, str] = {}


def basic(user: str, secret: str) -> dict[str, str]:
    """The header of basic authentication (RFC 7617)."""
    return {"Authorization": f"Basic {base64.b64encode(f'{user}:{secret}'.encode()).decode()}"}


# A header's value (RFC 9110, 5.5), without what any server in between might take for the end of it.
_HEADER = re.compile(r"[\x21-\x7e]([\x20-\x7e]*[\x21-\x7e])?")


class HttpLogin(HttpWire):
    """Keeps a session with each node, and lets none be left behind."""

    async def _prepare(self, node: str, purpose: str) -> None:
        await self._carried(node, purpose)

    @property
    def _renew_on(self) -> tuple[int, ...]:
        login = self.profile.login
        return login.renew_on if login is not None and login.by == "session" else ()

    async def _carried(self, node: str, purpose: str) -> dict[str, str]:
        """The headers that carry a purpose's session, logging in when there is none."""
        key = (node, purpose)
        if (carried := self._sessions.get(key)) is not None:
            return carried
        if self.profile.login is not None and self.profile.login.by == "nothing":
            return {}
        async with self._locks.setdefault(key, asyncio.Lock()):
            if key not in self._sessions:
                self._sessions[key] = await self.logged_in(node, purpose, lambda: self._log_in(node, purpose))
            return self._sessions[key]

    async def _log_in(self, node: str, purpose: str) -> dict[str, str]:
        """The headers of a new session, as the profile says how one is got and carried."""
        login = self.profile.login
        assert login is not None
        user, secret, _ = self.credential(purpose)
        if login.by == "basic":
            return await self._tried(node, purpose, user, basic(user, secret), self._first_path)
        if login.by == "header":
            said = {str(login.header): fill(login.carries, {"user": user, "secret": secret})}
            return await self._tried(node, purpose, user, said, self._first_path)
        assert login.call is not None  # a session has one
        whole = await self._said_hello(node, Asked(login.call, {"user": user, "secret": secret}))
        self._let_in(node, purpose, user, whole)
        if login.cookies:
            if not whole.cookies:
                raise self._no_session(node)
            self._secrets.update(whole.cookies.values())
            return {"Cookie": "; ".join(f"{name}={value}" for name, value in whole.cookies.items())}
        assert login.header is not None
        parsed = self._parsed(node, login.call, whole.raw)
        told = parsed if isinstance(parsed, dict) else {}
        token = self._taken(node, login.call, {**told, "headers": dict(whole.headers)}).get("token")
        if not isinstance(token, str) or not token:
            raise self._no_session(node)
        self._secrets.add(token)
        if not _HEADER.fullmatch(token):
            raise DeviceRefused(
                f"{self.name_of(node)} gives a session that no request can carry: its token is not plain text.",
                next=f"Look at login: in the profile {self.profile.name}.",
                meaning="fatal",
            )
        return {login.header: fill(login.carries, {"token": token})}

    @property
    def _first_path(self) -> str | None:
        """The path of the profile's first read that needs nothing of an earlier one."""
        calls = (call for calls in self.profile.reads.values() for call in calls)
        return next((call.said for call in calls if call.verb == "get" and "{" not in call.said), None)

    async def _tried(
        self, node: str, purpose: str, user: str, carried: dict[str, str], path: str | None
    ) -> dict[str, str]:
        """The headers that let us in with every request, once one request alone has shown that they do: side by side
        each would be a failed login, and a few of those lock an account. Raises `LoginRefused`."""
        self._secrets.update(word for value in carried.values() for word in (value, value.rpartition(" ")[2]))
        for value in carried.values():
            if not _HEADER.fullmatch(value):
                raise LoginRefused(
                    f"{self.name_of(node)}: the secret of {user} cannot stand in a header.",
                    next=f"Look at the secret that the account {purpose!r} names.",
                )
        if path is not None:
            async with await self._request(node, Asked(getting(path), {}, purpose), carried) as response:
                raw = await self._bounded(node, response)
            if response.status == 401:
                self._let_in(node, purpose, user, Whole(response.status, raw, response.headers))
        return carried

    async def _said_hello(self, node: str, asked: Asked) -> Whole:
        """The answer to a login. It changes nothing, so it is safe to repeat;
        that one was lost says nothing about the act that comes after it."""
        for attempt in range(READ_TRIES):
            try:
                async with await self._request(node, asked, {}) as response:
                    raw = await self._bounded(node, response)
                    cookies = {name: morsel.value for name, morsel in response.cookies.items()}
                    return Whole(response.status, raw, response.headers, cookies)
            except (NotReached, AnswerLost) as error:
                if attempt == READ_TRIES - 1 or isinstance(error, NotReached):
                    raise NotReached(error.what, error.why, error.next, late=error.late, cause=error.cause) from None
                await self.clock.pause(RETRY_PAUSE_S * 2**attempt)
        raise AssertionError("unreachable")

    def _let_in(self, node: str, purpose: str, user: str, whole: Whole) -> None:
        """Raises what a refused login means."""
        if whole.status < 300 and self.profile.complains(whole.status, whole.raw.decode("utf-8", "replace")):
            raise self._not_let_in(node, purpose, user, whole)
        if whole.status >= 500:
            raise NotReached(
                f"{self.name_of(node)} is not ready to log in (status {whole.status}).",
                next=f"gallant survey {self.system.name}",
            )
        if whole.status >= 300:
            raise self._not_let_in(node, purpose, user, whole)

    def _not_let_in(self, node: str, purpose: str, user: str, whole: Whole) -> LoginRefused:
        return LoginRefused(
            f"{self.name_of(node)} refuses the login of {user} (account {purpose!r}): "
            f"{self.said(self._readable(whole.raw), 200) or whole.status}.",
            next=(
                f"Look at accounts in estate.yaml and at the secret they name, then: gallant survey {self.system.name}"
            ),
            counted=True,
        )

    def _no_session(self, node: str) -> LoginRefused:
        return LoginRefused(
            f"{self.name_of(node)} took the login and gave no session.",
            next=f"gallant validate the profile {self.profile.name}",
        )

    async def done(self, node: str) -> None:
        """Log out and hang up; an estate of thousands holds no connection to those that were read."""
        mine = [key for key in self._sessions if key[0] == node]
        await self.side_by_side([self._log_out(*key, self._sessions.pop(key)) for key in mine])

    async def close(self) -> None:
        await super().close()
        await asyncio.gather(*(self.done(node) for node in {node for node, _ in self._sessions}))

    async def _log_out(self, node: str, purpose: str, carried: dict[str, str]) -> None:
        """End a session where the profile knows how. A device that is gone keeps us from nothing."""
        call = self.profile.login.logout if self.profile.login is not None else None
        if call is not None:
            with contextlib.suppress(GallantError, TimeoutError):
                await self._hang_up(node, Asked(call), carried)

    async def _hang_up(self, node: str, asked: Asked, carried: dict[str, str]) -> None:
        """One last call, and the end of its connection, whatever the device makes of the header."""
        async with asyncio.timeout(2), await self._request(node, asked, {**carried, "Connection": "close"}) as response:
            response.close()
