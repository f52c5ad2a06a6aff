"""The change sheet: a page by itself that says everything somebody signs for, whatever devices and catalogs wrote."""

from __future__ import annotations

import re

import pytest
from lxml import html

from gallant.operations.ground.workplace import Workplace

from ..pages import problems

NOTE = """- about: tickets
    text: "<script>alert(1)</script> & call the box office"
    by: "anna <b>"
    date: 2026-03-14T00:00:00Z
  - about: ostrel/shoal 2.8.5"""


@pytest.fixture(scope="module")
def sheet(tmp_path_factory):
    from tests.conftest import starting

    for make in starting.__wrapped__(tmp_path_factory.mktemp("sheet")):
        place = make()
        estate = place.folder / "estate.yaml"
        estate.write_text(
            estate.read_text().replace("- about: ostrel/shoal 2.8.5", NOTE, 1)
            + 'approval: {prod: 1}\nwindows:\n  - {for: tickets, days: [daily], from: "00:00", to: "24:00"}\n'
        )
        plan = place.make_ready()
        assert place.run("check", "tickets").code in (0, 1)
        done = place.run("plan", "--show", plan, "--html", "sheet.html")
        assert done.code == 0, done.err
        yield place, plan, (place.folder / "sheet.html").read_text()


def words(text: str) -> str:
    return " ".join(html.fromstring(text).text_content().split())


def test_it_says_what_changes_for_whom_when_and_how_it_is_taken_back(sheet):
    place, plan, text = sheet
    said = words(text)
    for needed in (
        plan,
        "Skerry Line: tickets",
        "2.8.5 → 2.11.3 → 3.2.4",
        "1 more has to approve it",
        "by 0 of 1 that it needs",
        "in nine cases of ten within",
        "4 times",
        "sessions were open when it was last read",
        "may be disturbed",
        "no fresh sealed backup",
        "tickets/b",
        "fall back to 2.11.3, restart, about",
        "install roots 2025.2, about",
        "do not answer for a while",
        "tickets:image was accepted by",
        f"gallant roll {plan}",
    ):
        assert needed in said, needed
    made = Workplace(place.folder).folder / "plans" / f"{plan}.json"
    digests = set(re.findall(r'"sha256": "([0-9a-f]{64})"', made.read_text()))
    assert digests
    assert all(digest in said for digest in digests)


def test_it_stands_by_itself_and_believes_no_word_of_others(sheet):
    _, _, text = sheet
    assert "<script>alert(1)</script> & call the box office" in words(text)
    assert "anna <b>" in words(text)


def test_it_is_valid_and_can_be_read_aloud_found_through_and_seen(sheet):
    _, _, text = sheet
    assert problems(text) == []


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ("</main>", "</section>"),
        (' lang="en"', ""),
        ('alt="', 'title="'),
        ('scope="col"', ""),
        ("<h3>", "<h4>"),
        ('tabindex="0"', ""),
        ("#485f65", "#b7c0ca"),
        ("</main>", "<script>1</script></main>"),
        ("default-src 'none'", "default-src *"),
    ],
)
def test_what_is_wrong_with_a_page_is_seen(sheet, old, new):
    _, _, text = sheet
    assert old in text
    assert problems(text.replace(old, new, 1 if "main" in old else -1)) != []


def test_a_page_that_cannot_be_written_says_so(sheet):
    place, plan, _ = sheet
    assert place.run("plan", "--show", plan, "--html", "nowhere/sheet.html").code == 4
    assert place.run("plan", "--all", "--html", "sheet.html").code == 2


def test_a_node_less_is_longer_in_nine_of_ten_cases_than_in_half(sheet):
    from gallant.operations.plan.making import shown
    from gallant.operations.plan.sheet import sheet_of

    place, plan, _ = sheet
    here = Workplace(place.folder)
    [hit] = sheet_of(here, shown(here, plan)).hits
    assert hit.late_s > 1.2 * hit.lone_s > 0
