"""The change sheet: a page by itself that says everything somebody signs for, whatever devices and catalogs wrote."""

from __future__ import annotations

import re

import pytest
from lxml import html

from gallant.operations.workplace import Workplace

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
        "fall back to the running slot",
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
    page = html.fromstring(text)
    assert not page.xpath("//script | //link | //iframe | //*[@onclick]")
    assert all(src.startswith("data:image/png;base64,") for src in page.xpath("//@src"))
    assert "<script>alert(1)</script> & call the box office" in words(text)
    assert "anna <b>" in words(text)


def test_it_can_be_read_aloud_and_found_through(sheet):
    _, _, text = sheet
    page = html.fromstring(text)
    assert page.get("lang") == "en"
    assert len(page.xpath("//h1")) == 1
    assert all(image.get("alt") for image in page.xpath("//img"))
    assert all(table.xpath("./caption") for table in page.xpath("//table"))
    assert all(cell.get("scope") in ("col", "row") for cell in page.xpath("//th"))
    ids = page.xpath("//@id")
    assert len(ids) == len(set(ids))
    assert set(page.xpath("//@aria-labelledby")) <= set(ids)


def _luminance(colour: str) -> float:
    """WCAG 2.2, "relative luminance"."""
    parts = [int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
    linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def test_every_text_stands_out_from_its_paper_by_day_by_night_and_on_paper(sheet):
    _, _, text = sheet
    blocks = re.findall(r":root \{([^}]*)\}", text)
    assert len(blocks) == 3
    for block in blocks:
        colours = dict(re.findall(r"--(\w+): (#[0-9a-f]{3,6})", block))
        full = {n: c if len(c) == 7 else "#" + "".join(2 * x for x in c[1:]) for n, c in colours.items()}
        paper = _luminance(full["paper"])
        for name in ("ink", "soft", "bad", "work", "good"):
            light, dark = sorted((paper, _luminance(full[name])), reverse=True)
            assert (light + 0.05) / (dark + 0.05) >= 4.5, (name, full[name])


def test_a_page_that_cannot_be_written_says_so(sheet):
    place, plan, _ = sheet
    assert place.run("plan", "--show", plan, "--html", "nowhere/sheet.html").code == 4
    assert place.run("plan", "--all", "--html", "sheet.html").code == 2


def test_a_node_less_is_longer_in_nine_of_ten_cases_than_in_half(sheet):
    from gallant.operations.plan import shown
    from gallant.operations.sheet import sheet_of

    place, plan, _ = sheet
    here = Workplace(place.folder)
    [hit] = sheet_of(here, shown(here, plan)).hits
    assert hit.late_s > 1.2 * hit.lone_s > 0
