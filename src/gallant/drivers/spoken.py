"""Calls as text, for anyone who wants to see what would be sent before anything is.

`{field}` stays as it is where only an earlier answer, or the device, can say what it will be.
"""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from gallant.core.ports import Act
from gallant.drivers.calls import Call, Request, RunCommand
from gallant.drivers.profile import fill


def fields_of(node: str, act: Act) -> dict[str, str]:
    """What an order puts into the calls of a profile."""
    return {
        "node": node,
        "component": act.component,
        "package": act.package,
        "release": act.release,
        "sha256": act.sha256,
        "bytes": str(act.bytes),
        "reason": act.reason,
        "handle": act.handle,
    }


def spoken(call: Call, fields: Mapping[str, str]) -> str:
    """One call: its verb and what that stands before, what goes with it, and for which versions it is."""
    known = {name: value for name, value in fields.items() if value}
    said = " ".join(str(fill(call.said, known)).split())
    verb = f"{call.verb.upper()} {said}" if isinstance(call, Request) else said
    with_it = (
        _with_request(call, known)
        if isinstance(call, Request)
        else _with_run(call)
        if isinstance(call, RunCommand)
        else []
    )
    only = [f"only on {call.when}"] if call.when is not None else []
    package = known.get("package", "the package")
    sent = [f"with {package}"] if getattr(call, "upload", None) else []
    return "   ".join([verb, *with_it, *sent, *only])


def _with_request(call: Request, fields: Mapping[str, str]) -> list[str]:
    found = []
    if call.send is not None:
        found.append(msgspec.json.encode(fill(call.send, fields)).decode())
    if call.form is not None:
        found.append("&".join(f"{key}={value}" for key, value in fill(call.form, fields).items()))
    return found


def _with_run(call: RunCommand) -> list[str]:
    found = ["with more rights"] if call.elevated else []
    found += ["goes on by itself"] if call.detached else []
    return [*found, *(f"answers {question!r}" for question in call.answers)]
