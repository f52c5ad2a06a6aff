"""The ledger: exported, told to others as it grows, and found out when it was cut or written anew."""

from __future__ import annotations

import json
import re
import socket
import sqlite3
import threading
from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gallant.core.decide.ledger import FIRST, Kept, LedgerEntry, against, broken_at, next_hash
from gallant.core.decide.syslog import framed, rfc5424

NOW = datetime(2026, 11, 25, 22, 0, tzinfo=UTC)
# RFC 5424, 6: the grammar of a message with one element of structured data.
MESSAGE = re.compile(
    r"<109>1 \d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{1,6}Z [!-~]{1,255} gallant [!-~]{1,128} [!-~]{1,32} "
    r'\[gallant@32473(?: [a-z]+="(?:[^"\\\]]|\\["\\\]])*")+\] \ufeff[^\n]*'
)


def chain(*subjects: str) -> list[Kept]:
    found, before = [], FIRST
    for seq, subject in enumerate(subjects, 1):
        entry = LedgerEntry(at=NOW, by="anna", host="keeper", kind="waive", subject=subject)
        before = next_hash(before, entry)
        found.append(Kept(seq=seq, entry=entry, hash=before))
    return found


@given(st.lists(st.text(max_size=10), min_size=1, max_size=8), st.data())
def test_a_chain_that_was_cut_or_written_anew_differs_from_what_others_were_told(subjects, data):
    whole = chain(*subjects)
    told = {k.seq: k.hash for k in whole}
    assert against(whole, told) == []
    assert broken_at(whole) is None
    at = data.draw(st.integers(1, len(whole)))
    assert f"entry {at} was noted" in against(whole[: at - 1], told)[0]
    anew = chain(*[s + "x" if n == at else s for n, s in enumerate(subjects, 1)])
    assert broken_at(anew) is None  # whole in itself: only anyone who kept a hash can tell
    assert f"entry {at} is not the one" in against(anew, told)[0]
    middle = [k for k in whole if k.seq != at]
    assert broken_at(middle) == (at if at < len(whole) else None)


@given(st.text(), st.text(), st.text(), st.text())
def test_every_message_is_one_of_the_standard_whatever_stands_in_it(by, host, subject, reason):
    entry = LedgerEntry(at=NOW, by=by, host=host, kind="waive", subject=subject, reason=reason)
    message = rfc5424(Kept(seq=7, entry=entry, hash="a" * 64)).decode()
    assert MESSAGE.fullmatch(message), message
    assert framed(message.encode()).split(b" ", 1)[1] == message.encode()


@pytest.fixture
def told(place):
    """A place whose ledger is told to a file and to two collectors; gives it and their sockets."""
    udp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    udp.bind(("127.0.0.1", 0))
    tcp = socket.create_server(("127.0.0.1", 0))

    def listen() -> None:
        while True:
            try:
                stream, _ = tcp.accept()
            except OSError:
                return
            with stream:
                while stream.recv(65536):
                    pass

    worker = threading.Thread(target=listen, daemon=True)
    worker.start()
    estate = place.folder / "estate.yaml"
    ports = udp.getsockname()[1], tcp.getsockname()[1]
    line = f'events: [{{to: "udp://127.0.0.1:{ports[0]}"}}, {{to: "tcp://127.0.0.1:{ports[1]}"}}, {{to: told.jsonl}}]\n'
    estate.write_text(estate.read_text().replace("\naims:", f"\n{line}aims:", 1))
    udp.settimeout(10)
    yield place, udp, tcp
    udp.close()
    tcp.close()


def waive(place, system: str = "tickets"):
    day = place.run("check", "--only", "clock", "--json") and place.run("inventory", "--json")
    assert day.code == 0
    from gallant.operations.ground.workplace import Workplace

    until = Workplace(place.folder).clock.now().date().isoformat()
    return place.run("waive", "clock", system, "--until", until, "--reason", 'he said "so]"')


def test_each_entry_goes_out_with_its_hash_and_the_chain_is_held_against_it(told):
    place, udp, _ = told
    place.run("survey")
    assert waive(place).code == 0
    message = udp.recv(65536)
    assert MESSAGE.fullmatch(message.decode())
    newest = place.run("ledger", "--json").rows[0]
    assert newest["hash"].encode() in message
    assert json.loads((place.folder / "told.jsonl").read_text())["hash"] == newest["hash"]
    collected = place.folder / "collected.log"
    collected.write_bytes(b"Nov 25 keeper " + message + b"\n")
    for file in ("collected.log", "told.jsonl"):
        done = place.run("ledger", "verify", "--against", file)
        assert done.code == 0, done.out
        assert "as 1 entry told to others" in done.out
    assert place.run("ledger", "export", "kept.jsonl").code == 0
    with sqlite3.connect(place.folder / "state" / "ledger.db") as db:
        db.execute("DELETE FROM ledger")
    cut = place.run("ledger", "verify")  # an empty chain is whole in itself; the journal knows better
    assert cut.code == 1
    assert "entry 1 was noted elsewhere and is not here any more: the end of the chain was cut off" in cut.out
    with sqlite3.connect(place.folder / "state" / "journal.db") as db:
        db.execute("DELETE FROM witness")
    missed = place.run("ledger", "verify")  # whoever wrote it knows
    assert missed.code == 1
    assert "noted it, and the ledger does not have it so" in missed.out
    for hand in (place.folder / "state" / "hands").iterdir():
        hand.unlink()
    blind = place.run("ledger", "verify")
    assert blind.code == 0
    assert "one that was cut off in all of them cannot be seen from here" in blind.out
    assert "gallant ledger verify --against" in blind.out
    cut = place.run("ledger", "verify", "--against", "kept.jsonl")
    assert cut.code == 1
    assert "the end of the chain was cut off" in cut.out


def test_an_entry_that_was_changed_is_named_as_the_first_broken_link(place):
    place.run("survey")
    for system in ("tickets", "tickets/a", "tickets/b"):
        assert waive(place, system).code == 0
    with sqlite3.connect(place.folder / "state" / "ledger.db") as db:
        raw = db.execute("SELECT entry FROM ledger WHERE seq = 2").fetchone()[0]
        db.execute("UPDATE ledger SET entry = ? WHERE seq = 2", (raw.replace(b"tickets/a", b"tickets/z"),))
    done = place.run("ledger", "verify")
    assert done.code == 1
    assert "The first link that is not whole is entry 2" in done.out


def test_a_collector_that_is_away_is_told_later_and_until_then_it_is_said(told):
    place, _, tcp = told
    place.run("survey")
    where = tcp.getsockname()
    tcp.shutdown(socket.SHUT_RDWR)  # what waits in it wakes up, and lets it go
    tcp.close()
    assert waive(place).code == 0
    said = place.run("ledger")
    assert f"1 entry could not be told to tcp://127.0.0.1:{where[1]}" in said.out
    with socket.create_server(where) as back:
        back.settimeout(20)
        got: list[bytes] = []

        def take() -> None:
            stream, _ = back.accept()
            with stream:
                while piece := stream.recv(65536):
                    got.append(piece)

        worker = threading.Thread(target=take)
        worker.start()
        assert waive(place, "tickets/a").code == 0
        worker.join(20)
    assert b"".join(got).count(b"[gallant@32473") == 2
    assert "could not be told" not in place.run("ledger").out


def test_what_tells_of_no_ledger_is_no_witness(place):
    (place.folder / "x").write_text("nothing\n")
    assert place.run("ledger", "verify", "--against", "x").code == 2
