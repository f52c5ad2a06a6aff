"""Pages and Markdown: what a device says is text in them, however long it is and whatever it is made of."""

from __future__ import annotations

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st
from markupsafe import Markup

from gallant.views.ground.page import LONGEST_MESSAGE, _plain, code, marked

STEERS = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069\u200b]")


@pytest.mark.parametrize("length", [10, LONGEST_MESSAGE, LONGEST_MESSAGE + 1, 50_000])
def test_however_long_a_text_is_nothing_in_it_steers_and_it_ends(length):
    for shown in (_plain("a\u202e\x1b[31m" * length), marked("a\u202e\x1b[31m" * length)):
        assert STEERS.search(shown) is None
        assert len(shown.replace("\\", "")) <= LONGEST_MESSAGE
    figure = Markup("A" * length)  # our own
    assert _plain(figure) is figure


@given(st.text(st.sampled_from("`a b"), max_size=12))
def test_a_code_span_is_one_whatever_is_in_it(text):
    """By the rule of CommonMark: a run of backquotes is ended by the next run of the same length, and by none
    before."""
    span = marked(code(text))
    fence = re.match("`+", span)[0]
    inside = span[len(fence) : -len(fence)]
    assert span.endswith(fence)
    assert fence not in re.findall("`+", inside)
    assert inside.strip() == text.strip() or inside == text


@pytest.mark.parametrize("text", ["```", "~~~ sh", "# head", "| a | b |", "*x*", "[a](b)", "<b>", "~~gone~~"])
def test_no_sign_of_a_text_means_anything(text):
    shown = marked(text)
    assert re.sub(r"\\(.)", r"\1", shown) == text
    assert re.search(r"(?<!\\)[`*_\[\]<>|#~]", shown) is None
