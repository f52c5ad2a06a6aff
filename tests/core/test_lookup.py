"""A message is looked up by its words: whatever numbers and names it has, and only where something is like it."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from gallant.core.assess.lookup import Known, find, words_of

KNOWN = (
    Known(source="known issue", about="ostrel/shoal 3.2.4", text="the replica never gets whole when port 7 flaps"),
    Known(source="recall", about="sundholm/berth 31.2.1", text="guests may stop when their host takes on a third"),
    Known(source="note", about="tickets", text="ring the box office before b restarts", helped="anna"),
    Known(
        source="roll",
        about="roll-0003",
        text="tickets/b did not come back from its restart",
        helped="anna switched it on by hand",
    ),
)


def test_the_best_match_comes_first_whatever_the_numbers_and_names_are():
    [first, *_] = find("replica on slipway/a port 19 never gets whole (code 0x7f)", KNOWN, ["slipway", "slipway/a"])
    assert first.known.about == "ostrel/shoal 3.2.4"
    [stop, *_] = find("gates/a did not come back from its restart after 12 min", KNOWN, ["gates", "gates/a", "tickets"])
    assert (stop.known.about, stop.known.helped) == ("roll-0003", "anna switched it on by hand")


def test_nothing_is_like_what_nobody_ever_said():
    assert find("certificate chain depth exceeded", KNOWN) == []
    assert find("17 0x2f 99", KNOWN) == []
    assert find("anything", []) == []


@given(st.text(max_size=60), st.integers(0, 10**9))
def test_numbers_and_names_make_no_difference(text, number):
    assert words_of(f"{text} {number}") == words_of(text)
    assert words_of("tickets failed", ["tickets"]) == ["failed"]


@given(st.sampled_from(KNOWN))
def test_what_is_known_is_found_by_its_own_words_and_likeness_is_a_share(one):
    found = find(f"{one.text} {one.helped}", KNOWN)
    assert found[0].known == one
    assert all(0 <= match.likeness <= 1 + 1e-9 for match in found)
