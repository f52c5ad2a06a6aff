"""An estate's identity: made once, and said again by what was kept under it."""

from __future__ import annotations

import pytest

from gallant.core.errors import Refused
from gallant.operations.ground.workplace import Workplace

ESTATE = """\
gallant: estate/1
name: slipway
sites: {here: {}}
systems:
  tickets:
    product: ostrel/shoal
    shape: single
    site: here
    driver: manual
    profile: by-hand
    nodes:
      a: {address: "hands:", serial: X}
"""


def place_in(folder) -> Workplace:
    folder.mkdir(exist_ok=True)
    (folder / "estate.yaml").write_text(ESTATE)
    return Workplace(folder)


def test_an_identity_whose_file_is_gone_is_said_again_by_the_journal(tmp_path):
    place = place_in(tmp_path / "one")
    place.journal.close()
    (tmp_path / "one" / "state" / "identity").unlink()
    again = place_in(tmp_path / "one")
    assert again.identity == place.identity
    assert again.journal.rolls() == ([], [])


def test_a_journal_that_was_copied_from_another_estate_is_refused(tmp_path):
    one, two = place_in(tmp_path / "one"), place_in(tmp_path / "two")
    one.journal.close()
    two.journal.close()
    (tmp_path / "two" / "state" / "journal.db").write_bytes((tmp_path / "one" / "state" / "journal.db").read_bytes())
    with pytest.raises(Refused, match=r"journal\.db is the store of another estate"):
        _ = place_in(tmp_path / "two").journal
