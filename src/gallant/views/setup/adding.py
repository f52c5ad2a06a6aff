"""What was added to the estate, by what it told of itself; and what answers in a network."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from gallant.views.ground.parts import Drawn, Listed, View
from gallant.views.ground.tables import next_steps, table
from gallant.views.ground.words import BOLD, OFF, many, mark, plain, said

if TYPE_CHECKING:
    from gallant.operations.setup.adding import Added
    from gallant.operations.setup.networks import Met, Scan

ADDED: Listed[Added] = Listed("add", "add")
MET: Listed[Met] = Listed("scan", "add --scan", beside=("asked",), headings={"speaks": "protocol", "known as": "known"})

SHORT = 26  # characters
SPOKEN = {"redfish": "Redfish", "netconf": "NETCONF", "ssh": "SSH", "https": "HTTPS"}


def added_view(rows: Sequence[Added], file: str) -> View:
    good = [row for row in rows if row.error is None and not row.there]
    there = [row.system for row in rows if row.there]

    def text() -> Drawn:
        if good:
            shown = table("node", "address", "serial", "model", "runs", "role")
            for row in good:
                for node in row.nodes:
                    shown.add_row(
                        f"{BOLD}{plain(node.node)}{OFF}",
                        plain(node.address),
                        plain(node.serial),
                        plain(node.model or "–"),
                        plain(node.version),
                        node.role,
                    )
            yield shown
        for row in rows:
            if row.error is not None:
                yield f"{mark('bad')} {plain(row.system)}: {plain(row.error)}"
            elif not row.there:
                yield (
                    f"{said('good', row.system)}  a {row.shape} of {plain(row.product)}, by the profile"
                    f" {plain(row.profile)}; {plain(file)}, line {row.line}"
                )
        if there:
            names = f"{', '.join(there[:3])}{f' and {len(there) - 3} more' if len(there) > 3 else ''}"
            yield f"{mark('note')} {many(len(there), 'system')} of these stood in the estate already: {plain(names)}"
        yield from next_steps(
            *(row.next for row in rows if row.error is not None), *(f"gallant survey {row.system}" for row in good)
        )

    return ADDED.view(rows, text)


def scan_view(result: Scan) -> View:
    new = [met for met in result.met if met.known is None]

    def text() -> Drawn:
        if result.met:
            shown = table("address", "speaks", "known as", "says", "fingerprint", optional=("fingerprint",))
            for met in result.met:
                shown.add_row(
                    f"{BOLD}{plain(met.address)}{OFF}",
                    SPOKEN[met.protocol],
                    plain(met.known or "–"),
                    plain(met.says or "–"),
                    _short(met.fingerprint),
                )
            yield shown
        count = many(len(result.met), "port")
        yield (
            f"{count} answered at {many(result.asked, 'address', 'addresses')}; {len(new)} of them"
            f" {'is' if len(new) == 1 else 'are'} not in the estate. Nobody logged in."
        )
        yield from next_steps(*(_step(met) for met in new))

    return MET.view(result.met, text, {"asked": result.asked})


def _short(fingerprint: str | None) -> str:
    """Enough of it to tell two apart; the whole of it is asked about when a device is added, and stands in --json."""
    return (
        "–" if fingerprint is None else plain(fingerprint if len(fingerprint) <= SHORT else f"{fingerprint[:SHORT]}…")
    )


def _step(met: Met) -> str:
    return f"gallant add {met.address}" + (" --profile NAME" if met.protocol == "https" else "")
