"""What a device writes around its versions is left off, wherever it says one."""

from __future__ import annotations

import asyncio

import pytest

from gallant.core.documents import Invalid
from gallant.drivers.profile_reading import parse_profile

from .test_errors import PROFILE
from .test_hostile import web_device

TRIMMED = PROFILE.replace(
    "errors:",
    """trim: {version: "^FW-(.+)$", component: "^rev ([0-9.]+)", serial: "no[.] ?(.+)"}
errors:""",
).replace("version: v, boot: b}", "version: v, next_version: n, boot: b, offers: o, build: c}")
ANSWERS = {
    "/login": {"t": "token"},
    "/about": {"s": "no. S1", "v": "FW-4.2.1", "n": "FW-4.3", "b": "1", "o": ["FW-4.3", "5.0"], "c": "FW-9"},
    "/parts": {"parts": [{"n": "disk-1", "v": "rev 3.1 (2026)"}, {"n": "disk-2", "v": "odd"}]},
}


def test_every_version_comes_without_what_stands_around_it():
    async def go():
        async with web_device(ANSWERS, profile=TRIMMED) as (device, _):
            device.expects_serial = False
            return await device.read("n")

    found = asyncio.run(go())
    assert (found.serial, found.version, found.next_version, found.build) == ("S1", "4.2.1", "4.3", "FW-9")
    assert found.offers == ("4.3", "5.0")  # what does not match stays as it is
    assert {c.name: c.version for c in found.components} == {"image": "4.2.1", "disk-1": "3.1", "disk-2": "odd"}


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ('trim: {versoin: "a(.)"}', "did you mean version?"),
        ('trim: {version: "FW-"}', "a pattern with one group"),
        ('trim: {version: "(a)(b)"}', "a pattern with one group"),
        ('trim: {version: "("}', "no pattern"),
    ],
)
def test_a_trim_that_could_not_work_is_a_problem_of_the_profile(line, said):
    with pytest.raises(Invalid, match=said.replace("?", r"\?")):
        parse_profile("p", PROFILE.replace("errors:", f"{line}\nerrors:"))
