"""Names in records: replaced in values before they are written, whatever stands around them there."""

from __future__ import annotations

import msgspec
import pytest

from gallant.operations.after.anonymous import Nameless

NAMELESS = Nameless({"tickets": "system-1", "deck": "system-2", "berta": "person-1"})


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("tickets/a", "system-1/a"),
        ("Tickets, TICKETS", "system-1, system-1"),
        ("by\nberta", "by\nperson-1"),  # as JSON writes it, a letter stood before the name
        ("deckhand", "deckhand"),
        ("tickets-deck", "system-1-system-2"),
        ("", ""),
    ],
)
def test_a_name_is_replaced_wherever_it_stands_as_a_word(text, said):
    assert NAMELESS.text(text) == said
    record = {"tickets": [text, {"x": (text, 1, None)}]}
    assert NAMELESS.value(record) == {"system-1": [said, {"x": [said, 1, None]}]}
    assert b"berta" not in msgspec.json.encode(NAMELESS.value({"a": "line\nberta"}))


def test_where_there_are_no_names_nothing_is_replaced():
    assert Nameless({}).text("tickets") == "tickets"
    assert Nameless({}).value({"tickets": 1}) == {"tickets": 1}
