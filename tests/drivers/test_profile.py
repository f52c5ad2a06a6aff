"""Profiles: what is wrong with one is said with its place before any device is met."""

from __future__ import annotations

from importlib import resources

import pytest

from gallant.core.documents import Invalid
from gallant.drivers.profile import fill
from gallant.drivers.profile_reading import parse_profile

TEXT = (resources.files("gallant.drivers") / "profiles" / "ostrel-shoal.yaml").read_text("utf-8")

WRONG = [
    ("serial: serial", "serial: 'serial['", "no JMESPath"),
    ("serial: serial\n", "srial: serial\n", "'srial' is not a field here (did you mean serial?)"),
    ("{post: /v1/tasks, send: {do: restart}", "{post: /v1/tasks, get: /x, send: {do: restart}", "exactly one of"),
    (
        "{post: /v1/tasks, send: {do: restart}",
        "{post: /v1/tasks, elevated: yes, send: {do: restart}",
        "unknown key 'elevated'",
    ),
    ("{post: /v1/tasks, send: {do: restart}", "{post: /v1/tasks, verb: get, send: {do: restart}", "unknown key 'verb'"),
    ("{post: /v1/tasks, send: {do: restart}", "{psot: /v1/tasks, send: {do: restart}", "exactly one of"),
    ("{post: /v1/tasks, send: {do: restart}", "{run: restart", "the driver http knows no run; it knows get, post"),
    ("means: passing", "means: pasing", "means: one of"),
    ("  restart:\n", "  restrat:\n", "unknown act 'restrat' (did you mean restart?)"),
    ("driver: http", "driver: htp", "unknown driver 'htp' (did you mean http?)"),
    ('{user: "{user}"', '{user: "{usr}"', "{usr} is filled by nothing"),
    ("already (serving", "already ((serving", "pattern:"),
    ("boot: started", "model: model", "stands twice"),
    ("name: system.json", "name: ../system", "plain file name"),
    ("profile/1", "profile/2", "this Gallant reads profile/1"),
    ("timeout_s: 10", "timeout_s: -1", "timeout_s"),
    ("        boot: started\n", "", "gives no 'boot'"),
]


def test_the_built_in_profile_is_right():
    assert parse_profile("p", TEXT).name == "ostrel-shoal"


@pytest.mark.parametrize(("old", "new", "words"), WRONG, ids=[w[2][:20] for w in WRONG])
def test_what_is_wrong_with_a_profile_is_said_at_its_place(old, new, words):
    assert old in TEXT
    with pytest.raises(Invalid) as caught:
        parse_profile("p.yaml", TEXT.replace(old, new, 1))
    if words != "timeout_s":
        assert words in caught.value.what
    assert caught.value.problems[0].line > 1


def test_a_value_that_looks_like_a_field_is_never_read_again():
    assert fill({"a": ["{user}", 1]}, {"user": "{secret}", "secret": "x"}) == {"a": ["{secret}", 1]}
