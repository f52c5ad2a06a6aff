"""Rules between products, and orders of work that never break one.

A rule says: where one system runs a release of this range, another must run one of that range. From
what every system runs and should run, `find_order` gives the hops of all of them with their `needs`:
whichever hops the needs let run side by side, at every moment every rule holds, a system in a hop
counting as running both of its versions. So a hop that is backed out breaks nothing either. A breach
that exists today is not a reason to stand still: it may stay or go, and never comes back.

Systems that no rule ties together are solved apart; within a group the search is A* over what all of them run, with the
publisher's minutes as cost and each system's own cheapest way as the bound.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator, Mapping, Sequence
from copy import copy
from itertools import count
from typing import TypeAlias

from gallant.core.assess.routes import Stations
from gallant.core.catalog.products import Product
from gallant.core.reasons import reasons
from gallant.core.records import Record, replace
from gallant.core.versions import Version, parse, parse_range

# So many joint states are looked at before a group is called too large to solve; far above what rule chains need.
MOST_STATES = 200_000


class Rule(Record):
    """Where `system` runs a version in `when` (VERS; None: any), `other` must run one in `range` (VERS)."""

    system: str
    when: str | None
    other: str
    range: str
    said_by: str = ""

    @property
    def words(self) -> str:
        """What a rule asks of which system, in one line."""
        subject = f"{self.system} on {parse_range(self.when).words()}" if self.when else self.system
        return f"{subject} needs {self.other} on {parse_range(self.range).words()}" + (
            f" ({self.said_by})" if self.said_by else ""
        )


class Task(Record):
    """One system's part: its product, what it runs, and the version it should run.

    `running` is what its slowest node runs, `also` what others of its nodes run next to it. `delivery` is the path by
    which packages reach it; `despite` are releases whose recall a named person set aside.
    """

    system: str
    product: Product
    running: str
    target: str
    also: tuple[str, ...] = ()
    delivery: str | None = None
    despite: tuple[str, ...] = ()


class OrderedHop(Record, rename={"from_": "from"}):
    """One hop of the order; `needs` are ids of hops that must be finished first."""

    id: str
    system: str
    from_: str
    to: str
    needs: tuple[str, ...] = ()


class Conflict(Record):
    """Why there is no order: rules that together make it impossible (none: a system
    has no way of its own), and the nearest aims that are possible. Where dropping one
    of `rules` would not be enough, `others` are the sets that bar it besides."""

    systems: tuple[str, ...]
    rules: tuple[Rule, ...]
    others: tuple[tuple[Rule, ...], ...] = ()
    nearest: dict[str, str]


class Order(Record):
    """The hops of all groups that have an order, in one possible sequence; the conflicts of those that have none."""

    hops: tuple[OrderedHop, ...]
    minutes: float
    conflicts: tuple[Conflict, ...]


class Breach(Record):
    """A rule that does not hold now."""

    rule: Rule
    running: str
    other_running: str


State = tuple[int, ...]
NO_WAY = (float("inf"), 0)


class _Line:
    """One system's releases as numbers: 0 is what it runs now, the rest are releases on some way to its target.

    Its tables depend on nothing of the system but what it runs and where it goes, so systems that are alike share them.
    """

    def __init__(self, task: Task) -> None:
        product = task.product
        self.task = task
        running, goal = product.resolve(task.running), product.resolve(task.target)
        start = _key(product, task.running)
        stays = task.target == task.running or (goal is not None and product.key(goal) == start)
        until = start if goal is None or stays else product.key(goal)
        self.stations = Stations(product, start, until, task.delivery, frozenset(task.despite))
        self.versions = self.stations.versions
        self.also = [_key(product, text) for text in task.also]
        self.texts = [running.version if running else task.running, *(r.version for r in self.stations.releases)]
        reaches = goal is not None and len(self.texts) > 1 and self.texts[-1] == goal.version
        self.goal = 0 if stays else len(self.texts) - 1 if reaches else -1
        self.edges = self._edges()
        self.left = self._left()

    def of(self, task: Task) -> _Line:
        """The same tables for another system, which runs the same and goes to the same release."""
        line = copy(self)
        line.task = task
        return line

    def all_inside(self, text: str) -> tuple[bool, ...]:
        """At which stations everything that the system runs lies in a VERS range."""
        found = self.stations.inside(text)
        return (found[0] and all(v in parse_range(text) for v in self.also), *found[1:])

    def any_inside(self, text: str) -> tuple[bool, ...]:
        """At which stations something that the system runs lies in a VERS range."""
        found = self.stations.inside(text)
        return (found[0] or any(v in parse_range(text) for v in self.also), *found[1:])

    def minutes(self, number: int) -> float:
        """The publisher's minutes to enter a station."""
        return self.stations.releases[number - 1].minutes.total

    def _edges(self) -> list[list[tuple[int, float]]]:
        """By station: those that install on it, each with its minutes."""
        ways = self.stations.edges([self.stations.rules(n) for n in range(1, len(self.versions))])
        return [[(to, self.minutes(to)) for to in leads] for leads in ways]

    @property
    def ladder(self) -> list[str]:
        """What it runs, and every release that some way leads to, oldest first."""
        led_to = {to for leads in self.edges for to, _ in leads}
        return [text for n, text in enumerate(self.texts) if n == 0 or n in led_to]

    def _left(self) -> list[tuple[float, int]]:
        """The cheapest (minutes, hops) from each release to the goal,
        other systems aside; infinite where there is no way."""
        left = [NO_WAY] * len(self.versions)
        if self.goal >= 0:
            left[self.goal] = (0.0, 0)
            for at in reversed(range(len(self.versions))):
                left[at] = min(
                    [left[at], *((minutes + left[to][0], 1 + left[to][1]) for to, minutes in self.edges[at])]
                )
        return left


class _Group:
    """Systems that rules tie together, and a table of which pairs of their releases each rule allows."""

    def __init__(self, lines: Sequence[_Line], rules: Sequence[Rule]) -> None:
        self.lines = list(lines)
        self.rules = list(rules)
        number = {line.task.system: i for i, line in enumerate(self.lines)}
        self.pairs: list[tuple[int, int, list[Sequence[bool]]]] = []
        for rule in self.rules:
            a, b = number[rule.system], number[rule.other]
            inside = self.lines[b].all_inside(rule.range)
            applies = self.lines[a].any_inside(rule.when) if rule.when else (True,) * len(self.lines[a].versions)
            anything = (True,) * len(inside)
            self.pairs.append((a, b, [inside if bound else anything for bound in applies]))
        self.by_system: list[list[int]] = [
            [n for n, (a, b, _) in enumerate(self.pairs) if i in (a, b)] for i in range(len(self.lines))
        ]

    def broken(self, state: State, which: Sequence[int]) -> frozenset[int]:
        """The rules that do not hold in a state, of those asked for."""
        pairs = self.pairs
        return frozenset(n for n in which if not pairs[n][2][state[pairs[n][0]]][state[pairs[n][1]]])

    def search(self) -> list[tuple[int, int]] | None:
        """The cheapest sequence of moves (system, release) that
        reaches all goals and worsens nothing; None: there is none.

        Cheapest by minutes, then by hops, then by how long rules stay broken that are broken today: the sequence that
        leads out of a breach first is preferred. Many sequences cost the same, in whatever order independent moves
        come; among equals the one that has come farthest is followed, so that they are not all walked through.
        """
        # A* over the states of all systems at once. What is `left` of each system, the others aside, never says too
        # much, so the first time that the goal comes off the queue its way is the cheapest. The queue's order is (cost,
        # hops, broken, left): without the last, n moves that do not touch one another are tried in all their n! orders
        # before the goal is reached. `tick` only keeps equal entries from being compared by their states. A state is
        # settled once it comes off; it may lie in the queue more than once, since a heap cannot lower a price.
        lines = self.lines
        start: State = tuple(0 for _ in lines)
        goal: State = tuple(line.goal for line in lines)
        if any(line.left[0] == NO_WAY for line in lines):
            return None
        tick = count()
        queue: list[tuple[float, int, int, float, int, State, float, int]] = []
        everywhere = range(len(self.rules))
        broken_today = bool(self.broken(start, everywhere))

        def push(state: State, minutes: float, hops: int, broken: int) -> None:
            more = sum(line.left[n][0] for line, n in zip(lines, state, strict=True))
            further = sum(line.left[n][1] for line, n in zip(lines, state, strict=True))
            known = (round(minutes + more, 6), hops + further, broken, more, next(tick), state, minutes, hops)
            heapq.heappush(queue, known)

        push(start, 0.0, 0, 0)
        came: dict[State, tuple[State, int, int] | None] = {start: None}
        cost: dict[State, tuple[float, int, int]] = {start: (0.0, 0, 0)}
        settled: set[State] = set()
        while queue and len(settled) < MOST_STATES:
            _, _, broken, _, _, state, minutes, hops = heapq.heappop(queue)
            if state in settled:
                continue
            settled.add(state)
            if state == goal:
                return self._way(came, state)
            if broken_today:  # for as long as a rule is broken, each move counts it
                broken += len(self.broken(state, everywhere))
            was = [self.broken(state, rules) for rules in self.by_system]
            for i, to, more, following in self._moves(state):
                price = (minutes + more, hops + 1, broken)
                if following in settled or (following in cost and cost[following] <= price):
                    continue
                if self.broken(following, self.by_system[i]) <= was[i]:
                    cost[following] = price
                    came[following] = (state, i, to)
                    push(following, *price)
        return None

    def _moves(self, state: State) -> Iterator[tuple[int, int, float, State]]:
        """Every move of one system from which its goal can be reached: (system, release, minutes, what follows)."""
        for i, line in enumerate(self.lines):
            for to, more in line.edges[state[i]]:
                if line.left[to] != NO_WAY:
                    yield i, to, more, (*state[:i], to, *state[i + 1 :])

    @staticmethod
    def _way(came: Mapping[State, tuple[State, int, int] | None], state: State) -> list[tuple[int, int]]:
        way: list[tuple[int, int]] = []
        step = came[state]
        while step is not None:
            way.append(step[1:])
            step = came[step[0]]
        return way[::-1]

    def hops(self, way: Sequence[tuple[int, int]]) -> list[OrderedHop]:
        """The moves as hops, each needing only what it must."""
        stations: list[list[int]] = [[0] for _ in self.lines]
        ids: list[list[str]] = [[] for _ in self.lines]
        sequence: list[tuple[int, int]] = []  # (system, which of its hops), in the order that was found
        for system, to in way:
            ids[system].append(f"{self.lines[system].task.system}.{len(stations[system])}")
            sequence.append((system, len(stations[system])))
            stations[system].append(to)
        when = {hop: n for n, hop in enumerate(sequence)}
        needs: dict[tuple[int, int], set[tuple[int, int]]] = {
            hop: ({(hop[0], hop[1] - 1)} if hop[1] > 1 else set()) for hop in sequence
        }
        for n, (a, b, table) in enumerate(self.pairs):
            self._keep_apart(n, a, b, table, stations, when, needs)
        made = []
        for system, k in sequence:
            line = self.lines[system]
            told = tuple(
                ids[s][j - 1] for s, j in sorted(_without_implied(needs, (system, k)), key=lambda hop: when[hop])
            )
            made.append(
                OrderedHop(
                    id=ids[system][k - 1],
                    system=line.task.system,
                    from_=line.texts[stations[system][k - 1]],
                    to=line.texts[stations[system][k]],
                    needs=told,
                )
            )
        return made

    def _keep_apart(
        self,
        n: int,
        a: int,
        b: int,
        table: Sequence[Sequence[bool]],
        stations: list[list[int]],
        when: Mapping[tuple[int, int], int],
        needs: dict[tuple[int, int], set[tuple[int, int]]],
    ) -> None:
        """For each pair of versions that must not meet, have the later hop of the found sequence wait for the
        earlier."""
        for i, va in enumerate(stations[a]):
            for j, vb in enumerate(stations[b]):
                if table[va][vb] or (i == 0 and j == 0):
                    continue
                # va runs from the start of hop i to the end of hop i+1, vb likewise; they may not overlap, so either a
                # has left va before b begins to enter vb, or the other way round. The found sequence says which.
                leave_a, leave_b = (a, i + 1), (b, j + 1)
                if leave_a in when and (b, j) in when and when[leave_a] < when[(b, j)]:
                    needs[(b, j)].add(leave_a)
                elif leave_b in when and (a, i) in when and when[leave_b] < when[(a, i)]:
                    needs[(a, i)].add(leave_b)
                # else: the breach exists from the start, and the sequence leads out of it as it can


def _without_implied(
    needs: Mapping[tuple[int, int], set[tuple[int, int]]], hop: tuple[int, int]
) -> set[tuple[int, int]]:
    """The needs of a hop less those that another of them needs already."""
    own = needs[hop]

    def reached(start: tuple[int, int]) -> Iterator[tuple[int, int]]:
        waiting, seen = list(needs[start]), set()
        while waiting:
            one = waiting.pop()
            if one not in seen:
                seen.add(one)
                yield one
                waiting.extend(needs[one])

    implied = {far for one in own for far in reached(one)}
    return own - implied


Alike: TypeAlias = tuple[int, str, tuple[str, ...], str, str | None, tuple[str, ...]]


def _alike(task: Task) -> Alike:
    """What two tasks have in common of which the tables are the same; products are told apart by being another
    object, since to compare all of their releases costs more than to make a table."""
    return id(task.product), task.running, task.also, task.target, task.delivery, task.despite


class _Lines:
    """The lines of many systems: an estate of thousands has few that differ, and a line and a way of its own are worked
    out once for all that are alike."""

    def __init__(self) -> None:
        self._lines: dict[Alike, _Line] = {}
        self._alone: dict[Alike, list[tuple[int, int]] | None] = {}

    def line(self, task: Task) -> _Line:
        known = self._lines.get(key := _alike(task))
        if known is None:
            known = self._lines[key] = _Line(task)
        return known.of(task)

    def search(self, group: _Group) -> list[tuple[int, int]] | None:
        """As the group's own; of a system that no rule ties to another it is that of any system like it."""
        if len(group.lines) > 1 or group.rules:
            return group.search()
        key = _alike(group.lines[0].task)
        if key not in self._alone:
            self._alone[key] = group.search()
        return self._alone[key]


def find_order(tasks: Sequence[Task], rules: Sequence[Rule]) -> Order:
    """The order of work over all systems.

    Rules that name a system without a task are the caller's to report: they tie nothing here. Raises `NotAVersion` for
    a running version that is none of its product's scheme.
    """
    names = {task.system for task in tasks}
    tied = [rule for rule in rules if rule.system in names and rule.other in names and rule.system != rule.other]
    lines, hops, conflicts, minutes = _Lines(), list[OrderedHop](), list[Conflict](), 0.0
    for own, between in _groups(tasks, tied):
        group = _Group([lines.line(task) for task in own], between)
        way = lines.search(group)
        if way is None:
            conflicts.append(_conflict(own, group))
            continue
        hops += group.hops(way)
        minutes += sum(group.lines[i].minutes(to) for i, to in way)
    return Order(hops=tuple(hops), minutes=minutes, conflicts=tuple(conflicts))


def breaches(tasks: Sequence[Task], rules: Sequence[Rule]) -> list[Breach]:
    """The rules that do not hold between what runs now."""
    running = {task.system: task for task in tasks}
    found = []
    for rule in rules:
        if rule.system in running and rule.other in running:
            a, b = running[rule.system], running[rule.other]
            subjects, others = _versions(a), _versions(b)
            subject = next((v for v in subjects if rule.when is None or v in parse_range(rule.when)), None)
            other = next((v for v in others if v not in parse_range(rule.range)), None)
            if subject is not None and other is not None:
                found.append(Breach(rule=rule, running=subject.text, other_running=other.text))
    return found


def _versions(task: Task) -> list[Version]:
    """Everything that a system runs, the slowest node's first."""
    return [_key(task.product, text) for text in (task.running, *task.also)]


def _key(product: Product, text: str) -> Version:
    release = product.resolve(text)
    return product.key(release) if release else parse(product.scheme, text)


def _groups(tasks: Sequence[Task], rules: Sequence[Rule]) -> list[tuple[list[Task], list[Rule]]]:
    """Tasks that rules tie together, directly or by others, with those rules; in the order of the tasks.

    Disjoint sets: each name points to one of its group, and the last one of a chain stands for all of them. A group
    keeps the place of the system whose rule brought the other in.
    """
    at = {task.system: task.system for task in tasks}

    def head(name: str) -> str:
        while at[name] != name:
            at[name] = at[at[name]]  # chains stay short
            name = at[name]
        return name

    for rule in rules:
        at[head(rule.other)] = head(rule.system)
    found: dict[str, tuple[list[Task], list[Rule]]] = {name: ([], []) for name in at if at[name] == name}
    for task in tasks:
        found[head(task.system)][0].append(task)
    for rule in rules:
        found[head(rule.system)][1].append(rule)
    return list(found.values())


def _conflict(tasks: Sequence[Task], group: _Group) -> Conflict:
    """The rules that make it impossible, as few as do; then the nearest aims that are possible."""

    def bars(kept: Sequence[int]) -> bool:
        return _Group(group.lines, [group.rules[n] for n in kept]).search() is None

    found = reasons(range(len(group.rules)), bars)
    return Conflict(
        systems=tuple(task.system for task in tasks),
        rules=tuple(group.rules[n] for n in found[0]),
        others=tuple(tuple(group.rules[n] for n in chosen) for chosen in found[1:]),
        nearest=_nearest(tasks, group.rules),
    )


def _nearest(tasks: Sequence[Task], rules: Sequence[Rule]) -> dict[str, str]:
    """Targets that are possible and give up the fewest releases in all; empty where not even one step back helps.

    What each system runs now is always among the choices, so there is an answer unless something is broken already.
    """
    ladders: list[list[str]] = []
    for task in tasks:
        line = _Line(task)
        ladders.append(line.ladder)
        if line.goal < 0 and task.product.resolve(task.target) is None:
            return {}
    start = tuple(len(ladder) - 1 for ladder in ladders)
    queue: list[tuple[int, State]] = [(0, start)]
    seen: set[State] = {start}
    while queue and len(seen) < MOST_STATES // 100:
        given_up, rungs = heapq.heappop(queue)
        chosen = [replace(t, target=ladder[n]) for t, ladder, n in zip(tasks, ladders, rungs, strict=True)]
        if _Group([_Line(task) for task in chosen], rules).search() is not None:
            return {task.system: task.target for task in chosen}
        for i, n in enumerate(rungs):
            lower = (*rungs[:i], n - 1, *rungs[i + 1 :])
            if n and lower not in seen:
                seen.add(lower)
                heapq.heappush(queue, (given_up + 1, lower))
    return {}
