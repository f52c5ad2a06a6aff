"""Telling people what became of a roll: by a command of their own, a
webhook or mail. A message that cannot be sent changes nothing."""

from __future__ import annotations

import asyncio
import os
import smtplib
import ssl
from collections.abc import Awaitable, Callable
from email.message import EmailMessage
from functools import partial
from pathlib import Path

import msgspec

from gallant.core.errors import GallantError
from gallant.core.estate.places import host_and_port
from gallant.core.estate.told import NotifyPlace
from gallant.core.records import Record, clean, rfc3339
from gallant.drivers.commands import run_command
from gallant.operations.ground.secrets import resolve
from gallant.operations.ground.workplace import Workplace

PATIENCE_S = 15.0


class Message(Record):
    """What somebody is told: `state` is held, stopped, finished, late or test; `next` the next command."""

    schema: str = "gallant.message/1"
    estate: str
    roll: str
    systems: tuple[str, ...]
    state: str
    at: str
    text: str
    next: str
    simulated: bool = False

    @property
    def subject(self) -> str:
        """One line: estate, roll, what became of it."""
        return clean(f"{self.estate}: {self.roll} {self.state}: {', '.join(self.systems)}", 120)

    @property
    def body(self) -> str:
        """The whole text, with what to do next."""
        also = "\nIts time is simulated." if self.simulated else ""
        return f"{self.text}\n\nnext  {self.next}\n{also}"


class Told(Record):
    """Who was told, or why not."""

    place: str
    error: str | None = None


def message_of(place: Workplace, roll: str, systems: tuple[str, ...], state: str, text: str, next: str) -> Message:
    """What people are told of a roll."""
    return Message(
        estate=place.estate.name,
        roll=roll,
        systems=systems,
        state=state,
        at=rfc3339(place.clock.now()),
        text=text,
        next=next,
        simulated=place.estate.simulation is not None,
    )


async def notify(place: Workplace, message: Message) -> list[Told]:
    """Tell everybody who wants to know of this state, side by side; everybody at all of a test."""
    wanted = [one for one in place.estate.notify if message.state in (*one.when, "test")]
    return list(await asyncio.gather(*(_one(place, each, message) for each in wanted)))


async def _one(place: Workplace, to: NotifyPlace, message: Message) -> Told:
    way: Way = partial(_run, folder=place.folder) if to.run is not None else _post if to.webhook is not None else _mail
    try:
        async with asyncio.timeout(PATIENCE_S):
            await _sent(way, place, to, message)
    except TimeoutError:
        return Told(place=to.name, error=f"no answer within {PATIENCE_S:g} s")
    except GallantError as error:
        return Told(place=to.name, error=clean(error.what, 200))
    except (OSError, ValueError, smtplib.SMTPException) as error:
        return Told(place=to.name, error=_reason(error))
    return Told(place=to.name)


Way = Callable[[NotifyPlace, Message, str], Awaitable[None]]


async def _sent(way: Way, place: Workplace, to: NotifyPlace, message: Message) -> None:
    secret = resolve(to.account, place.folder, None, to.name) if to.account is not None else ""
    await way(to, message, secret)


def _reason(error: Exception) -> str:
    """Why it failed, without what the other side says at length: that may repeat what it was sent."""
    if isinstance(error, smtplib.SMTPResponseException):
        return f"the mail server answers {error.smtp_code}"
    if isinstance(error, smtplib.SMTPException):
        return f"the mail server and Gallant do not get on ({type(error).__name__})"
    if isinstance(error, OSError) and error.errno:
        return os.strerror(error.errno).lower()
    return clean(str(error), 200) or type(error).__name__


async def _run(to: NotifyPlace, message: Message, secret: str, folder: Path) -> None:
    """The message as JSON on the command's input; no word of it on the command line."""
    if code := await run_command(to.command, folder, msgspec.json.encode(message) + b"\n"):
        raise ValueError(f"it ended with {code}")


async def _post(to: NotifyPlace, message: Message, secret: str) -> None:
    import aiohttp

    head = {"Content-Type": "application/json"} | ({"Authorization": f"Bearer {secret}"} if secret else {})
    try:
        async with (
            aiohttp.ClientSession() as session,
            session.post(
                to.webhook or "", data=msgspec.json.encode(message), headers=head, allow_redirects=False
            ) as answer,
        ):
            if answer.status >= 300:
                raise ValueError(f"it answers {answer.status}")
    except aiohttp.ClientConnectorCertificateError:
        raise ValueError("its certificate is not known here") from None
    except aiohttp.ClientError as error:
        raise (error if isinstance(error, OSError) else ValueError(type(error).__name__)) from None


async def _mail(to: NotifyPlace, message: Message, secret: str) -> None:
    await asyncio.to_thread(_mail_now, to, message, secret)


def _mail_now(to: NotifyPlace, message: Message, secret: str) -> None:
    assert to.mail is not None
    host, port = host_and_port(to.mail.server)
    letter = EmailMessage()
    letter["From"], letter["To"], letter["Subject"] = to.mail.sender, ", ".join(to.mail.to), message.subject
    letter.set_content(message.body)
    context = ssl.create_default_context()
    opened = (
        smtplib.SMTP_SSL(host, port, timeout=PATIENCE_S / 2, context=context)
        if to.mail.tls == "whole"
        else smtplib.SMTP(host, port, timeout=PATIENCE_S / 2)
    )
    with opened as server:
        if to.mail.tls == "starttls":
            server.starttls(context=context)
        if to.account is not None:
            server.login(to.account.user, secret)
        server.send_message(letter)


async def try_all(place: Workplace) -> list[Told]:
    """A test message to everybody under `notify:`."""
    text = "A test message: nothing happened. This address is told of rolls."
    return await notify(place, message_of(place, "no roll", (), "test", text, "nothing"))
