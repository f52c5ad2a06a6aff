"""Any file of five megabytes is read or refused with a sentence, in seconds and within memory, whatever is in it."""

from __future__ import annotations

import contextlib
import json
import random
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path

import msgspec
import pytest

from gallant.core.documents import MOST_HELP, MOST_PROBLEMS, Document, Invalid
from gallant.core.estate.backups import Backup
from gallant.core.estate.reading import parse_estate
from gallant.operations.setup.files import TEMPLATE, validate
from gallant.standin.publisher import Publisher

from ..builders import GOOD, both, filled
from ..core.test_work import plan_of

NOW = datetime(2026, 11, 26, tzinfo=UTC)
PROFILES = Path(__file__).resolve().parents[2] / "src/gallant/drivers/profiles"
SAMPLES = {
    "estate": GOOD.encode(),
    "template": TEMPLATE.format(name='"x"').encode(),
    "profile": (PROFILES / "ostrel-shoal.yaml").read_bytes(),
    "shell profile": (PROFILES / "gorsefield-stile.yaml").read_bytes(),
    "scenario": b"faults: [{name: slow, node: tickets/b, act: install, nth: 1, value: 40}]\n",
    "catalog": json.dumps(Publisher(NOW, whole=True).catalog(), indent=1).encode(),
    "plan": msgspec.json.format(msgspec.json.encode(plan_of(both())), indent=1),
    "backup": msgspec.json.encode(filled(Backup, "x", schema="gallant.backup/1")),
}
NASTY = (
    b"!!int ''", b"!!float abc", b"!!bool maybe", b"!!timestamp ''", b"!!binary x", b"!!python/object:os.system {}",
    b"!!map []", b"!!str {a: b}", b"!!set {a}", b"!!omap [a: b]", b"<<: {a: b}", b"=", b"? [a]: b", b"&a [*a]", b"*a",
    b"1:59:59:59:59:59:59", b"190:20:30.15", b"9" * 5000, b"-" + b"9" * 30, b"1e999", b".inf", b".nan", b"0x" + b"f" * 400,
    b"0001-01-01T00:00:00+14:00", b"9999-12-31T23:59:59-14:00", b"2026-13-45", b"[" * 500, b"{a: " * 300, b"\x00", b"\xff\xfe",
    b"\xed\xa0\x80", b"\xe2\x80\xae", b"\x1b[31m", b'"\\ud800"', b'"\\x00"', b"- " * 300, b"|\n a\n", b"%YAML 9.9\n---", b"---\n",
    b"...", b"\t", b"# ", b"''", b"~", b"null", b"[]", b"{}", b"yes", b"'[/x]'", b"'vers:dotted/>'", b"a" * 70_000,
)  # fmt: skip
MEBI = 1024 * 1024


def mutated(raw: bytes, chance: random.Random) -> bytes:
    """The file with a few things done to it."""
    body = bytearray(raw)
    for _ in range(chance.choice((1, 1, 2, 5))):
        at, length = chance.randrange(len(body) + 1), chance.choice((1, 3, 20, 200))
        piece = bytes(body[at : at + length])
        change = chance.randrange(6)
        if change == 0:
            body[at : at + length] = b""
        elif change == 1:
            body[at:at] = piece * chance.choice((1, 2, 50))
        elif change == 2:
            body[at:at] = bytes(chance.randrange(256) for _ in range(length))
        elif change in (3, 4):  # a value in the place of another
            line = body.find(b": ", at) + 2
            end = min((e for e in (body.find(c, line) for c in (b",", b"}", b"\n")) if e > 0), default=line)
            body[line:end] = chance.choice(NASTY)
        else:
            body[at:at] = chance.choice(NASTY)
    return bytes(body)


def grown(raw: bytes, chance: random.Random) -> bytes:
    """Five megabytes of it, or of one thing in it."""
    rows = [line + b"\n" for line in raw.splitlines() if line.strip()]
    row = chance.choice(rows)
    head = raw[: chance.randrange(len(raw))]
    many = (
        lambda: row * (5 * MEBI // len(row)),
        lambda: b"".join(b"k%d: {a: [1, b]}\n" % i for i in range(250_000)),
        lambda: b"  s%d: {}\n" % 0 + b"".join(b"  s%d: {shape: pear}\n" % i for i in range(1, 180_000)),
        lambda: b"x: '" + b"a" * (5 * MEBI) + b"'\n",
        lambda: b"- {name: x, when: [" + b"1, " * 1_500_000 + b"]}\n",
    )
    return (head + b"\n" + chance.choice(many)())[: 5 * MEBI]


WORKER = """
import resource, signal, sys, time
from pathlib import Path
from gallant.operations.setup.files import validate

def over(*_):
    raise SystemExit(f"{path.name} was not done within 5 s")

signal.signal(signal.SIGXCPU, over)
worst = 0.0
for path in sorted(Path(sys.argv[1]).iterdir()):
    used = resource.getrusage(resource.RUSAGE_SELF)
    begun = used.ru_utime + used.ru_stime
    resource.setrlimit(resource.RLIMIT_CPU, (int(begun) + 6, resource.RLIM_INFINITY))
    validate([path])
status = Path("/proc/self/status").read_text()  # what the kernel adds up begins with who started it
peak = int(status.split("VmHWM:")[1].split()[0]) // 1024
print("peak", peak)
if peak > 500:
    raise SystemExit(f"it took {peak} MB")
"""


@pytest.mark.parametrize("kind", SAMPLES)
def test_a_hundred_mutations_of_each_kind_of_file_are_read_or_refused(kind, tmp_path):
    chance = random.Random(kind)
    for number in range(100):
        (tmp_path / f"{number:03}").write_bytes(mutated(SAMPLES[kind], chance))
    for number in range(3):
        (tmp_path / f"large-{number}").write_bytes(grown(SAMPLES[kind], chance))
    done = subprocess.run([sys.executable, "-c", WORKER, str(tmp_path)], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr[-2000:]


def test_the_samples_are_right_as_they_are(tmp_path):
    for kind, raw in SAMPLES.items():
        (tmp_path / kind).write_bytes(raw)
        assert validate([tmp_path / kind])[0].problems == (), kind


@pytest.mark.parametrize("value", NASTY)
def test_a_value_that_is_none_is_a_problem_at_its_place_or_a_text(value):
    with contextlib.suppress(Invalid):  # anything else is a defect
        Document("f", b"a: " + value + b"\n")


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("1:59:59", "1:59:59"),
        ("010", 10),
        ("1_000", "1_000"),
        ("0x10", "0x10"),
        ("!!int ''", ""),
        ("1.0e+3", 1000.0),
        ("12", 12),
        ("-1.5", -1.5),
        ("yes", True),
        ("off", False),
    ],
)
def test_what_is_a_number_is_written_in_tens(text, value):
    assert Document("f", f"a: {text}\n").values == {"a": value}


@pytest.mark.parametrize("text", ["9" * 19, "-" + "9" * 40, "1.0e+19", "9" * 400])
def test_a_number_beyond_what_anything_holds_is_a_problem(text):
    with pytest.raises(Invalid, match="f:1:4: a number that large"):
        Document("f", f"a: {text}\n")


@pytest.mark.parametrize("tag", ["!!binary x", "!x y", "!!python/name:os.system ''", "!!set {a}"])
def test_a_tag_is_refused_at_its_place(tag):
    with pytest.raises(Invalid, match="f:1:4: a tag"):
        Document("f", f"a: {tag}\n")


def test_of_many_problems_the_first_fifty_are_told_and_the_rest_counted():
    text = GOOD + "".join(f"  s{n}: {{product: a/b, shpe: pair}}\n" for n in range(20_000))
    with pytest.raises(Invalid) as refused:
        parse_estate("e", text)
    assert len(refused.value.problems) == MOST_PROBLEMS
    assert refused.value.lines[-1] == "e: and 950 more problems; the rest was not looked at"
    assert 1 <= sum("did you mean" in line for line in refused.value.lines) <= MOST_HELP


def test_of_many_unknown_keys_the_first_fifty_are_told():
    text = GOOD.replace("    tags: [prod]\n", "".join(f"    k{n}: 1\n" for n in range(100_000)))
    with pytest.raises(Invalid) as refused:
        parse_estate("e", text)
    assert refused.value.lines[-1] == "e: and 950 more problems; the rest was not looked at"


def test_of_a_hundred_problems_all_are_counted():
    text = GOOD.replace("    tags: [prod]\n", "".join(f"    k{n}: 1\n" for n in range(100)))
    with pytest.raises(Invalid) as refused:
        parse_estate("e", text)
    assert refused.value.lines[-1].startswith("e: and 5")
    assert refused.value.lines[-1].endswith("more problems; these are the first")


def test_what_has_no_end_is_refused():
    assert "larger than 64 MiB" in validate([Path("/dev/zero")])[0].problems[0]


@pytest.mark.parametrize("text", ["!!seq x", "!!map [1]", "!!str [1]", "!!int {a: 1}"])
def test_a_tag_of_another_form_than_what_it_stands_at_is_refused(text):
    with pytest.raises(Invalid, match="f:1:4: a tag"):
        Document("f", f"a: {text}\n")
