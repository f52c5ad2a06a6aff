"""A large estate is read once; whatever changes, in it or in what was kept of it, is never overlooked."""

from __future__ import annotations

import os

import pytest

from gallant.core.documents import Invalid
from gallant.core.estate.reading import parse_estate
from gallant.operations.ground import opening
from gallant.operations.ground.opening import NAME, open_estate

from ..builders import GOOD


@pytest.fixture(autouse=True)
def everything_is_large(monkeypatch):
    monkeypatch.setattr(opening, "WORTH_KEEPING", 0)


def test_what_was_kept_is_what_was_read(tmp_path):
    raw = GOOD.encode()
    first = open_estate("e", raw, tmp_path)
    assert (tmp_path / "state" / NAME).stat().st_mode & 0o777 == 0o600
    assert open_estate("e", raw, tmp_path) == first == parse_estate("e", raw)


def test_another_file_is_never_taken_for_the_one_that_was_kept(tmp_path):
    open_estate("e", GOOD.encode(), tmp_path)
    changed = GOOD.replace("harbour", "haven").encode()
    assert open_estate("e", changed, tmp_path) == parse_estate("e", changed)
    with pytest.raises(Invalid):
        open_estate("e", GOOD.replace("shape: pair", "shape: peer").encode(), tmp_path)
    assert open_estate("e", changed, tmp_path) == parse_estate("e", changed)


@pytest.mark.parametrize("damage", [b"", b"x", "half", "flipped"])
def test_what_is_damaged_is_read_anew(tmp_path, damage):
    raw, kept = GOOD.encode(), tmp_path / "state" / NAME
    good = open_estate("e", raw, tmp_path)
    whole = kept.read_bytes()
    if damage == "half":
        damage = whole[: len(whole) // 2]
    elif damage == "flipped":
        damage = bytes([whole[0] ^ 1]) + whole[1:]
    kept.write_bytes(damage)
    assert open_estate("e", raw, tmp_path) == good
    assert kept.read_bytes() == whole


def test_where_nothing_can_be_kept_it_is_read_all_the_same(tmp_path):
    (tmp_path / "state").mkdir(mode=0o700)
    (tmp_path / "state" / NAME).mkdir()
    assert open_estate("e", GOOD.encode(), tmp_path) == parse_estate("e", GOOD)


def test_an_estate_is_read_anew_by_another_gallant(tmp_path, monkeypatch):
    raw = GOOD.encode()
    open_estate("e", raw, tmp_path)
    before = (tmp_path / "state" / NAME).read_bytes()
    copy = tmp_path / "core"
    copy.mkdir()
    (copy / "__init__.py").write_text("")
    os.utime(copy / "__init__.py", ns=(1, 1))
    monkeypatch.setattr(opening.core, "__file__", str(copy / "__init__.py"))
    open_estate("e", raw, tmp_path)
    assert (tmp_path / "state" / NAME).read_bytes() != before


def test_a_name_of_a_file_writes_no_line_of_ours(tmp_path):
    """Nor does the pattern that it is sought by."""
    (tmp_path / "a\nb.yaml:1:1: all is well.yaml").write_text("nonsense: 1\n")
    head = "gallant: estate/1\nname: x\nsites: {s: {}}\ninclude: "
    for pattern in (r'["a\nb*"]', r'["z\n\e[31m*"]'):
        with pytest.raises(Invalid) as refused:
            open_estate("estate.yaml", f"{head}{pattern}\n".encode(), tmp_path)
        lines = str(refused.value).splitlines()
        assert all(
            line.isprintable() and line.startswith(("a b.yaml:1:1: ", "estate.yaml:", "Mend it")) for line in lines
        ), lines
