"""A wrong password is tried once for each account and node in a run,
over every protocol: accounts that fail too often are locked."""

from __future__ import annotations

import pytest

from tests.conftest import starting


@pytest.fixture(scope="module")
def line(tmp_path_factory):
    with starting(tmp_path_factory.mktemp("line")) as make:
        place = make(whole=True)
        assert place.run("survey").code == 0
        yield place


def refused(place) -> dict[str, int]:
    return {
        name.removesuffix(" refused"): n for name, n in place.truth()["counts"].items() if name.endswith(" refused")
    }


@pytest.fixture
def wrong(line):
    """Every node refuses every login from now on; gives what has been counted before."""
    before = refused(line)
    line.faults({"name": "refuse_login", "node": ""})
    yield before
    line.faults()


# How many accounts each command has a use for: one to read, and where it may look what could be done, one to act.
@pytest.mark.parametrize(("words", "most"), [(("survey",), 1), (("check",), 2), (("backup", "take"), 1), (("snapshot", "list"), 1)], ids=str)  # fmt: skip
def test_each_account_is_refused_once_on_a_node_whatever_a_command_asks_of_it(line, wrong, words, most):
    done = line.run(*words)
    assert done.code in (1, 3, 5), done.err
    now = refused(line)
    tries = {node: count - wrong.get(node, 0) for node, count in now.items() if count != wrong.get(node, 0)}
    assert tries
    assert {node: n for node, n in tries.items() if n > most} == {}
    assert "Traceback" not in done.err


def test_the_message_says_that_the_login_was_refused_not_that_rights_are_missing(line, wrong):
    done = line.run("survey", "--json")
    nodes = {f"{row['system']}/{row['node']}": row["error"] for row in done.rows}
    assert len(nodes) == 23
    for node, error in nodes.items():
        assert f"{node} refuses the login of " in error, (node, error)
        assert "rights" not in error
