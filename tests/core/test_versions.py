"""Versions: the order of each scheme, equality, ranges; against the real comparers where they are installed."""

from __future__ import annotations

import os
import shutil
import subprocess

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gallant.core.versions import SCHEMES, NotARange, NotAVersion, compare, parse, parse_range

ASCENDING = {
    "dotted": [
        ["3.4-dev", "3.4alpha", "3.4 beta", "3.4-rc1", "3.4rc2", "3.4", "3.4b", "3.4d", "3.4.1", "3.5"],
        ["38.1", "38.1b", "38.1k", "38.1-mend2", "38.1-mend10", "38.2"],
        ["21.3", "21.3p4", "21.3p12", "21.4"],
        ["2.8.5", "2.11.2", "2.11.3", "3.2.1", "3.2.4"],
        ["3.2.4", "3.2.4 (4711)", "3.2.4-4712", "3.2.4-mend1", "3.2.4.1"],
        ["20251231", "20260101"],
        ["2026.9.30", "2026.10.1"],
        ["3.2.4(712)", "3.2.4(4712)", "3.2.5(18)"],
    ],
    "deb": [
        ["1.0~rc1", "1.0", "1.0-1", "1.0-1+b1", "1.0-2", "1.0.1", "1:0.9"],
        ["2.0~~", "2.0~", "2.0"],
        ["1.0a", "1.0+", "1.0."],
    ],
    "rpm": [["1.0~rc1", "1.0", "1.0^git1", "1.0.1", "1.1", "1:0.5"], ["1.0a", "1.0.1"], ["1.0-1", "1.0-2", "1.0-10"]],
    "semver": [
        [
            "1.0.0-alpha",
            "1.0.0-alpha.1",
            "1.0.0-alpha.beta",
            "1.0.0-beta",
            "1.0.0-beta.2",
            "1.0.0-beta.11",
            "1.0.0-rc.1",
            "1.0.0",
            "2.0.0",
        ]
    ],
}
EQUAL = [
    ("dotted", "v3.02.4", "3.2.4"),
    ("dotted", "3.2", "3.2.0"),
    ("dotted", "3.2.4 (4711)", "3.2.4-4711"),
    ("dotted", "3.2.4 build 4711", "3.2.4 (build 4711)"),
    ("dotted", "38.1-MEND2", "38.1mend2"),
    ("dotted", "3.4-rc.1", "3.4rc1"),
    ("deb", "1.0", "1.0-0"),
    ("deb", "0:1.0", "1.0"),
    ("rpm", "1.0", "1_0"),
    ("semver", "1.0.0+a", "1.0.0+b"),
]
NONE = [
    ("dotted", ""),
    ("dotted", "latest"),
    ("dotted", "3..4"),
    ("dotted", "3.4; rm"),
    ("dotted", "3.4.٣"),
    ("dotted", "1" * 201),
    ("deb", "a1"),
    ("deb", "1.0 2"),
    ("deb", "1.0-"),
    ("deb", "1.0-1-"),
    ("deb", "1.0:2"),
    ("semver", "1.0"),
    ("semver", "01.0.0"),
    ("semver", "1.0.0-01"),
    ("rpm", "1.0-1-1"),
    ("dotted", "3.4\n5"),
]


@pytest.mark.parametrize(("scheme", "chain"), [(s, c) for s, chains in ASCENDING.items() for c in chains])
def test_the_order_is_the_schemes(scheme, chain):
    for i, a in enumerate(chain):
        for j, b in enumerate(chain):
            assert compare(scheme, a, b) == (i > j) - (i < j), (a, b)


@pytest.mark.parametrize(("scheme", "a", "b"), EQUAL)
def test_two_texts_of_one_version_are_equal_and_hash_alike(scheme, a, b):
    assert compare(scheme, a, b) == 0
    assert hash(parse(scheme, a)) == hash(parse(scheme, b))
    assert str(parse(scheme, a)) == a


@pytest.mark.parametrize(("scheme", "text"), NONE)
def test_what_is_no_version_says_so_with_the_scheme(scheme, text):
    with pytest.raises(NotAVersion, match=scheme):
        parse(scheme, text)


def test_versions_of_two_schemes_do_not_compare():
    assert parse("deb", "1.0") != parse("rpm", "1.0")
    with pytest.raises(TypeError):
        assert parse("deb", "1.0") < parse("rpm", "1.0")


texts = {
    "dotted": st.from_regex(
        r"v?[0-9]{1,3}(\.[0-9]{1,3}){0,3}([a-z]|-mend[0-9]{1,2}|p[0-9]{1,2}|-?rc[0-9]|beta)?( \([0-9]{1,4}\)|-[0-9]{1,4})?",
        fullmatch=True,
    ),
    "deb": st.from_regex(r"([0-9]:)?[0-9][0-9a-z.+~]{0,6}(-[0-9a-z.+~]{1,4})?", fullmatch=True),
    "rpm": st.from_regex(r"([0-9]:)?[0-9a-z][0-9a-z._+~^]{0,6}(-[0-9a-z.~^]{1,4})?", fullmatch=True),
    "semver": st.from_regex(r"[0-9]\.[0-9]\.[1-9][0-9]?(-[a-z1-9][a-z]{0,3}(\.[1-9])?)?", fullmatch=True),
}


@pytest.mark.parametrize("scheme", SCHEMES)
@settings(max_examples=150)
@given(data=st.data())
def test_every_scheme_is_a_total_order(scheme, data):
    a, b, c = (data.draw(texts[scheme]).strip() for _ in range(3))
    assert compare(scheme, a, b) == -compare(scheme, b, a)
    assert compare(scheme, a, a) == 0
    if compare(scheme, a, b) <= 0 and compare(scheme, b, c) <= 0:
        assert compare(scheme, a, c) <= 0


@pytest.mark.parametrize("scheme", SCHEMES)
@settings(max_examples=300)
@given(text=st.text(max_size=40))
def test_any_text_at_all_is_a_version_or_a_clear_refusal(scheme, text):
    try:
        version = parse(scheme, text)
    except NotAVersion:
        return
    assert version == parse(scheme, str(version))


def needs(program: str):
    """Skip where the program is missing; in CI, which allows no skip, let the test fail instead."""
    return pytest.mark.skipif(
        shutil.which(program) is None and "GALLANT_NO_SKIP" not in os.environ, reason=f"{program} is not installed"
    )


@needs("dpkg")
@settings(max_examples=150, deadline=None)
@given(a=texts["deb"], b=texts["deb"])
def test_the_order_of_deb_is_that_of_dpkg(a, b):
    mine = compare("deb", a, b)
    for word, holds in (("lt", mine < 0), ("eq", mine == 0), ("gt", mine > 0)):
        said = subprocess.run(["dpkg", "--compare-versions", a, word, b], check=False, capture_output=True).returncode
        assert (said == 0) == holds, (a, word, b)


@needs("rpm")
def test_the_order_of_rpm_is_that_of_rpm():
    import random

    chance = random.Random(7)
    alphabet = "0123456789ab.~^_"
    pairs = [
        tuple("1" + "".join(chance.choices(alphabet, k=chance.randrange(0, 6))) for _ in range(2)) for _ in range(400)
    ]
    script = "".join(f'print(rpm.vercmp("{a}", "{b}") .. " ")' for a, b in pairs)
    done = subprocess.run(["rpm", "--eval", "%{lua:" + script + "}"], capture_output=True, text=True, check=True)
    assert [compare("rpm", a, b) for a, b in pairs] == [int(line) for line in done.stdout.split()]


INSIDE = [
    ("vers:dotted/>=2.11.3|<3.2.4", ["2.11.3", "3.2.1"], ["2.11.2", "3.2.4"]),
    ("vers:deb/>=1.2|<2.0|!=1.5", ["1.2", "1.9", "2.0~rc1"], ["1.5", "2.0", "1.1"]),
    ("vers:semver/*", ["0.0.1", "9.9.9"], []),
    ("vers:dotted/3.2.4", ["3.2.4", "v3.2.4"], ["3.2.5"]),
    ("vers:dotted/!=3.2.4", ["3.2.5"], ["3.2.4"]),
    ("vers:dotted/<2.0|>=3.0|<4.0|>5.0", ["1.0", "3.5", "6.0"], ["2.5", "4.5", "5.0"]),
    ("vers:rpm/>1.0|<=2.0", ["1.1", "2.0"], ["1.0", "2.1"]),
    ("vers:semver/<2.0.0", ["2.0.0-rc.1"], ["2.0.0"]),
    ("vers:deb/<1%3A2.0", ["1.0"], ["1:2.0"]),
]


@pytest.mark.parametrize(("text", "within", "without"), INSIDE)
def test_a_range_holds_what_its_notation_says(text, within, without):
    found = parse_range(text)
    assert all(parse(found.scheme, v) in found for v in within)
    assert not any(parse(found.scheme, v) in found for v in without)
    assert parse_range(str(found).replace(":2.0", "%3A2.0") if "deb" in text and "%" in text else str(found)) == found


@pytest.mark.parametrize(
    "text", ["dotted/>1", "vers:dotted", "vers:other/>1", "vers:dotted/>1|", "vers:dotted/>1|<1", "vers:dotted/>=x"]
)
def test_what_is_no_range_is_refused(text):
    with pytest.raises((NotARange, NotAVersion)):
        parse_range(text)


def test_a_range_of_another_scheme_holds_nothing():
    assert parse("deb", "2.0") not in parse_range("vers:rpm/>1.0")
