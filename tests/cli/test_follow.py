"""Looking on while another process carries a roll out."""

from __future__ import annotations

import signal

import pytest


def test_whoever_follows_a_roll_sees_it_to_its_end(place):
    roll = place.begin("roll", place.make_ready())
    place.wait_for(lambda: bool(place.entries()), roll)
    looking = place.begin("roll", "--follow", "roll-0001")
    out, err = looking.communicate(timeout=80)
    assert looking.returncode == 0, err
    assert roll.wait(timeout=20) == 0
    roll.communicate()
    assert "tickets/b restart (3.2.4): done" in err
    assert "tickets runs 3.2.4 on every node." in out
    over = place.run("roll", "--follow", "roll-0001")  # one that has ended is only told
    assert (over.code, "tickets runs 3.2.4 on every node." in over.out) == (0, True)


@pytest.mark.long
def test_whoever_has_seen_enough_leaves_the_roll_alone(place):
    roll = place.begin("roll", place.make_ready())
    place.wait_for(lambda: bool(place.entries()), roll)
    looking = place.begin("roll", "--follow")
    heard = [looking.stderr.readline() for _ in range(2)]
    assert any("simulated" in line for line in heard)
    looking.send_signal(signal.SIGINT)
    out, err = looking.communicate(timeout=20)
    assert (looking.returncode, "roll-0001 goes on without you." in out) == (0, True), err
    assert roll.wait(timeout=80) == 0
    roll.communicate()


def test_a_roll_that_was_cut_off_is_told_as_such(place):
    roll = place.begin("roll", place.make_ready())
    place.wait_for(lambda: bool(place.entries()), roll)
    looking = place.begin("roll", "--follow", "roll-0001")
    roll.send_signal(signal.SIGTERM)
    roll.communicate()
    out, _ = looking.communicate(timeout=80)
    assert looking.returncode == 4
    assert "asked to end" in out
    assert place.run("roll", "--follow", "roll-0009").code == 2
    assert place.run("roll").code == 2
