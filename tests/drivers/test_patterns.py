"""Patterns that people write, on texts that take them long: nothing
else stands still meanwhile, and no secret is shown for it."""

from __future__ import annotations

import asyncio

import pytest

from gallant.core.estate.services import Read
from gallant.drivers.asking import NOT_RIGHT
from gallant.drivers.patterns import begins, groups_in

from .test_asking import asked

SLOW, ENDLESS = r"(?:a|aa)+$", "a" * 200 + "!"


@pytest.mark.parametrize(("text", "found"), [("220 ready", True), ("not 220", False)])
def test_a_text_begins_with_what_a_pattern_matches(text, found):
    assert asyncio.run(begins(r"2\d\d ", text)) is found


def test_others_go_on_while_a_pattern_is_looked_for_and_it_ends():
    beats = list[float]()

    async def beating():
        loop = asyncio.get_running_loop()
        while True:
            beats.append(loop.time())
            await asyncio.sleep(0.01)

    async def go():
        other = asyncio.create_task(beating())
        with pytest.raises(TimeoutError):
            await begins(SLOW, ENDLESS)
        other.cancel()

    asyncio.run(go())
    assert len(beats) >= 5  # of some twenty: this thread was let go on


def test_a_service_whose_answer_takes_its_pattern_too_long_is_not_well_and_says_why():
    async def go():
        async def answer(reader, writer):
            await reader.readline()
            writer.write(ENDLESS.encode() + b"\n")
            await writer.drain()
            writer.close()

        async with await asyncio.start_server(answer, "127.0.0.1", 0) as server:
            port = server.sockets[0].getsockname()[1]
            return [await asked(port, read=Read(send="hello\n", expect=expect)) for expect in (SLOW, "b", "a")]

    slow, wrong, right = asyncio.run(go())
    assert (slow.ok, slow.why) == (False, "the pattern that is expected takes too long on the answer")
    assert (wrong.ok, wrong.why, right.ok) == (False, NOT_RIGHT, True)


def test_groups_that_lie_in_one_another_are_one():
    assert groups_in(r"key (a(b)c) (d)?", "key abc d, key abc ") == [(4, 7), (8, 9), (15, 18)]
    with pytest.raises(TimeoutError):
        groups_in(r"((?:a|aa)+)$", ENDLESS)
