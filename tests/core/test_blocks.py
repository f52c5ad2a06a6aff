"""A system written into a file that people wrote: all of theirs stays, and what comes out says what was meant."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.errors import WrongUse
from gallant.core.estate.blocks import DraftNode, SystemDraft, with_system
from gallant.core.estate.reading import parse_estate

HEAD = "gallant: estate/1\nname: t\nsites: {s: {}}   # where it is\n"
OTHER = """\
systems:   # what there is
    old:                # do not touch
        product: x/y
        shape: single
        site: s
        driver: debian
        nodes:
            a: {address: "ssh://127.0.0.9"}   # its name

# and below that
"""
FORMS = {
    "none": HEAD,
    "no last line end": HEAD.rstrip("\n"),
    "empty": HEAD + "systems:\n",
    "empty with a comment": HEAD + "systems:  # none yet\n# more to come\n",
    "braces": HEAD + "systems: {}\n",
    "null": HEAD + "systems: null\naims: []\n",
    "others": HEAD + OTHER,
    "others, then more": HEAD + OTHER + "aims:\n  - {for: default, aim: newest}\n",
    "windows lines": (HEAD + OTHER).replace("\n", "\r\n"),
    "a block of text last": HEAD + OTHER + "notes:\n  - about: old\n    by: a\n    text: |\n      two\n      lines\n",
    "systems first": OTHER + HEAD,
}
NODE = DraftNode(address="https://127.0.0.7:8443", serial="0042", says="a Q4", fingerprint="sha256:" + "ab" * 32)
DRAFT = SystemDraft(
    name="new-one", product="q/q4", shape="single", site="s", driver="redfish", nodes={"a": NODE}, tags=("prod",)
)


@pytest.mark.parametrize("form", FORMS)
def test_whatever_the_file_looks_like_the_system_is_in_it_then_and_every_line_of_before_too(form):
    text = FORMS[form]
    after = with_system("estate.yaml", text, DRAFT, "added by anna")
    estate = parse_estate("estate.yaml", after)
    node = estate.systems["new-one"].nodes["a"]
    assert (node.address, node.serial, node.fingerprint) == (NODE.address, NODE.serial, NODE.fingerprint)
    assert ("old" in estate.systems) == ("old:" in text)
    kept = after.splitlines()
    for line in text.splitlines():
        if not line.startswith("systems:"):
            assert line in kept
    for comment in (
        "# where it is",
        "# do not touch",
        "# its name",
        "# and below that",
        "# none yet",
        "# more to come",
    ):
        assert (comment in text) == (comment in after)


def test_two_after_one_another_both_stand():
    text = with_system("e", HEAD, DRAFT, "x")
    other = SystemDraft(
        **{
            **{f: getattr(DRAFT, f) for f in DRAFT.__struct_fields__},
            "name": "second",
            "nodes": {"a": DraftNode(address="ssh://127.0.0.8", serial="S", says="")},
            "driver": "debian",
        }
    )
    assert list(parse_estate("e", with_system("e", text, other, "y")).systems) == ["new-one", "second"]


def test_a_name_that_is_taken_is_refused():
    text = with_system("e", HEAD, DRAFT, "x")
    with pytest.raises(WrongUse, match="has a system new-one already"):
        with_system("e", text, DRAFT, "x")


def test_systems_in_braces_are_left_alone():
    text = (
        HEAD
        + 'systems: {old: {product: x/y, shape: single, site: s, driver: debian, nodes: {a: {address: "ssh://127.0.0.9"}}}}\n'
    )
    with pytest.raises(WrongUse, match="stand in braces"):
        with_system("e", text, DRAFT, "x")


@given(serial=st.text(min_size=1, max_size=30), says=st.text(max_size=60), why=st.text(max_size=60))
def test_nothing_that_a_device_says_breaks_the_file_or_adds_to_it(serial, says, why):
    draft = SystemDraft(
        name="new-one", product="q/q4", shape="single", site="s", driver="redfish",
        nodes={"a": DraftNode(address="https://127.0.0.7", serial=serial, says=says)},
    )  # fmt: skip
    estate = parse_estate("e", with_system("e", HEAD + OTHER, draft, why))
    assert list(estate.systems) == ["old", "new-one"]
    assert list(estate.systems["new-one"].nodes) == ["a"]
    assert estate.systems["new-one"].nodes["a"].serial == serial
