"""Serials that were taken at first sight: what is written is what is read, and the estate's word comes first."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.estate.pins import Pin, parse_pins, pin_line, with_pins, without_serial
from gallant.core.estate.reading import parse_estate

TEXT = """
gallant: estate/1
name: t
sites: {s: {}}
systems:
  pair:
    product: t/box
    shape: pair
    site: s
    driver: redfish
    nodes: {a: {address: "https://127.0.0.1:1"}, b: {address: "https://127.0.0.1:2", serial: B}}
"""
WHEN = "2026-11-25T22:00:00Z"


@given(serial=st.text(min_size=1, max_size=40), by=st.one_of(st.none(), st.just("anna")))
def test_whatever_a_device_says_its_line_is_one_and_is_read_again(serial, by):
    line = pin_line("pair/a", Pin(serial=serial, since=WHEN, by=by))
    assert line.count("\n") == 1
    assert list(parse_pins(line)) == ["pair/a"]
    assert parse_pins(line)["pair/a"].by == by


@pytest.mark.parametrize("line", ["no line", "pair/a\tA\t", "\tA\tnow\t-", "a\tb\tc\td\te"])
def test_a_line_that_is_none_is_named_and_never_left_aside(line):
    with pytest.raises(ValueError, match="line 2 has no node"):
        parse_pins(pin_line("pair/a", Pin(serial="A", since=WHEN)) + line)


def test_a_later_line_counts():
    lines = [pin_line("pair/a", Pin(serial="A", since=WHEN)), "# a person's word\n", "\n"]
    lines.append(pin_line("pair/a", Pin(serial="A", since=WHEN, by="anna")))
    assert parse_pins("".join(lines)) == {"pair/a": Pin(serial="A", since=WHEN, by="anna")}


def test_only_a_node_without_a_serial_is_held_to_its_first_sight():
    estate = parse_estate("e", TEXT)
    assert without_serial(estate)
    held = with_pins(estate, {"pair/a": Pin(serial="A", since=WHEN), "pair/b": Pin(serial="X", since=WHEN)})
    nodes = held.systems["pair"].nodes
    assert (nodes["a"].serial, nodes["a"].held_by) == ("A", "sight")
    assert (nodes["b"].serial, nodes["b"].held_by) == ("B", "file")
    assert not without_serial(held)


def test_a_system_that_names_no_profile_has_the_one_for_its_driver():
    assert parse_estate("e", TEXT).systems["pair"].profile == "redfish"
