"""A field of a shell command is one word wherever validation lets it stand: held against the shell itself."""

from __future__ import annotations

import shlex
import subprocess

import pytest

from gallant.core.documents import Invalid
from gallant.drivers.profile import fill
from gallant.drivers.profile_reading import parse_profile
from gallant.drivers.quoting import misplaced

PROFILE = """
gallant: profile/1
name: t
product: t/dev
driver: shell
reads: {about: [{run: "true", take: {serial: text, version: text, boot: text}}]}
acts: {restart: {calls: [{run: COMMAND}]}}
"""
VALUES = (
    "x; touch made",
    "x'; touch made; '",
    '"; touch made; "',
    "$(touch made)",
    "`touch made`",
    "a[$(touch made)]",
    "x\ntouch made\n",
    "' $(touch made) '",
    "\\'; touch made #",
    "EOF\ntouch made\n",
    "`;touch made;`",
    "-n",
)
REFUSED = (
    "echo '{reason}'",
    'echo "{reason}"',
    'echo "a {reason} b"',
    "echo `echo {reason}`",
    "echo \\{reason}",
    "echo x # {reason}",
    "cat <<EOF\n{reason}\nEOF",
    "echo $(( {reason} ))",
    "eval echo {reason}",
    "sh -c {reason}",
    "bash -ec {reason}",
    "true && eval {reason}",
    "[[ 1 -eq {reason} ]]",
    "let x={reason}",
    'echo "it\'s {reason}"',
    "echo 'a'\"{reason}\"",
)
ALLOWED = (
    "echo {reason}",
    "echo a={reason}",
    "echo 'a b' {reason} \"c\"",
    "echo $(echo {reason})",
    "echo it\\'s {reason}",
    "echo '#' {reason}",
    "echo a#b {reason}",
    "# a comment with 'one quote\necho {reason}",
    "if test -n {reason}; then echo {reason}; fi",
    'echo "`echo x`" {reason}',
)


@pytest.mark.parametrize("command", REFUSED)
def test_a_field_that_the_shell_would_read_as_more_than_a_word_is_refused(command):
    with pytest.raises(Invalid, match=r"\{reason\} stands (in|behind)"):
        parse_profile("p", PROFILE.replace("COMMAND", shown(command)))


def shown(command: str) -> str:
    import json

    return json.dumps(command)


@pytest.mark.parametrize("command", ALLOWED)
def test_where_a_field_may_stand_no_value_is_a_command(command, tmp_path):
    parse_profile("p", PROFILE.replace("COMMAND", shown(command)))
    assert list(misplaced(command)) == []
    for value in VALUES:
        for shell in ("sh", "bash"):
            subprocess.run(
                [shell, "-c", fill(command, {"reason": shlex.quote(value)})], cwd=tmp_path, capture_output=True
            )
            assert not (tmp_path / "made").exists(), (shell, value)


@pytest.mark.parametrize("command", REFUSED)
def test_what_is_refused_really_is_a_hole(command, tmp_path):
    """Each of them lets some value in: the rule refuses nothing for nothing."""
    for value in VALUES:
        subprocess.run(["bash", "-c", fill(command, {"reason": shlex.quote(value)})], cwd=tmp_path, capture_output=True)
    assert (tmp_path / "made").exists()
