"""A large estate with many dead nodes: what a person sees fits a screen, and says the worst first."""

from __future__ import annotations

import asyncio
import contextlib

import pytest

from gallant.cli.ground import common

NODES = 90  # no answer at any address: closed ports on this machine

HEAD = """gallant: estate/1
name: many
sites: {{here: {{}}, there: {{}}}}
limits: {{retries: 0}}
accounts: {{read: {{user: r, secret: "env:PATH"}}}}
systems:
"""


@pytest.fixture
def many(bare):
    rows = "".join(
        f"  s{n}:\n    {{product: ostrel/shoal, shape: single, site: {'here' if n % 3 else 'there'}, driver: http, "
        f'profile: ostrel-shoal-mini, nodes: {{a: {{address: "https://127.0.{n}.1:9", serial: S{n}}}}}}}\n'
        for n in range(NODES)
    )
    (bare.folder / "estate.yaml").write_text(HEAD.format() + rows)
    return bare


def test_what_a_library_remarks_on_a_line_that_was_cut_is_not_said_besides(caplog):
    async def writes_on() -> None:
        server = await asyncio.start_server(lambda reader, writer: writer.transport.abort(), "127.0.0.1", 0)
        reader, writer = await asyncio.open_connection(*server.sockets[0].getsockname())
        with contextlib.suppress(ConnectionError):
            await reader.read()
        for _ in range(20):
            writer.write(b"more")
            await asyncio.sleep(0)
        server.close()

    common.run(writes_on())
    assert caplog.records == []


def test_a_survey_groups_failures_by_site_and_cause_and_gives_one_next_step(many):
    done = many.run("survey")
    assert done.code == 3
    lines = done.out.splitlines()
    assert len(lines) <= 24
    causes = [row for row in lines if "nodes of" in row]
    assert [row.split("(")[0].split("  ")[0] for row in causes] == [
        "✗ 60 nodes of here: connection refused",
        "✗ 30 nodes of there: connection refused",
    ]
    assert [row for row in lines if row.startswith("next")] == [
        "next  Mend what they have in common, then: gallant survey --failed"
    ]
    assert len(many.run("survey", "--json").rows) == NODES
    assert {row["cause"] for row in many.run("survey", "--json").rows} == {"connection refused"}


def test_what_follows_other_commands_is_three_lines_at_most_too(many):
    many.run("survey")
    for words in (("gaps",), ("check",), ("notice", "list"), ("inventory",)):
        done = many.run(*words)
        assert len([row for row in done.out.splitlines() if row.startswith("next")]) <= 4, words
        assert "Traceback" not in done.err


def test_a_few_failures_still_have_a_line_each_with_what_to_do(standins):
    place = standins(faults=[{"name": "refuse_login", "node": "tickets/b"}])
    done = place.run("survey")
    assert "tickets/b refuses the login of" in done.out
    assert "Look at accounts in estate.yaml" in done.out


def test_what_is_wrong_with_one_device_ends_its_reading_and_no_others(standins):
    place = standins()
    path = place.folder / "estate.yaml"
    extra = "shape: single, site: harbour, driver: http, profile: ostrel-shoal-mini, product: ostrel/shoal-mini"
    path.write_text(
        path.read_text().replace(
            "\nsystems:\n",
            "\nsystems:\n"
            f'  noca: {{{extra}, nodes: {{a: {{address: "https://127.0.99.1:9", serial: S1, ca: nowhere.pem}}}}}}\n'
            f'  nosecret: {{{extra}, accounts: {{read: {{user: r, secret: "file:missing"}}}},\n'
            '    nodes: {a: {address: "https://127.0.99.2:9", serial: S2}}}\n',
        )
    )
    done = place.run("survey", "--json")
    errors = {f"{row['system']}/{row['node']}": row["error"] for row in done.rows}
    assert (errors["tickets/a"], errors["tickets/b"]) == (None, None)
    assert "nowhere.pem cannot be used" in errors["noca/a"]
    assert "missing cannot be read" in errors["nosecret/a"]
    assert done.code == 2


def test_a_name_that_is_not_known_is_said_so():
    import socket

    from gallant.drivers.network import reason

    assert reason(socket.gaierror(-2, "Name or service not known")) == "the name is not known"
    assert reason(OSError(-2, "as some libraries pass it on")) == "the name is not known"
    assert reason(ConnectionRefusedError(111, "x")) == "connection refused"
