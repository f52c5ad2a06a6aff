"""A system as a commented block of text, and its place in an estate
file that people wrote: whatever stands there stays as it is."""

from __future__ import annotations

import re

import yaml

from gallant.core.documents import Document
from gallant.core.errors import WrongUse
from gallant.core.records import Record, clean

_PLAIN = re.compile(r"[A-Za-z][A-Za-z0-9._/-]*")  # what YAML takes for text without quotes
_WORDS_OF_YAML = ("yes", "no", "on", "off", "true", "false", "null", "y", "n")


class DraftNode(Record):
    """A node before it stands in the file; `says` is what it told of itself, for the comment."""

    address: str
    serial: str
    says: str
    fingerprint: str | None = None
    ca: str | None = None


class SystemDraft(Record):
    """A system before it stands in the file. `roles` are those that its nodes have now, by node; `profile` is empty for
    the one of its driver; `account` is (user, where its secret is kept), where it has one of its own."""

    name: str
    product: str
    shape: str
    site: str
    driver: str
    nodes: dict[str, DraftNode]
    profile: str = ""
    kind: str = ""
    tags: tuple[str, ...] = ()
    account: tuple[str, str] | None = None
    roles: dict[str, str] = {}


def written(value: str) -> str:
    """A text as YAML has it, in quotes where it could be taken for anything else."""
    plain = _PLAIN.fullmatch(value) and value.casefold() not in _WORDS_OF_YAML
    return value if plain else quoted(value)


def quoted(value: str) -> str:
    """A text between double quotes (YAML 1.2, 7.3.1): whatever is not plainly printed is written by its number."""
    return f'"{"".join(_escaped(character) for character in value)}"'


def _escaped(character: str) -> str:
    if character in '"\\':
        return f"\\{character}"
    return character if character.isprintable() else f"\\U{ord(character):08X}"


def block_of(draft: SystemDraft, why: str, indent: int = 2) -> str:
    """The system's lines, indented as those of the other systems; `why` is the comment beside its name."""
    lines = [f"{draft.name}:  # {clean(why, 100)}"]
    plain = {
        "product": draft.product,
        "shape": draft.shape,
        "site": draft.site,
        "kind": draft.kind,
        "driver": draft.driver,
    }
    lines += [f"  {key}: {written(value)}" for key, value in plain.items() if value]
    if draft.tags:
        lines.append(f"  tags: [{', '.join(map(written, draft.tags))}]")
    if draft.profile:
        lines.append(f"  profile: {written(draft.profile)}")
    if draft.account is not None:
        user, secret = draft.account
        lines.append(f"  accounts: {{read: {{user: {quoted(user)}, secret: {quoted(secret)}}}}}")
    lines.append("  nodes:")
    for name, node in draft.nodes.items():
        said = {"address": node.address, "serial": node.serial, "fingerprint": node.fingerprint, "ca": node.ca}
        inside = ", ".join(f"{key}: {quoted(value)}" for key, value in said.items() if value)
        lines.append(f"    {name}: {{{inside}}}  # {clean(node.says, 100)}")
    if len(draft.roles) > 1:  # where they are is not always where they should be: that is a person's word
        places = ", ".join(f"{role}: {node}" for node, role in draft.roles.items())
        lines.append(
            f"  # usual: {{{places}}}  # which node has which role when all is well, for those that have one of"
            " their own"
        )
    return "".join(f"{' ' * indent}{line}\n" for line in lines)


def with_system(name: str, text: str, draft: SystemDraft, why: str) -> str:
    """An estate's text (of the file `name`) with one more system at the end of its systems.

    Raises `Invalid` where the text cannot be parsed, `WrongUse`
    where the name is taken, or the systems stand in braces.
    """
    root = Document(name, text).root
    pairs = root.value if isinstance(root, yaml.MappingNode) else []
    lines = text.splitlines(keepends=True)
    if lines and not lines[-1].endswith("\n"):
        lines[-1] += "\n"
    found = next(((key, value) for key, value in pairs if key.value == "systems"), None)
    if found is None:
        return "".join([*lines, "\nsystems:\n", block_of(draft, why)])
    key, value = found
    if isinstance(value, yaml.MappingNode) and value.value:
        if any(one.value == draft.name for one, _ in value.value):
            raise WrongUse(f"{name} has a system {draft.name} already.", next="Name this one with --as NAME")
        if value.flow_style:
            raise WrongUse(
                f"The systems of {name} stand in braces, where no block can be added.",
                next="Write them as lines below systems:, then come again",
            )
        indent = value.value[0][0].start_mark.column
        at = _end_of(value)
        return "".join([*lines[:at], block_of(draft, why, indent), *lines[at:]])
    at = key.start_mark.line
    kept = lines[at][: key.end_mark.column]
    comment = lines[at][key.end_mark.column + 1 :].strip()
    comment = f"  {comment}" if comment.startswith("#") else ""
    return "".join([*lines[:at], f"{kept}:{comment}\n", block_of(draft, why), *lines[at + 1 :]])


def _end_of(node: yaml.Node) -> int:
    """The number of the line after the last one on which anything of a
    block stands; comments that follow it belong to what comes next."""
    last = node
    while isinstance(last, (yaml.MappingNode, yaml.SequenceNode)) and last.value and not last.flow_style:
        inner = last.value[-1]
        last = inner[1] if isinstance(inner, tuple) else inner
    end = last.end_mark
    return end.line if end.column == 0 and end.line > last.start_mark.line else end.line + 1
