"""What a profile found in answers, as a reading: each word by the profile's table, secrets hidden."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from datetime import datetime
from typing import Any, TypeVar

import msgspec

from gallant.core.estate.systems import System
from gallant.core.ports import (
    DeviceRefused,
)
from gallant.core.readings import (
    COMPONENT_KINDS,
    IMAGE,
    UNKNOWN,
    Alarm,
    Component,
    Gauge,
    Job,
    Reading,
)
from gallant.core.records import Record, clean, replace
from gallant.core.shapes import SHAPES
from gallant.drivers.answers import (
    ROWS,
    Ours,
    clock_offset,
    left_out_rows,
    named,
    number,
    record_of,
    rows_of,
    several,
    text_of,
    told_apart,
)
from gallant.drivers.masking import encoded_needles, needles
from gallant.drivers.profile import (
    PartRule,
    Profile,
    expression,
    fill,
)
from gallant.drivers.tools import Asked, CallTold, Fields, Tools

R = TypeVar("R", bound=Record)
# The fields of a reading that are a word or a number each.
TRIMMED_AS = {"next_version": "version", "other_slot": "version"}
TEXTS = ("serial", "version", "boot", "build", "next_version", "other_slot", "model", "network", "part_number")


# Lists of which it counts whether a device gives them at all.
GIVEN = ("channels", "snapshots", "at_hand", "guests")


class ToReadings:
    """Makes readings of what a device answered."""

    own_parts: tuple[str, ...] = ()
    own_fetched: tuple[str, ...] = ()
    image_from: tuple[str, ...] = ()
    own_orders: Mapping[str, str] = {}  # what each of its own acts says, for anyone who wants to see

    def __init__(self, system: System, profile: Profile, tools: Tools) -> None:
        self.system, self.profile, self.tools, self.clock = system, profile, tools, tools.clock
        self._secrets: set[str] = set()
        self._versions: dict[str, str] = {}
        self._restarted: dict[str, datetime] = {}
        self._served: dict[str, contextlib.AsyncExitStack] = {}
        self._sighted: dict[str, str] = {}  # serials seen for the first time in this run
        self.expects_serial = True  # not while a profile is tried on a machine that no estate knows yet

    def _tell(self, node: str, asked: Asked, body: object, taken: Fields) -> None:
        if self.tools.told is not None:
            body, shown = self._masked(body), self._masked(taken)
            answer = body if isinstance(body, str) else msgspec.json.encode(body).decode("utf-8", "replace")
            call = f"{asked.call.verb} {fill(asked.call.said, asked.fields)}"
            self.tools.told(CallTold(self.name_of(node), self.mask(call), answer, shown))

    def name_of(self, node: str) -> str:
        return f"{self.system.name}/{node}"

    def mask(self, text: str) -> str:
        """The text without any secret that this driver has used."""
        for secret in needles(frozenset(self._secrets)):
            text = text.replace(secret, "•••")
        return text

    def said(self, text: object, limit: int = 500) -> str:
        """A device's words in one line: masked while they are whole, then cleaned and cut."""
        return clean(self.mask(str(text)), limit)

    def _hidden(self, fields: Fields) -> Fields:
        """What a device said, without a secret of ours in it, before anything is made of it.

        Nearly no device gives one back; that none is there is seen in one look at all of it.
        """
        forms = encoded_needles(frozenset(self._secrets))
        if not forms:
            return fields
        raw = msgspec.json.encode(fields, enc_hook=str)
        return self._masked(fields) if any(form in raw for form in forms) else fields

    def _masked(self, value: Any) -> Any:
        """The same kind of thing as it was given, each text in it without what is secret."""
        if isinstance(value, str):
            return self.mask(value)
        if isinstance(value, dict):
            return {self._masked(key): self._masked(item) for key, item in value.items()}
        if isinstance(value, (list, tuple)):
            return type(value)(self._masked(item) for item in value)
        if isinstance(value, msgspec.Struct):
            texts = {f: v for f in value.__struct_fields__ if isinstance(v := getattr(value, f), str)}
            return msgspec.structs.replace(value, **{f: self.mask(text) for f, text in texts.items()})
        return value

    def _reading(self, node: str, fields: Fields, began: datetime) -> Reading:
        missing = [key for key in ("serial", "version", "boot") if not isinstance(fields.get(key), (str, int))]
        if missing:
            raise DeviceRefused(
                f"{self.name_of(node)} does not say its {' and '.join(missing)}.",
                f"The profile {self.profile.name} looks for it and does not find it.",
                meaning="fatal",
            )
        text = {key: self.profile.trimmed(TRIMMED_AS.get(key, key), text_of(fields.get(key))) for key in TEXTS}
        offset = clock_offset(fields.get("clock"), fields.get("clock_heard"))
        itself = Reading(
            system=self.system.name,
            node=node,
            taken=began,
            serial=text["serial"] or "",
            product=self.system.product,
            version=text["version"] or "",
            boot=text["boot"] or "",
            role=self._role(fields),
            state=self._word("state", fields.get("state")),
            build=text["build"],
            next_version=text["next_version"],
            other_slot=text["other_slot"] or None,
            model=text["model"],
            part_number=text["part_number"],
            network=text["network"],
            answers_for=several(fields.get("answers_for")),
            clock_offset_s=offset,
            clock_uncertainty_s=None if offset is None else number(fields.get("clock_within")),
            tells_work=fields.get("tells_work") is not False,
            not_at_hand=several(fields.get("not_at_hand")) or (),
            reach=self._word("reach", fields["reach"]) if fields.get("reach") is not None else None,
        )
        return self._with_lists(self._with_replica(itself, fields), fields)

    def _role(self, fields: Fields) -> str:
        """A node's role; where its shape has none to tell apart and it says none, the plain one."""
        shape = SHAPES[self.system.shape]
        plain = "role" not in fields and not shape.has_spare
        return shape.plain_role if plain else self._word("role", fields.get("role"))

    def _with_replica(self, itself: Reading, fields: Fields) -> Reading:
        """And how whole its replica is, where it says anything of that."""
        sync = self.profile.word("sync", fields["sync"]) if "sync" in fields else None
        return replace(
            itself,
            in_sync=None if sync is None else sync == "yes",
            sync_word=text_of(fields.get("sync")) or "",
            sync_remaining_s=number(fields.get("sync_remaining_s")),
        )

    def _with_lists(self, itself: Reading, fields: Fields) -> Reading:
        """And all that it has several of. None stands for a list that it did not give: it may have some all the same.
        And all that it has several of. None stands for a list that it did not give: it may have some all the same."""
        rows: dict[str, tuple[Any, ...]] = {name: self._records(kind, fields.get(name)) for name, kind in ROWS.items()}
        given = {name: rows[name] if isinstance(fields.get(name), list) else None for name in GIVEN}
        image = Component(
            name=IMAGE,
            kind="system image",
            product=itself.product,
            version=itself.version,
            next_version=itself.next_version,
            build=itself.build,
        )
        parts = [part for part in map(self._part, rows["components"]) if part.name != IMAGE]
        facets = self.profile.states.get("facet", {})
        odd = [clean(str(one), 200) for one in rows_of(fields, "oddities")]
        return replace(
            itself,
            components=(image, *told_apart(parts)),
            packages=rows["packages"],
            jobs=tuple(self._job(job) for job in rows_of(fields, "jobs") if isinstance(job, dict)),
            facets=tuple(replace(facet, state=facets.get(facet.state, facet.state)) for facet in rows["facets"]),
            gauges=tuple(map(self._gauge, rows["gauges"])),
            offers=self._versions_of(several(fields.get("offers"))),
            alarms=tuple(replace(alarm, level=self._level(alarm.level)) for alarm in rows["alarms"]),
            expiries=rows["expiries"],
            oddities=tuple(dict.fromkeys([*odd, *left_out_rows(fields, rows)])),
            **given,
        )

    def _checked(self, reading: Reading) -> Reading:
        """With an alarm for each of the profile's own checks that does not hold; a check that cannot be evaluated
        fails."""
        if not self.profile.checks:
            return reading
        body = msgspec.json.decode(msgspec.json.encode(reading))  # lists: to JMESPath a tuple is none
        body["services"] = [
            {"name": name, "address": host, "in_own_network": reading.in_own_network(host)}
            for name, service in self.system.services.items()
            for host in (service.endpoint[0],)
        ]
        failed = []
        for check in self.profile.checks:
            try:
                well = expression(check.well).search(body) is True
            except Exception:  # a function given the wrong type: what the check asks for is not there
                well = False
            if not well:
                failed.append(Alarm(text=check.message, level=check.level, check=check.id, next=check.next or None))
        return replace(reading, alarms=(*reading.alarms, *failed))

    def _word(self, table: str, said: object) -> str:
        """Our word for the device's; a driver that knows its protocol's words says ours already."""
        return said.word if isinstance(said, Ours) else self.profile.word(table, said)

    def _level(self, said: str) -> str:
        return said if said in ("note", "warn", "stop") else self.profile.word("level", said)

    def _gauge(self, gauge: Gauge) -> Gauge:
        unit = self.profile.units.get(gauge.unit)
        return gauge if unit is None else replace(gauge, unit=unit.unit, value=gauge.value * unit.times)

    def _part(self, part: Component) -> Component:
        kind = self.profile.states["kind"].get(part.kind, part.kind) if "kind" in self.profile.states else part.kind
        kind = kind if kind in COMPONENT_KINDS else UNKNOWN
        version, following = (self.profile.trimmed("component", text) for text in (part.version, part.next_version))
        same = (kind, version, following) == (part.kind, part.version, part.next_version)
        return part if same else replace(part, kind=kind, version=version or "", next_version=following)

    def _versions_of(self, texts: tuple[str, ...] | None) -> tuple[str, ...] | None:
        return tuple(self.profile.trimmed("version", text) or text for text in texts) if texts is not None else None

    def named_part(self, said: str, version: str) -> tuple[Fields, PartRule | None]:
        """A component that the device calls `said`: by the profile's rule for it, else under a name made of its own."""
        return named(self.profile.parts, self.system.product, said, version)

    def _records(self, kind: type[R], rows: object) -> tuple[R, ...]:
        """Rows of an answer as records; a row that is none is left out rather than guessed at, and `left_out_rows` says
        so."""
        found: list[R] = []
        for row in rows if isinstance(rows, (list, tuple)) else ():
            record = record_of(kind, row)
            if record is not None:
                found.append(record)
        return tuple(found)

    def _job(self, fields: Fields) -> Job:
        return Job(
            id=text_of(fields.get("id"), 400) or "",
            kind=self._word("job_kind", fields.get("kind")),
            state=self._word("job", fields.get("state")),
            percent=min(100.0, max(0.0, number(fields.get("percent")) or 0.0)),
            message=text_of(fields.get("message")) or "",
            release=self.profile.trimmed("version", text_of(fields.get("release"))) or None,
            remaining_s=number(fields.get("remaining_s")),
        )
