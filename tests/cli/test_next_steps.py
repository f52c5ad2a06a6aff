"""What every command offers as the next step: it can be typed as it stands, and is not refused then."""

from __future__ import annotations

import ast
import re
from collections import deque
from collections.abc import Iterator
from pathlib import Path

import click
import msgspec
import pytest

import gallant
from gallant.cli.main import COMMANDS
from gallant.cli.main import gallant as program
from gallant.standin.scenario import SCENARIOS

from ..conftest import Place

WRONG_MACHINE = "answers as serial"  # that nothing is planned then is what was to be seen
START = "the start"  # what nobody offered may be refused
SOURCES = sorted(Path(gallant.__file__).parent.rglob("*.py"))
# What a reader fills in, and what the tests fill in for it.
FILLED = {"TIME": "2027-06-01T22:00", "FOLDER": "kept", "WHY": "because", "…": "because", "TEXT": "because"}


def sayings() -> Iterator[tuple[Path, int, str]]:
    """Every text of the program, what is filled into it as `X`."""
    for path in SOURCES:
        tree = ast.parse(path.read_text())
        inside = {id(v) for node in ast.walk(tree) if isinstance(node, ast.JoinedStr) for v in node.values}
        for node in ast.walk(tree):
            if isinstance(node, ast.JoinedStr):
                yield (
                    path,
                    node.lineno,
                    "".join(str(v.value) if isinstance(v, ast.Constant) else "X" for v in node.values),
                )
            elif isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in inside:
                yield path, node.lineno, node.value


def command_of(words: list[str]) -> tuple[click.Command | None, list[str]]:
    """The command that some words name, and the words after its name."""
    command: click.Command | None = program
    rest = list(words)
    while isinstance(command, click.Group) and rest:
        found = command.get_command(click.Context(command), rest[0])
        if found is None:
            return (None if command is program else command), rest
        command, rest = found, rest[1:]
    return command, rest


def test_every_command_that_the_program_speaks_of_exists_with_its_options():
    seen, wrong = 0, []
    for path, line, text in sayings():
        for said in re.findall(r"(?<![\w/.-])gallant ([a-z]+(?: [^;|\n]*)?)", text):
            words = said.split()
            if words[0] not in COMMANDS:
                continue  # prose about the program
            command, rest = command_of(words)
            options = {o for p in command.params for o in (*p.opts, *p.secondary_opts)} | {"--help"}
            said_options = [w.rstrip(".,:)'\"X") for w in rest if w.startswith("--")]
            wrong += [f"{path.name}:{line}: gallant {said}: {o}" for o in said_options if o not in options]
            seen += 1
    assert seen > 200
    assert not wrong, "\n".join(wrong)


def known_words(place: Place) -> set[str]:
    rows = place.run("inventory", "--json").rows
    return {r["system"] for r in rows} | {f"{r['system']}/{r['node']}" for r in rows}


def typed(step: str, known: set[str]) -> list[str] | None:
    """A step as one types it, up to where its prose begins; None where only a person can fill it in."""
    words = step.removeprefix("gallant ").split()
    command, rest = command_of(words)
    assert command is not None, step
    line = words[: len(words) - len(rest)]
    with_value = {o for p in command.params if isinstance(p, click.Option) and not p.is_flag for o in p.opts}
    for number, word in enumerate(rest):
        is_value = number > 0 and rest[number - 1] in with_value
        plain = word.rstrip(".,")
        if is_value and plain.isupper() and plain not in FILLED:
            return None
        if is_value or word.startswith("--") or plain in known or plain in FILLED or re.search(r"[\d:/]|-[a-z]", plain):
            line.append(FILLED.get(plain, plain))
        elif plain.isupper() or "|" in plain:
            return None
        else:
            break
    return line


def steps_in(out: str, err: str) -> Iterator[str]:
    """The steps that a command offers, each up to where the next sentence or the next step begins."""
    offered = False
    for text in (*out.splitlines(), *err.splitlines()):
        offered = text.startswith(("next", "→")) or (offered and text.startswith("     "))
        if offered:
            yield from (f"gallant {s.strip()}" for s in re.findall(r"gallant ([a-z][^;]*)", text)[:1])  # then: or this


def follow(place: Place, begin: list[str], rolls: int, most: int = 55) -> tuple[dict[str, int], list[str]]:
    """Do what every command offers, in the order in which it is offered; what each came to, and what was refused.

    Of the rolls that are offered the first few are carried out:
    each takes a while, and changes what the others rest on.
    """
    known, done, refused = known_words(place), dict[str, int](), list[str]()
    waiting = deque((step, START) for step in begin)
    while waiting and len(done) < most:
        step, by = waiting.popleft()
        line = typed(step, known)
        if line is None or " ".join(line) in done:
            continue
        if line[0] == "roll":
            if rolls == 0:
                continue
            rolls -= 1
        takes = {o for p in command_of(line)[0].params for o in p.opts}
        answer = place.run(*line, *(["--yes"] if "--yes" in takes else []), COLUMNS="400")
        done[" ".join(line)] = answer.code
        if answer.code in (2, 5) and by != START and WRONG_MACHINE not in answer.err:
            refused.append(f"{by} → gallant {' '.join(line)}: {answer.code} {answer.err}")
        waiting += [(offered, " ".join(line)) for offered in steps_in(answer.out, answer.err)]
    return done, refused


SHOWN = (
    "gallant gaps", "gallant gaps slipway", "gallant notice list", "gallant check", "gallant inventory", "gallant stock list",
    "gallant backup list", "gallant snapshot list", "gallant catalog list", "gallant history", "gallant verify",
    "gallant ledger", "gallant ledger verify", "gallant doctor", "gallant route slipway", "gallant route tickets",
    "gallant profiles", "gallant survey --list", "gallant plan",
)  # fmt: skip


def test_no_step_that_any_command_offers_is_refused(standins):
    place = standins(whole=True, speed=1500, pace=0.1)
    place.read_all()
    done, refused = follow(place, [*SHOWN, "gallant notice accept slipway:image"], rolls=1, most=45)
    assert not refused, "\n".join(refused)
    assert len(done) > 30
    assert any(line.startswith("plan slipway --with-needed") for line in done)
    assert any(line.startswith("roll ") for line in done)


@pytest.mark.long
@pytest.mark.parametrize("fresh", ["no catalog", "nothing read"])
def test_no_step_is_refused_on_the_first_day(standins, fresh):
    place = standins(whole=True)
    if fresh == "no catalog":
        place.run("survey")
    done, refused = follow(
        place, ["gallant gaps", "gallant notice list", "gallant check", "gallant stock list"], 0, most=25
    )
    assert not refused, "\n".join(refused)
    assert len(done) > 4


def test_a_booking_of_machines_that_carry_others_can_be_checked_and_planned(standins):
    line = standins(whole=True)
    line.read_all()
    asked = line.run("notice", "book", "deck-hw:image", "2027-06-01T22:00", "--json")
    assert asked.code == 1
    said = re.search(r"gallant (notice book [^;]+--consent downtime:overlook)", asked.err)
    assert said is not None, asked.err
    assert line.run(*said[1].split()).code == 0
    assert line.run("check", "deck-hw").code in (0, 1)
    assert line.run("plan", "deck-hw").code == 0


def test_a_plan_of_everything_leaves_out_by_name_what_cannot_be_planned(standins):
    line = standins(whole=True)
    text = (line.folder / "estate.yaml").read_text()
    line.read_all()
    (line.folder / "estate.yaml").write_text(
        text.replace(
            "  - {for: tickets, aim: settled 90d}",
            "  - {for: tickets, aim: settled 90d}\n  - {for: overlook, aim: pin 17.4}",
        )
    )
    planned = line.run("plan", "--json")
    assert planned.code == 1, planned.err
    assert [one["system"] for one in planned.json["barred"]] == ["slipway"]
    assert "overlook" in planned.json["barred"][0]["what"]
    assert {"tickets", "deck", "gates"} <= set(planned.json["systems"])
    assert "slipway" not in planned.json["systems"]
    told = line.run("plan", COLUMNS="400").out
    assert "slipway cannot be planned now. slipway: no order of work keeps every requirement" in told
    assert line.run("plan", "slipway").code == 5  # who names it is told
    for command in (["gaps"], ["notice", "list"]):
        shown = line.run(*command, COLUMNS="400")
        assert "slipway cannot be planned now" in shown.out
        assert [one["system"] for one in line.run(*command, "--json").json["barred"]] == ["slipway"]


def test_a_plan_of_everything_goes_without_a_system_that_does_not_answer(standins):
    line = standins(whole=True)
    line.read_all()
    line.faults({"name": "refuse_login", "node": "gates/a"})
    planned = line.run("plan", "--json")
    assert planned.code == 3, planned.err
    assert [one["system"] for one in planned.json["barred"]] == ["gates"]
    assert "tickets" in planned.json["systems"]


# Of the scenarios this one leads a step astray most easily; the others are for make night.
USUAL = ("refuse_login",)
TROUBLES = [name if name in USUAL else pytest.param(name, marks=pytest.mark.long) for name in SCENARIOS]


@pytest.mark.parametrize("name", TROUBLES)
def test_no_step_is_refused_when_something_goes_wrong(standins, name):
    place = standins(speed=1500, pace=0.1)
    plan = place.make_ready()
    place.faults(msgspec.to_builtins(SCENARIOS[name]))
    shown = [
        "gallant survey",
        "gallant check",
        "gallant backup take",
        f"gallant roll {plan}",
        "gallant history",
        "gallant verify",
    ]
    done, refused = follow(place, [*shown, "gallant gaps", "gallant notice list"], rolls=1, most=24)
    assert not refused, "\n".join(refused)
    assert len(done) >= len(shown)
